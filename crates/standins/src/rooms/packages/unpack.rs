//! A file becomes what disks hold: each from its place in the file, unpacked, compared with its sum, block by block.

use super::{
    grains::{Grains, LENGTH},
    jobs::Job,
};
use crate::rooms::snapshots::blocks::{GRAIN, Written};
use flate2::read::MultiGzDecoder;
use roaring::RoaringBitmap;
use serde::Deserialize;
use sha2::{Digest, Sha256};
use std::{
    collections::BTreeMap,
    fs::File,
    io::{self, Read, Seek, SeekFrom, Take},
};

/// Where the bytes of one disk lie in the file.
#[derive(Debug, Clone, Deserialize)]
pub(crate) struct Part {
    /// What it is called in the archive.
    pub(crate) name: String,
    pub(crate) at: u64,
    pub(crate) length: u64,
    #[serde(default)]
    pub(crate) gzip: bool,
    /// What it must be, as its manifest says.
    #[serde(default)]
    pub(crate) sha256: Option<String>,
    /// Bytes of the disk.
    pub(crate) size: u64,
}

/// Digests what is read.
struct Summed {
    from: Take<File>,
    sum: Sha256,
}

impl Read for Summed {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let n = self.from.read(into)?;
        self.sum.update(&into[..n]);
        Ok(n)
    }
}

pub(super) fn unpack<T>(
    store: &Grains,
    open: impl Fn() -> io::Result<File>,
    parts: &[Part],
    job: &Job<T>,
) -> Result<Vec<Written>, String> {
    parts
        .iter()
        .map(|part| one(store, &open, part, job).map_err(|why| format!("{}: {why}", part.name)))
        .collect()
}

fn one<T>(
    store: &Grains,
    open: &impl Fn() -> io::Result<File>,
    part: &Part,
    job: &Job<T>,
) -> Result<Written, String> {
    let said = |e: io::Error| match e.kind() {
        io::ErrorKind::UnexpectedEof => "ends too early".to_owned(),
        io::ErrorKind::InvalidInput | io::ErrorKind::InvalidData => {
            "is no whole gzip file".to_owned()
        }
        _ => e.to_string(),
    };
    let mut file = open().map_err(said)?;
    let there = file.metadata().map_err(said)?.len();
    if part
        .at
        .checked_add(part.length)
        .is_none_or(|end| end > there)
    {
        return Err("ends too early".into());
    }
    file.seek(SeekFrom::Start(part.at)).map_err(said)?;
    let mut from = Summed {
        from: file.take(part.length),
        sum: Sha256::new(),
    };
    let written = if part.gzip {
        blocks(store, &mut MultiGzDecoder::new(&mut from), part.size, job)
    } else {
        blocks(store, &mut from, part.size, job)
    };
    let written = written.map_err(said)?;
    // What stands behind the last gzip member belongs to the sum too.
    io::copy(&mut from, &mut io::sink()).map_err(said)?;
    let sum: String = from
        .sum
        .finalize()
        .iter()
        .map(|b| format!("{b:02x}"))
        .collect();
    match part.sha256.as_ref().filter(|s| **s != sum) {
        Some(expected) => Err(format!(
            "has SHA-256 {sum}, and the manifest says {expected}"
        )),
        None => Ok(written),
    }
}

fn blocks<T>(store: &Grains, from: &mut impl Read, size: u64, job: &Job<T>) -> io::Result<Written> {
    let mut found: BTreeMap<u64, RoaringBitmap> = BTreeMap::new();
    let mut grain = Vec::with_capacity(LENGTH);
    let mut there = 0;
    for block in 0u32.. {
        grain.clear();
        from.by_ref().take(GRAIN).read_to_end(&mut grain)?;
        if grain.is_empty() {
            break;
        }
        there += grain.len() as u64;
        if there > size {
            return Err(io::Error::other(format!(
                "holds more than the {size} bytes of its disk"
            )));
        }
        if let Some(number) = store.number(block, &grain)? {
            found.entry(number).or_default().insert(block);
        }
        if !job.moved(grain.len() as u64) {
            return Err(io::Error::other("it was given up"));
        }
        if (grain.len() as u64) < GRAIN {
            break;
        }
    }
    Ok(Written::of(found))
}
