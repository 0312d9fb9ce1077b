//! Files on volumes: images that machines boot from. The bytes lie in real files; how many are there is what the file
//! system says, so that a killed process loses nothing that was answered.

use sha2::{Digest, Sha256};
use std::{
    collections::BTreeMap,
    fs::{self, File, OpenOptions},
    io::{self, Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
    sync::{Mutex, MutexGuard, PoisonError},
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
}

impl Images {
    pub(crate) fn open(dir: &Path) -> io::Result<Images> {
        let dir = dir.join("images");
        fs::create_dir_all(&dir)?;
        Ok(Images {
            dir,
            sums: Mutex::default(),
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
    /// The SHA-256 of the whole file, read again where it did not arrive in this process.
    pub(crate) fn sum(&self, volume: &str, id: &str) -> io::Result<String> {
        let mut sums = self.sums();
        let there = self.received(volume, id);
        let key = format!("{volume}.{id}");
        let known = sums.get(&key).filter(|s| s.0 == there).map(|s| s.1.clone());
        let sum = match known {
            Some(sum) => sum,
            None => {
                let mut sum = Sha256::new();
                let mut file = File::open(self.path(volume, id))?;
                let mut buffer = vec![0; 1 << 20];
                loop {
                    let n = file.read(&mut buffer)?;
                    if n == 0 {
                        break;
                    }
                    sum.update(&buffer[..n]);
                }
                sums.insert(key, (there, sum.clone()));
                sum
            }
        };
        Ok(sum.finalize().iter().map(|b| format!("{b:02x}")).collect())
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
