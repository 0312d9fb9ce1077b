//! What a host that is being installed reads over plain HTTP: whoever was told the word gets it, and nobody else.

use super::AtDesk;
use rocket::{fs::NamedFile, get, http::ContentType, response::Responder};
use zastrugi_engine::{Part, Served};

#[derive(Responder)]
pub(crate) enum Medium {
    File((ContentType, NamedFile)),
    Bytes((ContentType, Vec<u8>)),
}

/// `image`: what it is installed from; `seed`: what it shall become.
#[get("/media/<word>/<part>")]
pub(crate) async fn read(desk: &AtDesk, word: &str, part: &str) -> Option<Medium> {
    let part = match part {
        "image" => Part::Image,
        "seed" => Part::Seed,
        _ => return None,
    };
    let disc = || ContentType::new("application", "vnd.efi.iso");
    match desk.medium(word, part).await? {
        Served::Bytes(bytes) => Some(Medium::Bytes((disc(), bytes))),
        Served::File(path) => {
            let file = NamedFile::open(path).await.ok()?;
            Some(Medium::File((disc(), file)))
        }
    }
}
