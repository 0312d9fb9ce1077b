//! Files out of recovery points: what a guest wrote is read as it was, and what is broken, foreign or hostile is an answer and no end.

use futures::future::BoxFuture;
use proptest::prelude::*;
use roaring::RoaringBitmap;
use std::{
    collections::BTreeMap,
    io::{Cursor, Write},
};
use uuid::Uuid;
use zastrugi_core::estate::{ItemKind, System};
use zastrugi_drivers::backup::{
    Extents, Look, Place, Progress, Source, SourceDisk, Store, StoreFault,
};
use zastrugi_formats::backup::{Consistency, Disk, GRAIN, Key, Machine};

const BLOCK: usize = 64 << 10;

struct Bytes(Vec<u8>);

impl Extents for Bytes {
    fn read(&self, _: usize, at: u64, length: u64) -> BoxFuture<'_, Result<Vec<u8>, StoreFault>> {
        let (at, length) = (
            usize::try_from(at).unwrap(),
            usize::try_from(length).unwrap(),
        );
        let mut read = self.0.get(at..).unwrap_or_default().to_vec();
        read.resize(length, 0);
        Box::pin(async move { Ok(read) })
    }
}

struct Kept {
    _dir: tempfile::TempDir,
    store: Store,
    disk: Disk,
}

impl Kept {
    /// A disk of these bytes, as a store has it.
    async fn of(mut bytes: Vec<u8>) -> Kept {
        bytes.resize(bytes.len().next_multiple_of(BLOCK), 0);
        let dir = tempfile::tempdir().unwrap();
        let place = Place::Folder(dir.path().into());
        let store = Store::create(&place, &Key::new([5; 32]), Uuid::from_u128(1), None)
            .await
            .unwrap();
        let held: RoaringBitmap = (0u32..)
            .zip(bytes.chunks(BLOCK))
            .filter(|(_, b)| b.iter().any(|b| *b != 0))
            .map(|(n, _)| n)
            .collect();
        let source = Source {
            session: Uuid::from_u128(2),
            instant: 1_000,
            consistency: Consistency::Quiet,
            machine: Machine {
                uuid: Uuid::from_u128(77),
                name: "basalt-01".into(),
                vcpus: 2,
                memory: 4 << 30,
                firmware: "uefi".into(),
                cards: vec![],
                labels: vec![],
                note: String::new(),
            },
            disks: vec![SourceDisk {
                key: Uuid::from_u128(3),
                size: bytes.len() as u64,
                held,
                changed: None,
            }],
            parent: None,
        };
        let copied = store
            .copy(&source, &Bytes(bytes), &Progress::default())
            .await
            .unwrap();
        let manifest = store.manifest(&copied.named).await.unwrap();
        Kept {
            _dir: dir,
            store,
            disk: manifest.disks[0].clone(),
        }
    }

    fn look(&self) -> Look {
        Look {
            store: self.store.clone(),
            disk: self.disk.clone(),
        }
    }

    async fn file(&self, part: u32, path: &str) -> Result<Vec<u8>, StoreFault> {
        let mut stream = self.look().file(part, path.into()).await?;
        let mut all = Vec::new();
        while let Some(piece) = stream.pieces.recv().await {
            all.extend_from_slice(&piece?);
        }
        assert_eq!(
            all.len() as u64,
            stream.length,
            "{path} is shorter than was said"
        );
        Ok(all)
    }

    async fn names(&self, part: u32, path: &str) -> Vec<String> {
        let folder = self.look().folder(part, path.into()).await.unwrap();
        folder.items.into_iter().map(|i| i.shown).collect()
    }
}

/// What guests of the stand-ins have on their disks (`standins/guest/make.sh`).
fn guest() -> Vec<u8> {
    zstd::decode_all(include_bytes!("../../../standins/guest/guest.zst").as_slice()).unwrap()
}

fn orders(month: &str) -> String {
    let line = |n: u32| {
        let (day, article, pieces) = (n % 28 + 1, n * 37 % 500 + 1000, n % 9 + 1);
        format!("{month}{n:05},2026-{month}-{day:02},{article},{pieces}\n")
    };
    let all: String = (1..=900).map(line).collect();
    format!("order,day,article,pieces\n{all}")
}

