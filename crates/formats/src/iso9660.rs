//! Small ISO 9660 images (ECMA-119, 4th edition): files in the root directory, as a guest reads them at its first boot,
//! and the label of an image that somebody brings.

use std::io::{self, Read, Seek, SeekFrom};

const SECTOR: usize = 2048;
/// Where the volume descriptors begin (ECMA-119, section 6.2.1).
const DESCRIPTORS: usize = 16;
const ROOT: u32 = 20;

/// Why this is no ISO 9660 image.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum IsoError {
    #[error("it ends after {0} bytes; an ISO 9660 image is longer")]
    Short(usize),
    #[error("it has no ISO 9660 volume descriptor")]
    NoDescriptor,
    #[error("it has {has} bytes and says itself that it has {says}: it was cut off on its way")]
    CutOff { has: u64, says: u64 },
    #[error("{0} is larger than an image made here may be")]
    Large(String),
}

/// A 32-bit number in both byte orders (section 7.3.3).
fn both32(n: u32) -> [u8; 8] {
    let mut out = [0; 8];
    out[..4].copy_from_slice(&n.to_le_bytes());
    out[4..].copy_from_slice(&n.to_be_bytes());
    out
}

/// A 16-bit number in both byte orders (section 7.2.3).
fn both16(n: u16) -> [u8; 4] {
    let mut out = [0; 4];
    out[..2].copy_from_slice(&n.to_le_bytes());
    out[2..].copy_from_slice(&n.to_be_bytes());
    out
}

fn padded(text: &str, length: usize) -> Vec<u8> {
    let mut out: Vec<u8> = text.bytes().take(length).collect();
    out.resize(length, b' ');
    out
}

/// A directory record (section 9.1).
fn record(name: &[u8], at: u32, length: u32, directory: bool) -> Vec<u8> {
    let mut out = vec![0, 0];
    out.extend(both32(at));
    out.extend(both32(length));
    // Recorded 1970-01-01: the same files make the same image.
    out.extend([70, 1, 1, 0, 0, 0, 0]);
    out.push(if directory { 2 } else { 0 });
    out.extend([0, 0]);
    out.extend(both16(1));
    out.push(u8::try_from(name.len()).unwrap_or(u8::MAX));
    out.extend(name);
    if out.len() % 2 == 1 {
        out.push(0);
    }
    out[0] = u8::try_from(out.len()).unwrap_or(u8::MAX);
    out
}

fn sectors(length: usize) -> u32 {
    u32::try_from(length.div_ceil(SECTOR)).unwrap_or(u32::MAX)
}

fn descriptor(label: &str, all: u32) -> Vec<u8> {
    let mut d = vec![1];
    d.extend(b"CD001\x01\0");
    d.extend(padded("", 32));
    d.extend(padded(label, 32));
    d.extend([0; 8]);
    d.extend(both32(all));
    d.extend([0; 32]);
    d.extend(both16(1));
    d.extend(both16(1));
    d.extend(both16(2048));
    d.extend(both32(10));
    d.extend(18u32.to_le_bytes());
    d.extend(0u32.to_le_bytes());
    d.extend(19u32.to_be_bytes());
    d.extend(0u32.to_be_bytes());
    d.extend(record(&[0], ROOT, 2048, true));
    for length in [128, 128, 128, 128, 37, 37, 37] {
        d.extend(padded("", length));
    }
    for _ in 0..4 {
        d.extend(b"0000000000000000\0");
    }
    d.push(1);
    d.resize(SECTOR, 0);
    d
}

/// An image with these files in its root. Names are written as they are, with a version behind.
///
/// # Errors
/// [`IsoError::Large`] when the directory or a file doesn't fit what a small image is for.
pub fn write(label: &str, files: &[(&str, &[u8])]) -> Result<Vec<u8>, IsoError> {
    let mut directory = record(&[0], ROOT, 2048, true);
    directory.extend(record(&[1], ROOT, 2048, true));
    let mut next = ROOT + 1;
    let mut sorted: Vec<_> = files.to_vec();
    sorted.sort_by_key(|(name, _)| *name);
    for (name, bytes) in &sorted {
        let length = u32::try_from(bytes.len()).map_err(|_| IsoError::Large((*name).to_owned()))?;
        let full = format!("{};1", name.to_ascii_uppercase());
        directory.extend(record(full.as_bytes(), next, length, false));
        next += sectors(bytes.len());
    }
    if directory.len() > SECTOR {
        return Err(IsoError::Large("the directory".into()));
    }
    directory.resize(SECTOR, 0);
    let mut image = vec![0; DESCRIPTORS * SECTOR];
    image.extend(descriptor(label, next));
    let mut end = b"\xffCD001\x01".to_vec();
    end.resize(SECTOR, 0);
    image.extend(end);
    for bytes in [ROOT.to_le_bytes(), ROOT.to_be_bytes()] {
        // One entry: the root itself (section 9.4).
        let mut table = vec![1, 0];
        table.extend(bytes);
        table.extend(if bytes == ROOT.to_le_bytes() {
            [1, 0]
        } else {
            [0, 1]
        });
        table.extend([0, 0]);
        table.resize(SECTOR, 0);
        image.extend(table);
    }
    image.extend(directory);
    for (_, bytes) in &sorted {
        image.extend(*bytes);
        image.resize(image.len().div_ceil(SECTOR) * SECTOR, 0);
    }
    Ok(image)
}

