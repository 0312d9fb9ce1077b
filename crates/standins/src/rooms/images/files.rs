//! Files on volumes: images that machines boot from. The bytes lie in real files; how many are there is what the file
//! system says, so that a killed process loses nothing that was answered.

use sha2::{Digest, Sha256};
use std::{
    collections::BTreeMap,
    fs::{self, File, OpenOptions},
    io::{self, Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
    sync::{
        Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

/// Why bytes were not taken.
#[derive(Debug)]
pub(crate) enum Refused {
    /// So many are there: go on behind them.
    Elsewhere(u64),
    /// More than was announced.
    TooMany,
    Io(io::Error),
}

impl From<io::Error> for Refused {
    fn from(error: io::Error) -> Self {
        Refused::Io(error)
    }
}

pub(crate) struct Images {
    dir: PathBuf,
    /// How far each file was read into its checksum while it arrived.
    sums: Mutex<BTreeMap<String, (u64, Sha256)>>,
    /// How much was read of those whose checksum is being worked out.
    reading: Mutex<BTreeMap<String, u64>>,
    /// Those that could not be read.
    unread: Mutex<BTreeMap<String, String>>,
    /// Whether the disks stand still.
    still: AtomicBool,
}

impl Images {
    pub(crate) fn open(dir: &Path) -> io::Result<Images> {
        let dir = dir.join("images");
        fs::create_dir_all(&dir)?;
        Ok(Images {
            dir,
            sums: Mutex::default(),
            reading: Mutex::default(),
            unread: Mutex::default(),
            still: AtomicBool::new(false),
        })
    }
    /// Names from outside never become paths: only letters, digits and dashes.
    fn path(&self, volume: &str, id: &str) -> PathBuf {
        let safe = |text: &str| -> String {
            text.chars()
                .filter(|c| c.is_ascii_alphanumeric() || *c == '-')
                .collect()
        };
        self.dir.join(format!("{}.{}", safe(volume), safe(id)))
    }
    fn sums(&self) -> MutexGuard<'_, BTreeMap<String, (u64, Sha256)>> {
        self.sums.lock().unwrap_or_else(PoisonError::into_inner)
    }
    fn reading(&self) -> MutexGuard<'_, BTreeMap<String, u64>> {
        self.reading.lock().unwrap_or_else(PoisonError::into_inner)
    }
    fn unread(&self) -> MutexGuard<'_, BTreeMap<String, String>> {
        self.unread.lock().unwrap_or_else(PoisonError::into_inner)
    }
    pub(crate) fn received(&self, volume: &str, id: &str) -> u64 {
        fs::metadata(self.path(volume, id)).map_or(0, |m| m.len())
    }
    /// Appends at `from`, which must be where the file ends.
    pub(crate) fn append(
        &self,
        (volume, id): (&str, &str),
        from: u64,
        bytes: &[u8],
        size: u64,
    ) -> Result<u64, Refused> {
        let mut sums = self.sums();
        let path = self.path(volume, id);
        let mut file = OpenOptions::new().create(true).append(true).open(path)?;
        let there = file.metadata()?.len();
        if there != from {
            return Err(Refused::Elsewhere(there));
        }
        let after = from + u64::try_from(bytes.len()).unwrap_or(u64::MAX);
        if after > size {
            return Err(Refused::TooMany);
        }
        file.write_all(bytes)?;
        let sum = sums.entry(format!("{volume}.{id}")).or_default();
        if sum.0 == from {
            sum.1.update(bytes);
            sum.0 = after;
        }
        Ok(after)
    }
    /// Whether the caller shall work out this checksum: nobody does it yet.
    pub(crate) fn begin(&self, volume: &str, id: &str) -> bool {
        let mut reading = self.reading();
        let key = format!("{volume}.{id}");
        if reading.contains_key(&key) {
            return false;
        }
        self.unread().remove(&key);
        reading.insert(key, 0);
        true
    }
    /// How many bytes of it were read for its checksum; none: nobody reads it.
    pub(crate) fn summed(&self, volume: &str, id: &str) -> Option<u64> {
        self.reading().get(&format!("{volume}.{id}")).copied()
    }
    pub(crate) fn end(&self, volume: &str, id: &str, broken: Option<String>) {
        let key = format!("{volume}.{id}");
        if let Some(why) = broken {
            self.unread().insert(key.clone(), why);
        }
        self.reading().remove(&key);
    }
    /// Why it could not be read when that was tried last.
    pub(crate) fn broken(&self, volume: &str, id: &str) -> Option<String> {
        self.unread().get(&format!("{volume}.{id}")).cloned()
    }
    pub(crate) fn stand_still(&self, still: bool) {
        self.still.store(still, Ordering::SeqCst);
    }
    /// The SHA-256 of the whole file, read again where it did not arrive in this process.
    pub(crate) fn sum(&self, volume: &str, id: &str) -> io::Result<String> {
        let there = self.received(volume, id);
        let key = format!("{volume}.{id}");
        // Not for ever: the process must be able to end.
        for _ in 0..3000 {
            if !self.still.load(Ordering::SeqCst) {
                break;
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        let known = self.sums().get(&key).filter(|s| s.0 == there).cloned();
        let sum = match known {
            Some((_, sum)) => sum,
            None => self.read_whole(volume, id)?,
        };
        Ok(sum.finalize().iter().map(|b| format!("{b:02x}")).collect())
    }
    fn read_whole(&self, volume: &str, id: &str) -> io::Result<Sha256> {
        let key = format!("{volume}.{id}");
        let mut sum = Sha256::new();
        let mut file = File::open(self.path(volume, id))?;
        let mut buffer = vec![0; 1 << 20];
        let mut done = 0;
        loop {
            let n = file.read(&mut buffer)?;
            if n == 0 {
                break;
            }
            sum.update(&buffer[..n]);
            done += u64::try_from(n).unwrap_or(0);
            if let Some(read) = self.reading().get_mut(&key) {
                *read = done;
            }
        }
        self.sums().insert(key, (done, sum.clone()));
        Ok(sum)
    }
    pub(crate) fn read(
        &self,
        (volume, id): (&str, &str),
        from: u64,
        length: usize,
    ) -> io::Result<Vec<u8>> {
        let mut file = File::open(self.path(volume, id))?;
        file.seek(SeekFrom::Start(from))?;
        let mut bytes = Vec::new();
        file.take(u64::try_from(length).unwrap_or(0))
            .read_to_end(&mut bytes)?;
        Ok(bytes)
    }
    /// A new file, empty.
    pub(crate) fn create(&self, volume: &str, id: &str) -> io::Result<File> {
        self.sums().remove(&format!("{volume}.{id}"));
        let mut how = OpenOptions::new();
        how.read(true).write(true).create(true).truncate(true);
        how.open(self.path(volume, id))
    }
    pub(crate) fn open_at(&self, volume: &str, id: &str) -> io::Result<File> {
        File::open(self.path(volume, id))
    }
    pub(crate) fn remove(&self, volume: &str, id: &str) {
        self.sums().remove(&format!("{volume}.{id}"));
        drop(fs::remove_file(self.path(volume, id)));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_go_on_where_they_ended_and_the_sum_is_that_of_the_whole() {
        let dir = tempfile::tempdir().unwrap();
        let images = Images::open(dir.path()).unwrap();
        let at = ("v", "../../i");
        assert_eq!(images.append(at, 0, b"abc", 6).unwrap(), 3);
        assert!(matches!(
            images.append(at, 0, b"abc", 6),
            Err(Refused::Elsewhere(3))
        ));
        let again = Images::open(dir.path()).unwrap();
        assert_eq!(again.received("v", "../../i"), 3, "also after a restart");
        assert!(matches!(
            again.append(at, 3, b"defg", 6),
            Err(Refused::TooMany)
        ));
        assert_eq!(again.append(at, 3, b"def", 6).unwrap(), 6);
        let whole: String = Sha256::digest(b"abcdef")
            .iter()
            .map(|b| format!("{b:02x}"))
            .collect();
        assert_eq!(again.sum("v", "../../i").unwrap(), whole);
        assert_eq!(again.read(at, 2, 2).unwrap(), b"cd");
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1, "no way out");
    }
}
