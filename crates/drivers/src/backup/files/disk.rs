//! A disk of a point as bytes that are read where one wants: chunks come from the store as they are asked for, and the last few are kept.

use super::super::Store;
use crate::backup::StoreFault;
use std::{
    collections::VecDeque,
    io::{self, Read, Seek, SeekFrom, Write},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Instant,
};
use tokio::runtime::Handle;
use zastrugi_formats::backup::{Disk, GRAIN, Kind, PAGE, Page};

/// Chunks that are kept: 4 MiB each.
const KEPT: usize = 6;
/// Pages that are kept: what 16 GiB each hold.
const PAGES: usize = 8;

/// Cheap to clone; clones read the same.
#[derive(Clone)]
pub(super) struct DiskBytes(Arc<Mutex<Inner>>);

struct Inner {
    store: Store,
    disk: Disk,
    runtime: Handle,
    /// Nothing is read later.
    until: Instant,
    /// By the place of the grain; none: zeros. The last used stands last.
    chunks: VecDeque<(u64, Option<Arc<Vec<u8>>>)>,
    pages: VecDeque<(u64, Arc<Page>)>,
}

fn failed(why: &StoreFault) -> io::Error {
    io::Error::other(why.to_string())
}

impl Inner {
    fn page(&mut self, number: u64) -> io::Result<Option<Arc<Page>>> {
        if let Some((_, page)) = self.pages.iter().find(|(n, _)| *n == number) {
            return Ok(Some(page.clone()));
        }
        let Ok(at) = self.disk.pages.binary_search_by_key(&number, |p| p.at) else {
            return Ok(None);
        };
        let read = self.runtime.block_on(self.store.page(&self.disk.pages[at]));
        let page = Arc::new(read.map_err(|why| failed(&why))?);
        self.pages.push_back((number, page.clone()));
        if self.pages.len() > PAGES {
            self.pages.pop_front();
        }
        Ok(Some(page))
    }

    fn chunk(&mut self, grain: u64) -> io::Result<Option<Arc<Vec<u8>>>> {
        if Instant::now() > self.until {
            return Err(io::Error::new(
                io::ErrorKind::TimedOut,
                "it took too long to read",
            ));
        }
        if let Some(at) = self.chunks.iter().position(|(n, _)| *n == grain) {
            let found = self.chunks.remove(at);
            self.chunks.extend(found);
            return Ok(self.chunks.back().and_then(|(_, c)| c.clone()));
        }
        let page = self.page(grain / PAGE)?;
        let place = grain % PAGE;
        let named = page.and_then(|page| {
            let at = page.0.binary_search_by_key(&place, |(p, _)| u64::from(*p));
            at.ok().map(|at| page.0[at].1)
        });
        let chunk = match named {
            None => None,
            Some(named) => {
                let read = self.store.chunk(Kind::Chunk, &named);
                let read = self.runtime.block_on(read);
                Some(Arc::new(read.map_err(|why| failed(&why))?))
            }
        };
        self.chunks.push_back((grain, chunk.clone()));
        if self.chunks.len() > KEPT {
            self.chunks.pop_front();
        }
        Ok(chunk)
    }

    /// Fills `into` with what stands from this byte on; zeros where nothing is.
    fn read(&mut self, mut at: u64, mut into: &mut [u8]) -> io::Result<()> {
        while !into.is_empty() {
            let within = usize::try_from(at % GRAIN).unwrap_or(0);
            let left = usize::try_from(GRAIN).unwrap_or(usize::MAX) - within;
            let (piece, rest) = into.split_at_mut(left.min(into.len()));
            piece.fill(0);
            if let Some(chunk) = self.chunk(at / GRAIN)? {
                let there = chunk.get(within..).unwrap_or_default();
                let n = there.len().min(piece.len());
                piece[..n].copy_from_slice(&there[..n]);
            }
            at += piece.len() as u64;
            into = rest;
        }
        Ok(())
    }
}

impl DiskBytes {
    pub(super) fn new(store: Store, disk: Disk, runtime: Handle, until: Instant) -> DiskBytes {
        DiskBytes(Arc::new(Mutex::new(Inner {
            store,
            disk,
            runtime,
            until,
            chunks: VecDeque::new(),
            pages: VecDeque::new(),
        })))
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn until(&self, instant: Instant) {
        self.lock().until = instant;
    }

    /// Bytes of the disk.
    pub(super) fn size(&self) -> u64 {
        self.lock().disk.size
    }

    /// A run of it; no more than it has.
    pub(super) fn window(&self, begins: u64, size: u64) -> Window {
        let end = self.size();
        Window {
            of: self.clone(),
            begins: begins.min(end),
            size: size.min(end.saturating_sub(begins)),
            at: 0,
        }
    }
}

/// A run of a disk, read like a file. Nothing can be written.
#[derive(Clone)]
pub(super) struct Window {
    of: DiskBytes,
    begins: u64,
    size: u64,
    at: u64,
}

impl Window {
    /// Fills `into` with what stands there.
    ///
    /// # Errors
    /// Where the run ends before, or the store can't be read.
    pub(super) fn exact(&self, at: u64, into: &mut [u8]) -> io::Result<()> {
        let end = at.checked_add(into.len() as u64);
        match end.is_some_and(|end| end <= self.size) {
            true => self.of.lock().read(self.begins + at, into),
            false => Err(io::ErrorKind::UnexpectedEof.into()),
        }
    }

    pub(super) fn size(&self) -> u64 {
        self.size
    }
}

impl Read for Window {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let left = self.size.saturating_sub(self.at);
        let n = into.len().min(usize::try_from(left).unwrap_or(usize::MAX));
        self.of.lock().read(self.begins + self.at, &mut into[..n])?;
        self.at += n as u64;
        Ok(n)
    }
}

impl Seek for Window {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let wanted = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = wanted.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// The reader of FAT wants to be able to; it never may.
impl Write for Window {
    fn write(&mut self, _: &[u8]) -> io::Result<usize> {
        Err(io::ErrorKind::ReadOnlyFilesystem.into())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