/// If this fails, somebody who needs one file back gets another, or none.
#[tokio::test]
async fn files_of_a_guest_are_read_as_it_wrote_them() {
    let mut bytes = guest();
    // Beyond its file systems the disk holds whatever it holds.
    bytes.resize(9 << 20, 0xa5);
    let kept = Kept::of(bytes).await;
    let parts = kept.look().partitions().await.unwrap();
    let told: Vec<_> = parts
        .iter()
        .map(|p| (p.number, p.label.as_str(), &p.system))
        .collect();
    assert_eq!(told, [(1, "EFI", &System::Fat), (2, "root", &System::Ext)]);
    assert_eq!((parts[1].begins.0, parts[1].size.0), (3 << 20, 5 << 20));

    assert_eq!(
        kept.names(2, "").await,
        ["etc", "home", "lost+found", "srv", "var"]
    );
    assert_eq!(kept.names(2, "/home/duty/").await, ["Übergabe.txt"]);
    let folder = kept.look().folder(2, "srv/orders".into()).await.unwrap();
    let kinds: Vec<_> = folder
        .items
        .iter()
        .map(|i| (i.shown.as_str(), i.kind.clone()))
        .collect();
    let link = ItemKind::Link("2026/02.csv".into());
    assert_eq!(kinds, [("2026", ItemKind::Folder), ("latest.csv", link)]);
    for month in ["01", "02"] {
        let read = kept
            .file(2, &format!("srv/orders/2026/{month}.csv"))
            .await
            .unwrap();
        assert_eq!(String::from_utf8(read).unwrap(), orders(month));
    }
    let read = kept.file(2, "/srv/orders/latest.csv").await.unwrap();
    assert_eq!(
        String::from_utf8(read).unwrap(),
        orders("02"),
        "by its link"
    );
    assert_eq!(kept.names(1, "EFI/BOOT").await, ["BOOTX64.EFI"]);
    let loader = kept.file(1, "EFI/BOOT/BOOTX64.EFI").await.unwrap();
    assert_eq!(loader, b"The loader of a made-up guest.\n");

    for (part, path, words) in [
        (2, "srv/none", "not found"),
        (2, "etc", "is a directory"),
        (1, "EFI/none", "no file EFI/none"),
        (7, "etc", "no partition 7"),
    ] {
        let why = kept.file(part, path).await.unwrap_err().to_string();
        assert!(why.contains(words), "{path}: {why}");
    }
    let why = kept
        .look()
        .folder(2, "etc/hostname".into())
        .await
        .unwrap_err();
    assert!(why.to_string().contains("not a directory"), "{why}");
}

/// If this fails, what can't be read is called empty, or something else.
#[tokio::test]
async fn what_is_not_read_here_is_named() {
    let at = |place: usize, mark: &[u8]| {
        let mut bytes = vec![0; 1 << 20];
        bytes[place..place + mark.len()].copy_from_slice(mark);
        bytes
    };
    for (bytes, word) in [
        (at(0, b"XFSB"), "XFS"),
        (at(3, b"NTFS    "), "NTFS"),
        (at(0, b"LUKS\xba\xbe"), "LUKS, encrypted"),
        (at(512, b"LABELONE"), "LVM, a volume group of its guest"),
        (at(4086, b"SWAPSPACE2"), "swap"),
        (vec![0; 1 << 20], "nothing that is known here"),
        (vec![0x55; 100], "nothing that is known here"),
    ] {
        let kept = Kept::of(bytes).await;
        let parts = kept.look().partitions().await.unwrap();
        assert_eq!(
            (parts.len(), parts[0].number, parts[0].system.word()),
            (1, 0, word)
        );
        let why = kept.look().folder(0, String::new()).await.unwrap_err();
        assert!(why.to_string().contains("is not read here"), "{why}");
    }
}

/// If this fails, bytes that are not what was copied are handed out as a file.
#[tokio::test]
async fn a_damaged_chunk_ends_the_file_with_words() {
    let kept = Kept::of(guest()).await;
    let chunks = kept._dir.path().join("chunks");
    let mut all = vec![chunks];
    while let Some(at) = all.pop() {
        match at.is_dir() {
            true => all.extend(std::fs::read_dir(&at).unwrap().map(|e| e.unwrap().path())),
            false => {
                let mut bytes = std::fs::read(&at).unwrap();
                let middle = bytes.len() / 2;
                bytes[middle] ^= 1;
                std::fs::write(&at, bytes).unwrap();
            }
        }
    }
    let why = kept.look().partitions().await.unwrap_err().to_string();
    assert!(why.contains("damaged"), "{why}");
}

/// Names, with what is in each; folders by their slashes.
type Tree = BTreeMap<String, Vec<u8>>;

/// A disk with a table of the older kind, whose second entry is a FAT file system with these files in it.
fn disk(tree: &Tree, begins: usize) -> Vec<u8> {
    let mut fat = Cursor::new(vec![0; 4 << 20]);
    fatfs::format_volume(&mut fat, fatfs::FormatVolumeOptions::new()).unwrap();
    let fs = fatfs::FileSystem::new(&mut fat, fatfs::FsOptions::new()).unwrap();
    for (path, content) in tree {
        if let Some((folder, _)) = path.rsplit_once('/') {
            fs.root_dir().create_dir(folder).unwrap();
        }
        fs.root_dir()
            .create_file(path)
            .unwrap()
            .write_all(content)
            .unwrap();
    }
    fs.unmount().unwrap();
    let fat = fat.into_inner();
    let mut disk = Cursor::new(vec![0; begins * 512 + fat.len()]);
    let mut table = mbrman::MBR::new_from(&mut disk, 512, [1, 2, 3, 4]).unwrap();
    table[2] = mbrman::MBRPartitionEntry {
        boot: mbrman::BOOT_INACTIVE,
        first_chs: mbrman::CHS::empty(),
        sys: 0x0c,
        last_chs: mbrman::CHS::empty(),
        starting_lba: u32::try_from(begins).unwrap(),
        sectors: u32::try_from(fat.len() / 512).unwrap(),
    };
    table.write_into(&mut disk).unwrap();
    let mut disk = disk.into_inner();
    disk[begins * 512..].copy_from_slice(&fat);
    disk
}

