//! What a recovery point says of the machine that is made of it, as the sheet for creating machines has it.

use crate::frame::Fields;
use zastrugi_core::{
    copying,
    estate::{Kept, PointAt},
    ids::{ClusterId, NetworkId},
    moment::Moment,
    rooms::machines::Taken,
    units::Bytes,
    view::View,
};

/// The part of the sheet that a point has for itself.
pub(super) struct PointPart {
    at: PointAt,
    kept: Kept,
    /// Nobody has the addresses of its cards.
    pub(super) free: bool,
    pub(super) keep_macs: bool,
    /// What its cards were on.
    pub(super) networks: Vec<String>,
}

impl PointPart {
    pub(super) fn of(view: &View, at: PointAt, fields: &Fields) -> Option<PointPart> {
        // What was read before is shown, however long ago; whether it still holds the assessment says.
        let kept = copying::kept(view, at, Moment(0)).ok()?.clone();
        let taken = |mac: &str| view.estate.machine_with_mac(&mac.to_lowercase()).is_some();
        let free = !kept.cards.iter().any(|(mac, _)| taken(mac));
        Some(PointPart {
            at,
            free,
            keep_macs: fields.ticked("keep_macs", free),
            networks: kept.cards.iter().map(|(_, n)| n.clone()).collect(),
            kept,
        })
    }

    /// The cluster of the machine that it is of, if that is still there.
    pub(super) fn cluster(&self, view: &View) -> Option<ClusterId> {
        view.estate.machine_with_uuid(&self.at.machine)?.cluster
    }

    /// vCPUs, memory, and the networks of the cluster that are called as its own were.
    pub(super) fn has(
        &self,
        view: &View,
        cluster: Option<ClusterId>,
    ) -> (u32, Bytes, Vec<Option<NetworkId>>) {
        let here = cluster
            .map(|c| view.estate.networks_of(c))
            .unwrap_or_default();
        let named = |name: &String| {
            let found = here.iter().find(|n| n.ready && n.name == *name);
            found.map(|n| n.id)
        };
        let cards = self.networks.iter().map(named).collect();
        (self.kept.vcpus, self.kept.memory, cards)
    }

    pub(super) fn taken(&self) -> Taken {
        Taken {
            keep_macs: self.keep_macs,
            ..Taken::default()
        }
    }

    /// Its own name, where no machine has that.
    pub(super) fn name(&self, view: &View) -> String {
        let own = &self.kept.name;
        match view.estate.machine_named(own) {
            None => own.clone(),
            Some(_) => format!("{own}-restored"),
        }
    }

    pub(super) fn labels(&self) -> String {
        let all = self.kept.labels.iter();
        let all: Vec<String> = all.map(|(k, v)| format!("{k}={v}")).collect();
        all.join(", ")
    }

    pub(super) fn note(&self) -> &str {
        &self.kept.note
    }
}
