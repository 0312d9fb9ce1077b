//! The tar around a descriptor (POSIX ustar, as DSP0243 asks for), header by header; and the manifest.

use super::Wrong;
use zastrugi_core::ovf::Member;

/// Bytes of a header, and what members are filled up to.
pub const BLOCK: u64 = 512;

/// What stands at a place where a header may be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Header {
    Member(Member),
    /// Only zeros: there is nothing behind it.
    End,
}

impl Header {
    /// Where the next header stands.
    pub fn next(member: &Member) -> Option<u64> {
        let filled = member.size.div_ceil(BLOCK).checked_mul(BLOCK)?;
        member.at.checked_add(filled)
    }
}

/// Reads the header whose 512 bytes stand `at` so many from the beginning.
///
/// # Errors
/// [`Wrong`] where it is none, or one of something else than a plain file.
pub fn header(block: &[u8], at: u64) -> Result<Header, Wrong> {
    let here = || format!("byte {at}");
    if u64::try_from(block.len()) != Ok(BLOCK) {
        return Err(Wrong::new(
            here(),
            "the archive ends in the middle of a header",
        ));
    }
    if block.iter().all(|b| *b == 0) {
        return Ok(Header::End);
    }
    let header = tar::Header::from_byte_slice(block);
    let sum: u32 = block
        .iter()
        .enumerate()
        .map(|(i, b)| {
            if (148..156).contains(&i) {
                32
            } else {
                u32::from(*b)
            }
        })
        .sum();
    if header.cksum().ok() != Some(sum) {
        return Err(Wrong::new(here(), "no header of a tar archive stands here"));
    }
    let name = String::from_utf8_lossy(&header.path_bytes()).into_owned();
    if !header.entry_type().is_file() {
        return Err(Wrong::new(
            name,
            "is no plain file, and an archive of a machine holds nothing else",
        ));
    }
    safe(&name)?;
    let size = header
        .entry_size()
        .map_err(|_| Wrong::new(&name, "its size can't be read"))?;
    Ok(Header::Member(Member {
        name,
        at: at + BLOCK,
        size,
    }))
}

/// A name that is a plain one, and leads nowhere.
fn safe(name: &str) -> Result<(), Wrong> {
    let plain = !name.is_empty()
        && name.chars().count() <= 255
        && !name
            .chars()
            .any(|c| c.is_control() || c == '/' || c == '\\');
    if plain && name != ".." && name != "." {
        return Ok(());
    }
    let shown: String = name.chars().filter(|c| !c.is_control()).take(60).collect();
    Err(Wrong::new(
        shown,
        "is no plain file name; it is not followed anywhere",
    ))
}

/// Digests of a manifest: `SHA256(name)= hex`. Those by other functions are left out; none are left: nothing is checked.
///
/// # Errors
/// [`Wrong`] where a line can't be read.
pub fn manifest(name: &str, text: &str) -> Result<Vec<(String, String)>, Wrong> {
    let mut sums = Vec::new();
    for line in text.lines().map(str::trim).filter(|l| !l.is_empty()) {
        let unread = || {
            let shown: String = line.chars().take(60).collect();
            Wrong::new(name, format!("the line “{shown}” can't be read"))
        };
        let (head, digest) = line.rsplit_once('=').ok_or_else(unread)?;
        let head = head.trim().strip_suffix(')').ok_or_else(unread)?;
        let (function, file) = head.split_once('(').ok_or_else(unread)?;
        let digest = digest.trim().to_lowercase();
        if !function.trim().eq_ignore_ascii_case("sha256") {
            continue;
        }
        if digest.len() != 64 || !digest.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Err(unread());
        }
        sums.push((file.trim().to_owned(), digest));
    }
    Ok(sums)
}