fn trees() -> impl Strategy<Value = Tree> {
    let name = "(d[0-9]/)?[a-zA-Zäß][a-zA-Z0-9 äß]{0,30}[a-z]";
    let content = (0u8..255, 0usize..300_000).prop_map(|(seed, n)| {
        (0..n)
            .map(|i| u8::try_from((i.wrapping_mul(31) >> 3) % 251).unwrap() ^ seed)
            .collect::<Vec<u8>>()
    });
    // Its names are the same in small and large letters.
    proptest::collection::vec((name, content), 1..6).prop_map(|all| {
        let one = |(n, c): (String, Vec<u8>)| (n.to_lowercase(), (n, c));
        let all: BTreeMap<String, (String, Vec<u8>)> = all.into_iter().map(one).collect();
        all.into_values().collect()
    })
}

fn wait<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Runtime::new().unwrap().block_on(work)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// If this fails, where a file system begins or how long a file is decides whether it comes back.
    #[test]
    fn whatever_is_on_it_comes_back(tree in trees(), begins in 64usize..10_000) {
        wait(async {
            let kept = Kept::of(disk(&tree, begins)).await;
            let parts = kept.look().partitions().await.unwrap();
            assert_eq!((parts.len(), parts[0].number), (1, 2));
            for (path, content) in &tree {
                assert!(kept.file(2, path).await.unwrap() == *content, "{path}");
            }
        });
    }

    /// If this fails, a guest that breaks its file system on purpose takes the manager with it.
    #[test]
    fn what_is_broken_on_purpose_is_an_answer(
        hits in proptest::collection::vec((0usize..(60 * BLOCK), any::<u8>()), 1..400),
    ) {
        wait(async {
            let mut bytes = guest();
            for (at, value) in hits {
                // Where something stands that a reader believes.
                let at = match at % 3 {
                    0 => (3 << 20) + 1024 + at % 8192,
                    1 => (1 << 20) + at % 16_384,
                    _ => at,
                };
                bytes[at] = value;
            }
            let kept = Kept::of(bytes).await;
            for part in kept.look().partitions().await.unwrap_or_default() {
                for path in ["", "etc", "srv/orders/2026", "EFI/BOOT"] {
                    drop(kept.look().folder(part.number, path.into()).await);
                }
                drop(kept.file(part.number, "var/log/app.log").await);
                drop(kept.file(part.number, "EFI/BOOT/BOOTX64.EFI").await);
            }
        });
    }
}

/// A disk that is larger than what is kept of it in memory is read from end to end.
#[tokio::test]
async fn a_file_larger_than_what_is_kept_comes_whole() {
    let mut fat = Cursor::new(vec![0; 60 << 20]);
    fatfs::format_volume(&mut fat, fatfs::FormatVolumeOptions::new()).unwrap();
    let content: Vec<u8> = (0u64..12 * GRAIN)
        .map(|i| u8::try_from(i / 977 % 251).unwrap())
        .collect();
    {
        let fs = fatfs::FileSystem::new(&mut fat, fatfs::FsOptions::new()).unwrap();
        fs.root_dir()
            .create_file("large.bin")
            .unwrap()
            .write_all(&content)
            .unwrap();
    }
    let kept = Kept::of(fat.into_inner()).await;
    let parts = kept.look().partitions().await.unwrap();
    assert_eq!((parts[0].number, parts[0].system.word()), (0, "FAT"));
    assert!(kept.file(0, "large.bin").await.unwrap() == content);
}

/// If this fails, somebody looks for a file in a full folder and is told that it isn't there.
#[tokio::test]
async fn a_folder_of_hundreds_of_files_is_told_whole() {
    let mut fat = Cursor::new(vec![0; 16 << 20]);
    fatfs::format_volume(&mut fat, fatfs::FormatVolumeOptions::new()).unwrap();
    // Their maker looks through all of them for each: more would take it long.
    let name = |n: u32| format!("bill of lading {n:04}.txt");
    {
        let fs = fatfs::FileSystem::new(&mut fat, fatfs::FsOptions::new()).unwrap();
        let bills = fs.root_dir().create_dir("bills").unwrap();
        for n in 0..300 {
            let mut file = bills.create_file(&name(n)).unwrap();
            file.write_all(format!("cargo {n}").as_bytes()).unwrap();
        }
    }
    let kept = Kept::of(fat.into_inner()).await;
    let all: Vec<String> = (0..300).map(name).collect();
    assert_eq!(kept.names(0, "bills").await, all);
    let last = kept.file(0, &format!("bills/{}", name(299))).await.unwrap();
    assert_eq!(last, b"cargo 299");
}
