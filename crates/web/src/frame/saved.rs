//! A document that is given as a file.

use rocket::{
    Responder,
    http::{ContentType, Header},
};

#[derive(Responder)]
pub(crate) struct Saved {
    text: String,
    kind: ContentType,
    name: Header<'static>,
}

impl Saved {
    /// JSON, under this name.
    pub(crate) fn json(text: String, name: &str) -> Saved {
        // Letters and digits only: it stands in a header.
        let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
        let name: String = name.chars().take(60).map(plain).collect();
        Saved {
            text,
            kind: ContentType::JSON,
            name: Header::new(
                "Content-Disposition",
                format!("attachment; filename=\"{name}.json\""),
            ),
        }
    }
}
