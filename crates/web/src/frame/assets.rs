//! Styles, scripts and fonts, out of the binary; their names change with their contents.

use rocket::{
    Request, Response, get,
    http::{ContentType, Header, Status},
    response::{self, Responder},
};
use std::io::Cursor;

pub(crate) struct File {
    pub(crate) name: &'static str,
    pub(crate) hashed: &'static str,
    pub(crate) bytes: &'static [u8],
    pub(crate) packed: Option<&'static [u8]>,
}

include!(concat!(env!("OUT_DIR"), "/files.rs"));

/// Where a file is.
pub(crate) fn url(name: &str) -> String {
    let hashed = FILES
        .iter()
        .find(|f| f.name == name)
        .map_or(name, |f| f.hashed);
    format!("/assets/{hashed}")
}

#[get("/assets/<name>")]
pub(crate) fn file(name: &str) -> Result<&'static File, Status> {
    FILES
        .iter()
        .find(|f| f.hashed == name)
        .ok_or(Status::NotFound)
}

#[get("/favicon.ico")]
pub(crate) fn favicon() -> Result<&'static File, Status> {
    FILES
        .iter()
        .find(|f| f.name == "mark.svg")
        .ok_or(Status::NotFound)
}

impl<'r> Responder<'r, 'static> for &'static File {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let kind = self
            .name
            .rsplit('.')
            .next()
            .and_then(ContentType::from_extension)
            .unwrap_or(ContentType::Binary);
        let accepts = request
            .headers()
            .get("accept-encoding")
            .any(|v| v.contains("br"));
        let mut answer = Response::build();
        answer.header(kind).header(Header::new(
            "Cache-Control",
            "public, max-age=31536000, immutable",
        ));
        match self.packed {
            Some(packed) if accepts => {
                answer
                    .header(Header::new("Content-Encoding", "br"))
                    .sized_body(packed.len(), Cursor::new(packed));
            }
            _ => {
                answer.sized_body(self.bytes.len(), Cursor::new(self.bytes));
            }
        }
        answer.ok()
    }
}
