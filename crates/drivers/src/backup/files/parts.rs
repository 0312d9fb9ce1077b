//! The parts of a disk, by its partition table (GPT or MBR), and what each is formatted as, by its first bytes.

use super::{
    disk::{DiskBytes, Window},
    whole,
};
use zastrugi_core::{
    estate::{Partition, System, shown},
    units::Bytes,
};

const SECTOR: u64 = 512;
/// More of a table are not looked at.
const MOST: usize = 256;

/// Where a mark stands, what it is, and of what.
const MARKS: &[(u64, &[u8], System)] = &[
    (1080, &[0x53, 0xef], System::Ext),
    (0, b"XFSB", System::Unread("XFS")),
    (3, b"NTFS    ", System::Unread("NTFS")),
    (3, b"EXFAT   ", System::Unread("exFAT")),
    (0, b"LUKS\xba\xbe", System::Unread("LUKS, encrypted")),
    (
        512,
        b"LABELONE",
        System::Unread("LVM, a volume group of its guest"),
    ),
    (0x1_0040, b"_BHRfS_M", System::Unread("Btrfs")),
    (0x8001, b"CD001", System::Unread("ISO 9660")),
    (4086, b"SWAPSPACE2", System::Unread("swap")),
    (54, b"FAT", System::Fat),
    (82, b"FAT32", System::Fat),
];

fn is_at(of: &Window, at: u64, mark: &[u8]) -> Result<bool, String> {
    if at + mark.len() as u64 > of.size() {
        return Ok(false);
    }
    let mut there = vec![0; mark.len()];
    of.exact(at, &mut there).map_err(|e| e.to_string())?;
    Ok(there == mark)
}

fn system(of: &Window) -> Result<System, String> {
    for (at, mark, system) in MARKS {
        if is_at(of, *at, mark)? {
            return Ok(system.clone());
        }
    }
    Ok(System::Unknown)
}

/// Number, label, first sector and how many of an entry.
type Entry = (u32, String, u64, u64);

/// The entries of its table, with the bytes of a sector; none: it has no table.
fn table(disk: &DiskBytes) -> Result<Option<(u64, Vec<Entry>)>, String> {
    // A first sector that can't be read is no missing table.
    let mut first = [0; 512];
    if disk.size() < SECTOR * 4 {
        return Ok(None);
    }
    whole(disk)
        .exact(0, &mut first)
        .map_err(|e| e.to_string())?;
    if let Ok(gpt) = gptman::GPT::find_from(&mut whole(disk)) {
        let used = gpt.iter().filter(|(_, p)| p.is_used());
        let entry = |(n, p): (u32, &gptman::GPTPartitionEntry)| {
            let count = p.size().ok()?;
            Some((
                n,
                p.partition_name.as_str().to_owned(),
                p.starting_lba,
                count,
            ))
        };
        return Ok(Some((
            gpt.sector_size,
            used.take(MOST).filter_map(entry).collect(),
        )));
    }
    let Ok(mbr) = mbrman::MBR::read_from(&mut whole(disk), 512) else {
        return Ok(None);
    };
    let used = mbr.iter().filter(|(_, p)| p.is_used() && !p.is_extended());
    let entry = |(n, p): (usize, &mbrman::MBRPartitionEntry)| {
        let number = u32::try_from(n).ok()?;
        Some((
            number,
            String::new(),
            p.starting_lba.into(),
            p.sectors.into(),
        ))
    };
    let all: Vec<Entry> = used.take(MOST).filter_map(entry).collect();
    // The first sector of a file system ends like that of a table.
    Ok((!all.is_empty()).then_some((SECTOR, all)))
}

fn label(of: Window, system: &System) -> String {
    match system {
        System::Ext => super::ext::label(of),
        System::Fat => super::fat::label(of),
        System::Unread(_) | System::Unknown => String::new(),
    }
}

/// # Errors
/// Words of the store, where it can't be read.
pub(super) fn of(disk: &DiskBytes) -> Result<Vec<Partition>, String> {
    let all = whole(disk);
    let bare = system(&all)?;
    if bare.is_read() {
        return Ok(vec![part(disk, (0, String::new(), 0, all.size()))?]);
    }
    match table(disk)? {
        None => Ok(vec![part(disk, (0, String::new(), 0, all.size()))?]),
        Some((sector, entries)) => {
            let bytes = |(n, label, first, count): Entry| {
                (
                    n,
                    label,
                    first.saturating_mul(sector),
                    count.saturating_mul(sector),
                )
            };
            entries.into_iter().map(|e| part(disk, bytes(e))).collect()
        }
    }
}

/// Here in bytes.
fn part(disk: &DiskBytes, (number, named, begins, size): Entry) -> Result<Partition, String> {
    let window = disk.window(begins, size);
    let system = system(&window)?;
    let own = label(window.clone(), &system);
    Ok(Partition {
        number,
        label: shown(if own.is_empty() { &named } else { &own }),
        system,
        begins: Bytes(begins),
        size: Bytes(window.size()),
    })
}
