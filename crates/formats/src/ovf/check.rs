//! A whole archive, looked through once from front to back with bounded memory.

use super::{BLOCK, Header, LARGEST, Wrong, header, manifest, read};
use flate2::write::MultiGzDecoder;
use sha2::{Digest, Sha256};
use std::io::{self, Read, Write};
use zastrugi_core::ovf::{Member, Package, RAW};

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Checked {
    pub package: Package,
    /// Of each member.
    pub sums: Vec<(String, String)>,
    /// What is worth knowing and stops nothing.
    pub minds: Vec<String>,
}

const PIECE: usize = 256 << 10;

/// Counts what is written to it.
#[derive(Default)]
struct Count(u64);

impl Write for Count {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0 += bytes.len() as u64;
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// What one member came to.
struct Seen {
    sum: String,
    /// Bytes once it is unpacked; none: it is no whole gzip file.
    unpacked: Option<u64>,
    /// Its text, where it is a descriptor or a manifest.
    text: Option<String>,
}

/// Reads an archive to its end: headers, descriptor, manifest, digests, and what is compressed.
///
/// # Errors
/// [`Wrong`] names the member and what is wrong with it.
pub fn check(from: &mut impl Read) -> Result<Checked, Wrong> {
    let mut at = 0;
    let mut all: Vec<(Member, Seen)> = Vec::new();
    loop {
        let mut block = Vec::new();
        fill(from, &mut block, BLOCK, "the archive")?;
        let member = match header(&block, at)? {
            Header::End => break,
            Header::Member(member) => member,
        };
        if all.iter().any(|(m, _)| m.name == member.name) {
            return Err(Wrong::new(&member.name, "stands in the archive twice"));
        }
        if all.is_empty() && !ends(&member.name, ".ovf") {
            return Err(Wrong::new(
                &member.name,
                "comes first; the descriptor must, and its name ends in .ovf",
            ));
        }
        let seen = through(from, &member)?;
        at = Header::next(&member)
            .ok_or_else(|| Wrong::new(&member.name, "is larger than anything"))?;
        all.push((member, seen));
    }
    judged(all)
}

fn ends(name: &str, ending: &str) -> bool {
    name.to_lowercase().ends_with(ending)
}

/// Exactly so many bytes more.
fn fill(from: &mut impl Read, into: &mut Vec<u8>, wanted: u64, name: &str) -> Result<(), Wrong> {
    let read = from.by_ref().take(wanted).read_to_end(into);
    let read = read.map_err(|e| Wrong::new(name, format!("can't be read: {e}")))?;
    if read as u64 == wanted {
        return Ok(());
    }
    Err(Wrong::new(name, "ends too early: the file was cut off"))
}

fn through(from: &mut impl Read, member: &Member) -> Result<Seen, Wrong> {
    let name = &member.name;
    let text = ends(name, ".ovf") || ends(name, ".mf");
    if text && member.size > LARGEST {
        return Err(Wrong::new(
            name,
            "is larger than 4 MiB, which no such text is",
        ));
    }
    let mut sum = Sha256::new();
    let mut gzip = Some(MultiGzDecoder::new(Count::default()));
    let mut kept = Vec::new();
    let mut left = member.size;
    let mut piece = Vec::with_capacity(PIECE);
    while left > 0 {
        piece.clear();
        fill(from, &mut piece, left.min(PIECE as u64), name)?;
        left -= piece.len() as u64;
        sum.update(&piece);
        if gzip.as_mut().is_some_and(|g| g.write_all(&piece).is_err()) {
            gzip = None;
        }
        if text {
            kept.extend_from_slice(&piece);
        }
    }
    let over = member.size.next_multiple_of(BLOCK) - member.size;
    fill(from, &mut Vec::new(), over, name)?;
    let text = match text {
        true => Some(String::from_utf8(kept).map_err(|_| Wrong::new(name, "is no text in UTF-8"))?),
        false => None,
    };
    Ok(Seen {
        sum: hex(&sum.finalize()),
        unpacked: gzip.and_then(|g| g.finish().ok()).map(|c| c.0),
        text,
    })
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

fn judged(all: Vec<(Member, Seen)>) -> Result<Checked, Wrong> {
    let text = |ending: &str| {
        all.iter()
            .find(|(m, _)| ends(&m.name, ending))
            .and_then(|(m, s)| Some((m.name.as_str(), s.text.as_deref()?)))
    };
    let (name, said) = text(".ovf").ok_or_else(|| Wrong::new("the archive", "is empty"))?;
    let descriptor = read(name, said)?;
    let sums = text(".mf")
        .map(|(name, said)| manifest(name, said))
        .transpose()?;
    let mut minds = Vec::new();
    match &sums {
        None => minds.push(
            "It has no manifest: whether it arrived as it was sent nobody can tell.".to_owned(),
        ),
        Some(sums) if sums.is_empty() => {
            minds.push("Its manifest has no SHA-256: it is not compared.".to_owned())
        }
        Some(_) => {}
    }
    let listed = sums.clone().unwrap_or_default();
    for (name, expected) in &listed {
        match all.iter().find(|(m, _)| m.name == *name) {
            None => {
                return Err(Wrong::new(
                    name,
                    "stands in the manifest and not in the archive",
                ));
            }
            Some((_, seen)) if seen.sum != *expected => {
                return Err(Wrong::new(
                    name,
                    format!("has SHA-256 {}, and the manifest says {expected}", seen.sum),
                ));
            }
            Some(_) => {}
        }
    }
    for disk in descriptor.disks.iter().filter(|d| d.format == RAW) {
        let Some(file) = disk.file.as_ref().and_then(|f| descriptor.file(f)) else {
            continue;
        };
        let found = all.iter().find(|(m, _)| m.name == file.href);
        let (member, seen) =
            found.ok_or_else(|| Wrong::new(&file.href, "is referred to and not in the archive"))?;
        let holds = if file.gzip {
            seen.unpacked
        } else {
            Some(member.size)
        };
        let holds = holds.ok_or_else(|| Wrong::new(&member.name, "is no whole gzip file"))?;
        if holds > disk.capacity.0 {
            return Err(Wrong::new(
                &member.name,
                format!("holds {holds} bytes, more than the disk {} has", disk.id),
            ));
        }
    }
    let manifest = !listed.is_empty();
    let computed = all.iter().map(|(m, s)| (m.name.clone(), s.sum.clone()));
    Ok(Checked {
        sums: computed.collect(),
        package: Package {
            descriptor,
            members: all.into_iter().map(|(m, _)| m).collect(),
            sums: listed,
            manifest,
        },
        minds,
    })
}
