//! The volume of a build sheet: made new on an array, or one that the array has.

use crate::{
    frame::{Fields, consequences::Wrong},
    places::storage::{options, source},
};
use zastrugi_core::{
    estate::Provisioning, rooms::storage::ConnectVolume, units::Bytes, view::View,
};

pub(super) struct VolumeFields {
    from: String,
    /// Where it can come from, as options of a list.
    pub(super) options: String,
    pub(super) size: String,
    pub(super) name: String,
    bytes: Bytes,
}

pub(super) fn fields(view: &View, fields: &Fields, wrong: &mut Vec<Wrong>) -> VolumeFields {
    let size = fields.or("size", "2 TiB");
    let bytes = Bytes::parse(&size).unwrap_or_else(|words| {
        wrong.push(("size".to_owned(), words));
        Bytes::ZERO
    });
    let from = fields.get("volume-from").to_owned();
    VolumeFields {
        options: options(view, &from),
        from,
        size,
        name: fields.get("volume").to_owned(),
        bytes,
    }
}

impl VolumeFields {
    /// Named after the cluster until somebody says otherwise.
    pub(super) fn ask(&self, cluster: &str) -> Option<ConnectVolume> {
        if self.from.is_empty() {
            return None;
        }
        let (array, source) = source(&self.from, self.bytes, Provisioning::Thin);
        let usual = format!("{}-disks", cluster.trim().to_lowercase());
        let name = if self.name.is_empty() {
            &usual
        } else {
            &self.name
        };
        Some(ConnectVolume {
            array,
            source,
            name: name.into(),
            // The one that is built, and all of its hosts.
            cluster: None,
            hosts: None,
            typed: "".into(),
        })
    }
}
