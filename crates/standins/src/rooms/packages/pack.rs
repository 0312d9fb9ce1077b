//! Disks become a file: one disk's bytes alone, or a tar (POSIX ustar) with a descriptor and a manifest of SHA-256 sums
//! (DSP0243). Written by hand and not by the application's code, or both would err alike.

use super::{
    grains::{Grains, LENGTH},
    jobs::Job,
};
use crate::rooms::snapshots::blocks::{GRAIN, Written, grains};
use flate2::{Compression, write::GzEncoder};
use sha2::{Digest, Sha256};
use std::{
    fs::File,
    io::{self, Read, Seek, SeekFrom, Write},
};

/// One disk to be packed.
pub(super) struct Disk {
    pub(super) name: String,
    pub(super) size: u64,
    pub(super) gzip: bool,
    pub(super) content: Written,
}

/// What the file is beside its disks.
pub(super) struct Archive {
    pub(super) descriptor: (String, String),
    pub(super) manifest: String,
}

/// What came of it.
#[derive(Debug, Clone)]
pub(crate) struct Packed {
    pub(crate) size: u64,
    pub(crate) sha256: String,
    pub(crate) took: i64,
}

/// Digests what passes.
struct Summed<'a> {
    to: &'a mut File,
    sum: Sha256,
    bytes: u64,
}

impl Write for Summed<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.to.write_all(bytes)?;
        self.sum.update(bytes);
        self.bytes += bytes.len() as u64;
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}

pub(crate) fn hex(sum: Sha256) -> String {
    sum.finalize().iter().map(|b| format!("{b:02x}")).collect()
}

pub(super) fn pack(
    store: &Grains,
    file: &mut File,
    archive: Option<&Archive>,
    disks: &[Disk],
    job: &Job<Packed>,
) -> Result<Packed, String> {
    let began = std::time::Instant::now();
    let mut work = || -> io::Result<(u64, String)> {
        match archive {
            Some(archive) => tar(store, file, archive, disks, job)?,
            None => {
                for disk in disks {
                    bytes(store, file, disk, job)?;
                }
            }
        }
        whole(file)
    };
    let (size, sha256) = work().map_err(|e| e.to_string())?;
    Ok(Packed {
        size,
        sha256,
        took: i64::try_from(began.elapsed().as_millis()).unwrap_or(0),
    })
}

/// Read once more from the beginning: sizes and sums were filled in afterwards.
fn whole(file: &mut File) -> io::Result<(u64, String)> {
    file.seek(SeekFrom::Start(0))?;
    let mut sum = Sha256::new();
    let mut buffer = vec![0; 1 << 20];
    let mut size = 0;
    loop {
        let n = file.read(&mut buffer)?;
        if n == 0 {
            return Ok((size, hex(sum)));
        }
        sum.update(&buffer[..n]);
        size += n as u64;
    }
}

/// The disk's bytes from first to last; answers how many were written, and their sum.
fn bytes(
    store: &Grains,
    file: &mut File,
    disk: &Disk,
    job: &Job<Packed>,
) -> io::Result<(u64, String)> {
    let mut out = Summed {
        to: file,
        sum: Sha256::new(),
        bytes: 0,
    };
    if disk.gzip {
        let mut packer = GzEncoder::new(&mut out, Compression::fast());
        raw(store, &mut packer, disk, job)?;
        packer.finish()?;
    } else {
        raw(store, &mut out, disk, job)?;
    }
    Ok((out.bytes, hex(out.sum)))
}

fn raw(store: &Grains, out: &mut impl Write, disk: &Disk, job: &Job<Packed>) -> io::Result<()> {
    let mut writings = vec![None; grains(disk.size) as usize];
    for (writing, blocks) in disk.content.writings() {
        for block in blocks {
            if let Some(slot) = writings.get_mut(block as usize) {
                *slot = Some(writing);
            }
        }
    }
    let mut grain = vec![0; LENGTH];
    let mut left = disk.size;
    for (block, writing) in (0u32..).zip(writings) {
        grain.fill(0);
        if let Some(writing) = writing {
            store.read(block, writing, &mut grain)?;
        }
        let n = left.min(GRAIN);
        out.write_all(&grain[..usize::try_from(n).unwrap_or(0)])?;
        left -= n;
        if !job.moved(n) {
            return Err(io::Error::other("it was given up"));
        }
    }
    Ok(())
}

fn tar(
    store: &Grains,
    file: &mut File,
    archive: &Archive,
    disks: &[Disk],
    job: &Job<Packed>,
) -> io::Result<()> {
    let (name, text) = &archive.descriptor;
    member(file, name, text.as_bytes())?;
    let mut sums = vec![(name.clone(), hex(Sha256::new_with_prefix(text)))];
    // Its length is known; its lines are when everything is packed.
    let zeros = "0".repeat(64);
    let blank: Vec<_> = std::iter::once(name)
        .chain(disks.iter().map(|d| &d.name))
        .map(|n| (n.clone(), zeros.clone()))
        .collect();
    let manifest = file.stream_position()?;
    member(file, &archive.manifest, lines(&blank).as_bytes())?;
    for disk in disks {
        let at = file.stream_position()?;
        file.write_all(&[0; 512])?;
        let (size, sum) = bytes(store, file, disk, job)?;
        fill_up(file, size)?;
        let end = file.stream_position()?;
        file.seek(SeekFrom::Start(at))?;
        file.write_all(&header(&disk.name, size))?;
        file.seek(SeekFrom::Start(end))?;
        sums.push((disk.name.clone(), sum));
    }
    file.write_all(&[0; 1024])?;
    file.seek(SeekFrom::Start(manifest + 512))?;
    file.write_all(lines(&sums).as_bytes())
}

fn lines(sums: &[(String, String)]) -> String {
    sums.iter()
        .map(|(name, sum)| format!("SHA256({name})= {sum}\n"))
        .collect()
}

fn member(file: &mut File, name: &str, bytes: &[u8]) -> io::Result<()> {
    file.write_all(&header(name, bytes.len() as u64))?;
    file.write_all(bytes)?;
    fill_up(file, bytes.len() as u64)
}

fn fill_up(file: &mut File, size: u64) -> io::Result<()> {
    let over = usize::try_from(size.next_multiple_of(512) - size).unwrap_or(0);
    file.write_all(&[0; 512][..over])
}

/// A header of a plain file (POSIX.1-1988, ustar); sizes from 8 GiB on in base 256, as is common.
fn header(name: &str, size: u64) -> [u8; 512] {
    let mut block = [0; 512];
    let mut put = |at: usize, bytes: &[u8]| block[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, &name.as_bytes()[..name.len().min(99)]);
    put(100, b"0000644\0");
    put(108, b"0000000\0");
    put(116, b"0000000\0");
    if size < 1 << 33 {
        put(124, format!("{size:011o}\0").as_bytes());
    } else {
        put(124, &[0x80, 0, 0, 0]);
        put(128, &size.to_be_bytes());
    }
    put(136, b"00000000000\0");
    put(148, b"        ");
    put(156, b"0");
    put(257, b"ustar\x0000");
    let sum: u32 = block.iter().map(|b| u32::from(*b)).sum();
    block[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    block
}
