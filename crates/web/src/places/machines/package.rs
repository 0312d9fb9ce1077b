//! What the author of an archive leaves to whoever makes machines of it, as the sheet for creating them has it.

use crate::frame::Fields;
use std::collections::BTreeMap;
use zastrugi_core::{
    copying,
    ids::{ClusterId, ImageId, NetworkId},
    moment::Moment,
    ovf::{Descriptor, System},
    rooms::machines::Taken,
    text::Line,
    view::View,
};

pub(super) struct PropertyField {
    pub(super) key: String,
    pub(super) label: String,
    pub(super) value: String,
}

/// The part of the sheet that an archive has for itself.
pub(super) struct PackagePart {
    /// Id with words.
    pub(super) configurations: Vec<(String, String)>,
    pub(super) configuration: String,
    pub(super) licences: Vec<String>,
    pub(super) accepted: bool,
    pub(super) has_macs: bool,
    pub(super) keep_macs: bool,
    pub(super) properties: Vec<PropertyField>,
    /// What its author calls the networks of its cards.
    pub(super) networks: Vec<String>,
    system: System,
    pub(super) taken: Taken,
}

/// Values that were typed, by their keys.
fn typed(fields: &Fields) -> BTreeMap<&str, &str> {
    fields.all("key").zip(fields.all("value")).collect()
}

impl PackagePart {
    pub(super) fn of(view: &View, image: ImageId, fields: &Fields) -> Option<PackagePart> {
        // What was read before is shown, however long ago; whether it still holds the assessment says.
        let package = copying::package(view, image, Moment(0)).ok()?;
        let d: &Descriptor = &package.descriptor;
        let known = |id: &str| d.configurations.iter().any(|c| c.id == id);
        let usual = d.usual().map_or_else(String::new, |c| c.id.clone());
        let configuration = Some(fields.get("configuration").to_owned())
            .filter(|c| known(c))
            .unwrap_or(usual);
        let system = d.system(Some(configuration.as_str()).filter(|c| !c.is_empty()));
        let given = typed(fields);
        let asked = d.properties.iter().filter(|p| p.asked && !p.password);
        let properties: Vec<PropertyField> = asked
            .map(|p| PropertyField {
                key: p.key.clone(),
                label: if p.label.is_empty() {
                    p.key.clone()
                } else {
                    p.label.clone()
                },
                value: given
                    .get(p.key.as_str())
                    .map_or_else(|| p.value.clone(), |v| (*v).to_owned()),
            })
            .collect();
        let (accepted, keep_macs) = (
            fields.ticked("accepted", false),
            fields.ticked("keep_macs", false),
        );
        let values = properties
            .iter()
            .map(|p| (Line::from(p.key.as_str()), Line::from(p.value.as_str())));
        Some(PackagePart {
            taken: Taken {
                configuration: configuration.as_str().into(),
                accepted,
                keep_macs,
                properties: values.collect(),
            },
            configurations: d
                .configurations
                .iter()
                .map(|c| {
                    let label = if c.label.is_empty() { &c.id } else { &c.label };
                    let more = if c.description.is_empty() {
                        String::new()
                    } else {
                        format!(" · {}", c.description)
                    };
                    (c.id.clone(), format!("{label}{more}"))
                })
                .collect(),
            configuration,
            licences: d.licences.clone(),
            accepted,
            has_macs: system.cards.iter().any(|(_, mac)| mac.is_some()),
            keep_macs,
            properties,
            networks: system
                .cards
                .iter()
                .map(|(network, _)| network.clone())
                .collect(),
            system,
        })
    }

    pub(super) fn usual(&self) -> (u32, zastrugi_core::units::Bytes) {
        (self.system.vcpus, self.system.memory)
    }

    /// Networks of the cluster that are called as its author calls them.
    pub(super) fn cards(&self, view: &View, cluster: Option<ClusterId>) -> Vec<Option<NetworkId>> {
        let here = cluster
            .map(|c| view.estate.networks_of(c))
            .unwrap_or_default();
        let named = |name: &String| {
            here.iter()
                .find(|n| n.ready && n.name == *name)
                .map(|n| n.id)
        };
        self.networks.iter().map(named).collect()
    }
}