/// The label of an image, from its first 34 KiB.
///
/// # Errors
/// [`IsoError`] when this is no ISO 9660 image.
pub fn label(head: &[u8]) -> Result<String, IsoError> {
    let descriptor = head
        .get(DESCRIPTORS * SECTOR..(DESCRIPTORS + 1) * SECTOR)
        .ok_or(IsoError::Short(head.len()))?;
    descriptor_label(descriptor)
}

/// Where the primary volume descriptor lies in an image, and how long it is, in bytes.
pub const DESCRIPTOR: (u64, usize) = (32_768, SECTOR);

/// The label in a primary volume descriptor (section 8.4).
///
/// # Errors
/// [`IsoError`] when it is none.
pub fn descriptor_label(descriptor: &[u8]) -> Result<String, IsoError> {
    if descriptor.len() < SECTOR {
        return Err(IsoError::Short(DESCRIPTORS * SECTOR + descriptor.len()));
    }
    if !descriptor.starts_with(b"\x01CD001") {
        return Err(IsoError::NoDescriptor);
    }
    let raw = descriptor.get(40..72).unwrap_or_default();
    let text: String = String::from_utf8_lossy(raw)
        .chars()
        .filter(|c| !c.is_control())
        .collect();
    Ok(text.trim_end().to_owned())
}

/// The label of an image of `has` bytes, if it has all that its primary volume descriptor (section 8.4) says: the space of the
/// volume (8.4.8) in its logical blocks (8.4.12). Bytes behind that are fine: hybrid images have them.
///
/// # Errors
/// [`IsoError`] when it is none, or is cut off. A descriptor whose two byte orders differ tells no size.
pub fn whole_label(descriptor: &[u8], has: u64) -> Result<String, IsoError> {
    if has < DESCRIPTOR.0 + SECTOR as u64 {
        return Err(IsoError::Short(usize::try_from(has).unwrap_or(usize::MAX)));
    }
    let label = descriptor_label(descriptor)?;
    let says = described(descriptor).unwrap_or(0);
    if has < says {
        return Err(IsoError::CutOff { has, says });
    }
    Ok(label)
}

fn described(descriptor: &[u8]) -> Option<u64> {
    let four = |at: usize| descriptor.get(at..at + 4)?.try_into().ok();
    let two = |at: usize| descriptor.get(at..at + 2)?.try_into().ok();
    let blocks = u32::from_le_bytes(four(80)?);
    let block = u16::from_le_bytes(two(128)?);
    let same = blocks == u32::from_be_bytes(four(84)?) && block == u16::from_be_bytes(two(130)?);
    same.then_some(u64::from(blocks) * u64::from(block))
}

/// Records of a root directory that are looked at: no larger one is read.
const DIRECTORY: usize = 64 * SECTOR;

/// A file of an image's root directory, at most `most` bytes of it. None: there is none of this name.
///
/// # Errors
/// When it can't be read, or is no ISO 9660 image.
pub fn file(
    image: &mut (impl Read + Seek),
    name: &str,
    most: usize,
) -> io::Result<Option<Vec<u8>>> {
    let wrong = |e: IsoError| io::Error::new(io::ErrorKind::InvalidData, e);
    let descriptor = read_at(image, DESCRIPTOR.0, DESCRIPTOR.1)?;
    descriptor_label(&descriptor).map_err(wrong)?;
    let four = |bytes: &[u8], at: usize| {
        let four: Option<[u8; 4]> = bytes.get(at..at + 4).and_then(|b| b.try_into().ok());
        four.map(u32::from_le_bytes)
    };
    let place = |record: &[u8]| Some((four(record, 2)?, four(record, 10)?));
    let none = || wrong(IsoError::NoDescriptor);
    let root = descriptor.get(156..190).and_then(place).ok_or_else(none)?;
    let length = usize::try_from(root.1).unwrap_or(usize::MAX).min(DIRECTORY);
    let directory = read_at(image, u64::from(root.0) * SECTOR as u64, length)?;
    let mut at = 0;
    while let Some(size) = directory.get(at).map(|s| usize::from(*s)) {
        if size == 0 {
            // Records don't cross sectors (section 6.8.1.1).
            at = (at / SECTOR + 1) * SECTOR;
            continue;
        }
        let record = directory.get(at..at + size).unwrap_or_default();
        let named = record.get(32).map_or(0, |n| usize::from(*n));
        let found = record.get(33..33 + named).unwrap_or_default();
        let found = String::from_utf8_lossy(found);
        if found.split(';').next() == Some(name)
            && let Some((start, length)) = place(record)
        {
            let length = usize::try_from(length).unwrap_or(usize::MAX).min(most);
            return read_at(image, u64::from(start) * SECTOR as u64, length).map(Some);
        }
        at += size;
    }
    Ok(None)
}

