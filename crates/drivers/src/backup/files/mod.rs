//! Files out of a recovery point: the file systems on its disks are read where they lie in the store, chunk by chunk, and nothing is put
//! back for it. What is on them was written by guests and is believed in nothing: a look ends in time, and what breaks a reader
//! is an error.

mod disk;
mod ext;
mod fat;
mod parts;

use super::{Store, StoreFault};
use disk::{DiskBytes, Window};
use std::time::{Duration, Instant};
use tokio::{runtime::Handle, sync::mpsc, task::spawn_blocking};
use zastrugi_core::estate::{Folder, Item, ItemKind, LISTED, Partition, System};
use zastrugi_formats::backup::Disk;

/// A look at folders takes no longer; each piece of a file has as long.
const LOOK: Duration = Duration::from_secs(20);
/// Bytes of a file that are handed on at a time.
const PIECE: usize = 256 << 10;
/// Pieces that wait for whoever takes them.
const WAITING: usize = 4;

/// What a file system here can be asked.
trait Files {
    fn folder(&self, path: &str) -> Result<Found, String>;
    /// Opens a file and hands its length, then its bytes in order, until `take` wants no more.
    fn file(&self, path: &str, take: &mut dyn Take) -> Result<(), String>;
}

/// Who takes a file.
trait Take {
    /// # Errors
    /// Nobody wants it any more.
    fn length(&mut self, bytes: u64) -> Result<(), String>;
    /// # Errors
    /// As [`Take::length`].
    fn piece(&mut self, bytes: &[u8]) -> Result<(), String>;
}

/// What is in a folder, in no order, and how many more there are.
#[derive(Default)]
struct Found {
    items: Vec<Item>,
    left_out: usize,
}

impl Found {
    fn add(&mut self, item: Item) {
        match self.items.len() < LISTED {
            true => self.items.push(item),
            false => self.left_out += 1,
        }
    }
}

/// A file on its way: its length, and its bytes as they come.
#[derive(Debug)]
pub struct Stream {
    pub length: u64,
    pub pieces: mpsc::Receiver<Result<bytes::Bytes, StoreFault>>,
}

/// A disk of a point that is looked into.
pub struct Look {
    pub store: Store,
    pub disk: Disk,
}

/// A reader is no work for the threads that wait; one that breaks is an error.
async fn apart<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, String> + Send + 'static,
) -> Result<T, StoreFault> {
    match spawn_blocking(work).await {
        Ok(answer) => answer.map_err(StoreFault::Source),
        Err(_) => Err(StoreFault::Source(
            "what is there can't be read: it is no sound file system".into(),
        )),
    }
}

fn of_part(disk: &DiskBytes, number: u32) -> Result<Box<dyn Files>, String> {
    let all = parts::of(disk)?;
    let part = all.into_iter().find(|p| p.number == number);
    let part = part.ok_or_else(|| format!("there is no partition {number} on this disk"))?;
    let window = disk.window(part.begins.0, part.size.0);
    match part.system {
        System::Ext => Ok(Box::new(ext::Ext::open(window)?)),
        System::Fat => Ok(Box::new(fat::Fat::open(window)?)),
        System::Unread(_) | System::Unknown => {
            Err(format!("{} is not read here", part.system.word()))
        }
    }
}

impl Look {
    fn bytes(self) -> DiskBytes {
        DiskBytes::new(
            self.store,
            self.disk,
            Handle::current(),
            Instant::now() + LOOK,
        )
    }

    /// The partitions of the disk, with what each is formatted as.
    ///
    /// # Errors
    /// [`StoreFault`] where the store can't be read.
    pub async fn partitions(self) -> Result<Vec<Partition>, StoreFault> {
        let disk = self.bytes();
        apart(move || parts::of(&disk)).await
    }

    /// # Errors
    /// [`StoreFault`] where the store can't be read, there is no such folder, or the file system is damaged.
    pub async fn folder(self, part: u32, path: String) -> Result<Folder, StoreFault> {
        let disk = self.bytes();
        let found = apart(move || of_part(&disk, part)?.folder(&path)).await?;
        let mut items = found.items;
        items.sort_by(|a, b| {
            let key = |i: &Item| i.kind != ItemKind::Folder;
            (key(a), &a.shown).cmp(&(key(b), &b.shown))
        });
        Ok(Folder {
            items,
            left_out: found.left_out,
        })
    }

    /// # Errors
    /// As [`Look::folder`]. What fails later comes as the last piece.
    pub async fn file(self, part: u32, path: String) -> Result<Stream, StoreFault> {
        let disk = self.bytes();
        let (lengths, mut length) = mpsc::channel(1);
        let (pieces, taken) = mpsc::channel(WAITING);
        let ended = pieces.clone();
        let mut sender = Sender {
            disk: disk.clone(),
            lengths,
            pieces,
        };
        let goes = tokio::spawn(apart(move || {
            of_part(&disk, part)?.file(&path, &mut sender)
        }));
        match length.recv().await {
            Some(length) => {
                tokio::spawn(async move {
                    if let Ok(Err(why)) = goes.await {
                        // Whoever took it may be gone.
                        drop(ended.send(Err(why)).await);
                    }
                });
                Ok(Stream {
                    length,
                    pieces: taken,
                })
            }
            None => {
                let nothing = || StoreFault::Source("the file could not be opened".into());
                Err(goes
                    .await
                    .map_err(|_| nothing())?
                    .err()
                    .unwrap_or_else(nothing))
            }
        }
    }
}

/// Hands a file to whoever waits for it.
struct Sender {
    disk: DiskBytes,
    lengths: mpsc::Sender<u64>,
    pieces: mpsc::Sender<Result<bytes::Bytes, StoreFault>>,
}

fn nobody<T>(_: T) -> String {
    "nobody takes it any more".into()
}

impl Take for Sender {
    fn length(&mut self, bytes: u64) -> Result<(), String> {
        self.lengths.blocking_send(bytes).map_err(nobody)
    }

    fn piece(&mut self, bytes: &[u8]) -> Result<(), String> {
        let piece = bytes::Bytes::copy_from_slice(bytes);
        self.pieces.blocking_send(Ok(piece)).map_err(nobody)?;
        // Whoever takes it slowly takes as long as is needed.
        self.disk.until(Instant::now() + LOOK);
        Ok(())
    }
}

/// A window as a whole, for readers of partition tables.
fn whole(disk: &DiskBytes) -> Window {
    disk.window(0, disk.size())
}
