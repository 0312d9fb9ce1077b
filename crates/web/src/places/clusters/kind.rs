//! What kind of cluster it is, as a field of several sheets.

use crate::frame::{Fields, sheet::render};
use askama::Template;
use zastrugi_core::estate::ClusterKind;

#[derive(Template)]
#[template(path = "places/clusters/kind.html")]
struct KindField<'a> {
    kind: ClusterKind,
    kinds: &'a [ClusterKind],
}

/// The field, with those that the sheet can make.
pub(super) fn field(kind: ClusterKind, kinds: &[ClusterKind]) -> String {
    render(&KindField { kind, kinds })
}

/// The kind that is chosen; `was` before anybody chose.
pub(super) fn chosen(fields: &Fields, was: ClusterKind) -> ClusterKind {
    let word = fields.or("kind", was.word());
    let mut all = ClusterKind::ALL.into_iter();
    all.find(|k| k.word() == word).unwrap_or(was)
}
