//! What hosts are installed from: images in a directory, and for each host a small one that says what it shall become.

use crate::Drivers;
use serde::Deserialize;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::{
    fs::File,
    io,
    path::{Path, PathBuf},
};
use zastrugi_core::{
    estate::Estate,
    evidence::{Answer, Medium},
    units::Bytes,
};
use zastrugi_formats::iso9660;

/// What an image says of itself, in its root directory.
const MANIFEST: &str = "IMAGE.JSN";
/// Images of one directory that are looked at, and bytes of what each says of itself.
const MOST: usize = 200;
const MANIFEST_BYTES: usize = 16 << 10;

/// Where images lie, and under which address devices read them.
#[derive(Debug, Clone, Default)]
pub struct Media {
    pub dir: Option<PathBuf>,
    /// `http://ip:port`, as devices see this manager.
    pub url: Option<String>,
}

#[derive(Deserialize)]
struct Manifest {
    version: String,
    #[serde(default)]
    maker: Option<String>,
}

/// What there is to install hosts from, by the names of the files.
pub(crate) fn list(dir: Option<&Path>) -> Answer {
    let silent = |why: String| Answer::Silent { why };
    let Some(dir) = dir else {
        return silent("it was started without a directory of images (--media)".into());
    };
    let names = std::fs::read_dir(dir).map(|all| {
        let all = all
            .flatten()
            .filter_map(|e| e.file_name().into_string().ok());
        let mut names: Vec<String> = all.filter(|n| n.ends_with(".iso")).collect();
        names.sort();
        names
    });
    match names {
        Err(error) => silent(format!("its directory of images can't be read: {error}")),
        Ok(names) => {
            let media = names
                .into_iter()
                .take(MOST)
                .filter_map(|n| read(dir, n).ok().flatten());
            Answer::Installations {
                media: media.collect(),
            }
        }
    }
}

/// One image. None: it does not say what it is, and is none of these.
fn read(dir: &Path, file: String) -> io::Result<Option<Medium>> {
    let mut image = File::open(dir.join(&file))?;
    let size = Bytes(image.metadata()?.len());
    let Some(manifest) = iso9660::file(&mut image, MANIFEST, MANIFEST_BYTES)? else {
        return Ok(None);
    };
    let Manifest { version, maker } = serde_json::from_slice(&manifest)?;
    let clean = |text: String| text.chars().filter(|c| !c.is_control()).take(60).collect();
    Ok(Some(Medium {
        file,
        version: clean(version),
        maker: maker.map(clean),
        size,
    }))
}

/// What a device asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// What it is installed from.
    Image,
    /// What it shall become.
    Seed,
}

/// What it gets.
#[derive(Debug)]
pub enum Served {
    File(PathBuf),
    Bytes(Vec<u8>),
}

impl Media {
    /// Of its address, where that names one; else the usual one of its scheme.
    fn port(&self) -> Option<u16> {
        let url = reqwest::Url::parse(self.url.as_deref()?).ok()?;
        url.port_or_known_default()
    }
}

impl Drivers {
    pub fn media_port(&self) -> Option<u16> {
        self.media.port()
    }
    /// The part for the host that was told this word. None: nobody was, or it is installed.
    pub async fn medium(&self, estate: &Estate, word: &str, part: Part) -> Option<Served> {
        let hash: String = Sha256::digest(word.as_bytes())
            .iter()
            .map(|b| format!("{b:02x}"))
            .collect();
        let mut all = estate
            .hosts
            .values()
            .filter_map(|h| Some((h, h.installing.as_deref()?)));
        let (host, installing) = all.find(|(_, i)| !i.word.is_empty() && i.word == hash)?;
        match part {
            Part::Image => {
                let dir = self.media.dir.as_ref()?;
                // The name comes from our own list; what leads out of the directory was never in it.
                let plain = Path::new(&installing.image).file_name()?;
                Some(Served::File(dir.join(plain)))
            }
            Part::Seed => {
                let given = self.secrets.open(installing.given?).await.ok()?;
                let (password, secret) = given.split_once(' ')?;
                let seed = json!({
                    "name": host.name, "address": installing.net.to_string(), "gateway": installing.gateway,
                    "vlan": installing.vlan, "password": password, "secret": secret, "overwrite": installing.overwrite,
                    "time": installing.time
                });
                let text = seed.to_string();
                iso9660::write("HOSTSEED", &[("SEED.JSN", text.as_bytes())])
                    .ok()
                    .map(Served::Bytes)
            }
        }
    }
}
