//! The field in which somebody types a name to confirm.

use askama::Template;

#[derive(Template)]
#[template(path = "places/protect/typed_name.html")]
pub(super) struct Typed {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) typed: String,
}
