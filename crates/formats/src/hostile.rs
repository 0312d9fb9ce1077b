//! Files that are anything: every reader of bytes from outside ends, and says in words what is wrong.

use crate::{backup, csv, estate, iso9660, seed, table};
use proptest::prelude::*;
use zastrugi_core::first_boot::Told;

/// Text that is nearly a file: pieces of real ones in any order.
fn nearly(pieces: &'static [&'static str]) -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        4 => prop::sample::select(pieces).prop_map(str::to_owned),
        1 => any::<String>(),
        1 => any::<i64>().prop_map(|n| n.to_string()),
    ];
    prop::collection::vec(piece, 0..24).prop_map(|all| all.concat())
}

const TABLE: &[&str] = &[
    "{",
    "}",
    "[",
    "]",
    ",",
    ":",
    "\"hosts\"",
    "\"machines\"",
    "\"memory\"",
    "\"name\"",
    "\"a\"",
    "1",
    "-1",
    "1e308",
    "null",
    "18446744073709551615",
    "true",
    "\"apart\"",
    "\"sizes\"",
    "\"limits\"",
];

const MANIFEST: &[&str] = &[
    "{",
    "}",
    "[",
    "]",
    ",",
    "\"format\":\"zastrugi-store/1\"",
    "\"disks\":[",
    "\"pages\":[",
    "\"at\":",
    "\"size\":",
    "18446744073709551615",
    "\"id\":\"",
    "00000000-0000-4000-8000-000000000000",
    "\"",
];

proptest! {
    #[test]
    fn what_lies_in_a_store_is_read_or_refused(text in nearly(MANIFEST), bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        if let Ok(manifest) = backup::Manifest::read(text.as_bytes()) {
            prop_assert!(manifest.size() < u64::MAX);
        }
        drop(backup::Manifest::read(&bytes));
        drop(backup::Key::read(&text));
        prop_assert!(backup::named(&text).is_none_or(|n| n.path() == text));
        let sealer = backup::Key::new([1; 32]).sealer("all");
        prop_assert!(sealer.open(backup::Kind::Chunk, "n", &bytes).is_err());
        prop_assert!(sealer.open(backup::Kind::Chunk, "n", &[b"ZBS1c\x01".as_slice(), &bytes].concat()).is_err());
    }

    #[test]
    fn csv_is_read_or_refused(text in nearly(&[",", "\n", "\r\n", "\"", "a", "=1", " ", "\u{feff}"])) {
        if let Ok(rows) = csv::read::<4>(&text) {
            prop_assert!(rows.len() <= text.len() + 1);
        }
    }

    /// What is written is read again, but for what no cell may hold.
    #[test]
    fn what_is_written_is_read_again(cells in prop::collection::vec("[a-z0-9 ,\"æ]{0,12}", 4)) {
        let row: [String; 4] = std::array::from_fn(|i| cells[i].trim().to_owned());
        let text = csv::write(["a", "b", "c", "d"], std::iter::once(row.clone()));
        let read = csv::read::<4>(&text).unwrap();
        if row.iter().any(|c| !c.is_empty()) {
            prop_assert_eq!(&read[1].1, &row);
        }
    }

    #[test]
    fn no_cell_becomes_a_formula(first in "[=+@\\-\u{0}\u{200b} ]{1,3}", cell in any::<String>()) {
        let text = csv::write(["a"], std::iter::once([format!("{first}{cell}")]));
        let rows = csv::read::<1>(&text).unwrap();
        let read = rows.get(1).map_or("", |row| &row.1[0]);
        // What a mark behind it makes another character of is no formula: = and a stroke are ≠.
        prop_assert!(!read.starts_with(['=', '+', '-', '@']), "{read:?}");
    }

    #[test]
    fn tables_and_estates_are_read_or_refused(text in nearly(TABLE)) {
        let read = [table::read(&text).is_ok(), table::read_case(&text).is_ok(), estate::read(&text).is_ok()];
        prop_assert!(read.len() == 3);
    }

    #[test]
    fn a_label_is_read_or_refused_and_has_nothing_hidden(bytes in prop::collection::vec(any::<u8>(), 0..4096)) {
        let mut descriptor = b"\x01CD001".to_vec();
        descriptor.extend(&bytes);
        for read in [iso9660::descriptor_label(&descriptor), iso9660::whole_label(&bytes, u64::MAX), iso9660::label(&bytes)].into_iter().flatten() {
            prop_assert!(read.chars().count() <= 32 && !read.contains('\0'));
        }
    }

    #[test]
    fn a_seed_is_made_of_any_names(instance in any::<String>(), name in any::<String>()) {
        let told = Told { host_name: name.clone(), zone: name.clone(), commands: vec![name], ..Told::default() };
        let files = seed::files(&instance, &[], &told, Some(&instance));
        let image = seed::image(&files);
        prop_assert!(image.map_or(true, |bytes| bytes.len() % 2048 == 0));
    }
}