fn read_at(image: &mut (impl Read + Seek), at: u64, length: usize) -> io::Result<Vec<u8>> {
    image.seek(SeekFrom::Start(at))?;
    let mut bytes = vec![0; length];
    image.read_exact(&mut bytes)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_image_that_was_cut_off_is_told_by_its_own_size() {
        let image = write("TIDE", &[("payload", &[7; 5000])]).unwrap();
        let descriptor = &image[DESCRIPTORS * SECTOR..][..SECTOR];
        let all = image.len() as u64;
        assert_eq!(whole_label(descriptor, all), Ok("TIDE".into()));
        assert_eq!(
            whole_label(descriptor, all + 512),
            Ok("TIDE".into()),
            "a hybrid has more"
        );
        let cut = IsoError::CutOff {
            has: all - 1,
            says: all,
        };
        assert_eq!(whole_label(descriptor, all - 1), Err(cut));
        let mut unsure = descriptor.to_vec();
        unsure[84] ^= 1;
        assert_eq!(
            whole_label(&unsure, 40_000),
            Ok("TIDE".into()),
            "its two byte orders differ"
        );
    }

    #[test]
    fn a_file_is_found_by_its_name_among_many() {
        let files: Vec<(String, Vec<u8>)> = (0..30)
            .map(|n| (format!("F{n:02}.TXT"), vec![n; 3000]))
            .collect();
        let all: Vec<(&str, &[u8])> = files
            .iter()
            .map(|(n, b)| (n.as_str(), b.as_slice()))
            .collect();
        let mut image = io::Cursor::new(write("MANY", &all).unwrap());
        assert_eq!(
            file(&mut image, "F17.TXT", 9000).unwrap(),
            Some(vec![17; 3000])
        );
        assert_eq!(file(&mut image, "F17.TXT", 10).unwrap(), Some(vec![17; 10]));
        assert_eq!(file(&mut image, "F99.TXT", 10).unwrap(), None);
        let mut cut = io::Cursor::new(image.get_ref()[..40_000].to_vec());
        assert!(file(&mut cut, "F17.TXT", 10).is_err());
        assert!(file(&mut io::Cursor::new(vec![0; 50_000]), "F17.TXT", 10).is_err());
    }

    #[test]
    fn an_image_has_its_label_and_is_whole_sectors() {
        let image = write(
            "cidata",
            &[("user-data", b"#cloud-config\n"), ("meta-data", b"{}")],
        )
        .unwrap();
        assert_eq!(image.len() % SECTOR, 0);
        assert_eq!(label(&image), Ok("cidata".into()));
        let size = u32::from_le_bytes(image[16 * SECTOR + 80..][..4].try_into().unwrap());
        assert_eq!(
            size as usize * SECTOR,
            image.len(),
            "the descriptor says how long it is"
        );
        assert_eq!(
            image,
            write(
                "cidata",
                &[("meta-data", b"{}"), ("user-data", b"#cloud-config\n")]
            )
            .unwrap()
        );
    }

    #[test]
    fn what_is_no_image_is_told_why() {
        assert_eq!(label(&[0; 100]), Err(IsoError::Short(100)));
        assert_eq!(label(&[0; 40_000]), Err(IsoError::NoDescriptor));
        let many: Vec<(String, Vec<u8>)> =
            (0..60).map(|n| (format!("file-{n:02}"), vec![])).collect();
        let files: Vec<(&str, &[u8])> = many
            .iter()
            .map(|(n, b)| (n.as_str(), b.as_slice()))
            .collect();
        assert!(matches!(write("x", &files), Err(IsoError::Large(_))));
    }
}
