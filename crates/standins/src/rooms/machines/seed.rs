//! What a guest reads at its first boot: a NoCloud seed on an ISO 9660 image (ECMA-119), found by its label and read by
//! the guest's own means. Written without the application's writer, or both would err alike.

use base64::{Engine, prelude::BASE64_STANDARD};
use flate2::{Compression, read::ZlibDecoder, write::ZlibEncoder};
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use std::io::{Read as _, Write as _};

/// A seed as a record keeps it: deflated, as an image is mostly zeros, and as the text that is written, as a volume's
/// records are written together at every change.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Seed(Box<RawValue>);

impl PartialEq for Seed {
    fn eq(&self, other: &Self) -> bool {
        self.0.get() == other.0.get()
    }
}

impl Seed {
    /// `delivered`: the image in base64.
    pub(crate) fn keep(delivered: &str) -> Option<Seed> {
        let image = BASE64_STANDARD.decode(delivered).unwrap_or_default();
        let mut packed = ZlibEncoder::new(Vec::new(), Compression::fast());
        packed.write_all(&image).ok()?;
        let text = BASE64_STANDARD.encode(packed.finish().ok()?);
        RawValue::from_string(format!("\"{text}\"")).ok().map(Seed)
    }

    fn image(&self) -> Vec<u8> {
        let packed = BASE64_STANDARD
            .decode(self.0.get().trim_matches('"'))
            .unwrap_or_default();
        let mut image = Vec::new();
        match ZlibDecoder::new(packed.as_slice()).read_to_end(&mut image) {
            Ok(_) => image,
            // Kept whole by an earlier version.
            Err(_) => packed,
        }
    }
}

const SECTOR: usize = 2048;

fn u32_at(bytes: &[u8], at: usize) -> Option<usize> {
    let four = bytes.get(at..at + 4)?;
    usize::try_from(u32::from_le_bytes(four.try_into().ok()?)).ok()
}

/// A label, and files with their contents.
pub(crate) type Read = (String, Files);

/// The files of the image's root directory: name and contents. None when this is no ISO 9660 image.
pub(crate) fn files(image: &[u8]) -> Option<Read> {
    let volume = image.get(16 * SECTOR..17 * SECTOR)?;
    if volume.get(..6)? != b"\x01CD001" {
        return None;
    }
    let label = String::from_utf8_lossy(volume.get(40..72)?)
        .trim_end()
        .to_owned();
    let root = volume.get(156..190)?;
    let (start, length) = (u32_at(root, 2)? * SECTOR, u32_at(root, 10)?);
    let directory = image.get(start..start + length)?;
    let mut found = Vec::new();
    let mut at = 0;
    while at < directory.len() {
        let size = usize::from(directory[at]);
        if size == 0 {
            // Records don't cross sectors.
            at = (at / SECTOR + 1) * SECTOR;
            continue;
        }
        let record = directory.get(at..at + size)?;
        let name_length = usize::from(*record.get(32)?);
        let name = String::from_utf8_lossy(record.get(33..33 + name_length)?).into_owned();
        let (start, length) = (u32_at(record, 2)? * SECTOR, u32_at(record, 10)?);
        if record.get(25)? & 2 == 0 {
            found.push((name, image.get(start..start + length)?.to_vec()));
        }
        at += size;
    }
    Some((label, found))
}

/// Files with their contents.
pub(crate) type Files = Vec<(String, Vec<u8>)>;

/// A file by its name, however the image writes it.
pub(crate) fn text_of(files: &Files, wanted: &str) -> Option<String> {
    let found = files.iter().find(|(name, _)| {
        let name = name.split(';').next().unwrap_or_default();
        name.eq_ignore_ascii_case(wanted)
    });
    found.map(|(_, text)| String::from_utf8_lossy(text).into_owned())
}

impl Seed {
    /// What is on it, where it is one of this convention.
    pub(crate) fn cidata(&self) -> Option<Files> {
        let (label, files) = files(&self.image())?;
        label.eq_ignore_ascii_case("cidata").then_some(files)
    }
}

/// The addresses (with prefix) that the seed's network configuration gives its guest.
pub(crate) fn addresses(seed: &Seed) -> Vec<String> {
    let Some(config) = seed
        .cidata()
        .and_then(|files| text_of(&files, "network-config"))
    else {
        return Vec::new();
    };
    // Version 2 of the network configuration, which is also JSON where it is written so.
    let Ok(read) = serde_json::from_str::<serde_json::Value>(&config) else {
        return Vec::new();
    };
    let cards = read.get("ethernets").and_then(serde_json::Value::as_object);
    let mut all = Vec::new();
    for card in cards.into_iter().flat_map(|c| c.values()) {
        let given = card.get("addresses").and_then(serde_json::Value::as_array);
        all.extend(
            given
                .into_iter()
                .flatten()
                .filter_map(|a| a.as_str().map(str::to_owned)),
        );
    }
    all
}
