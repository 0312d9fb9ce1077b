//! Machines from an archive: what its author asks of whoever takes it in, and what is left out (rules, section 14).

use super::{CreateMachines, Draft, Taken};
use crate::{
    copying::{Source, package},
    estate::Machine,
    finding::{Finding, Rule},
    ids::ImageId,
};
use std::collections::BTreeMap;

pub(super) fn check(draft: &mut Draft<'_>, ask: &CreateMachines, image: ImageId) {
    let view = draft.view;
    let Ok(package) = package(view, image, draft.now) else { return };
    let d = &package.descriptor;
    let name = view.estate.images.get(&image).map_or_else(String::new, |i| i.name.clone());
    let none = Taken::default();
    let taken = ask.taken.as_deref().unwrap_or(&none);
    let stop = |rule, field: &str, text: String| Finding::stop(rule, &name, text).at(field);
    if !taken.configuration.is_empty() && !d.configurations.iter().any(|c| c.id == taken.configuration.as_str()) {
        draft.found(stop(Rule::Content, "configuration", format!("{name} has no configuration {}.", taken.configuration)));
    }
    if !d.licences.is_empty() && !taken.accepted {
        let text = "Its author lets it be taken in by those who accept what is written there.".to_owned();
        draft.found(stop(Rule::Content, "accepted", text));
    }
    let chosen = Some(taken.configuration.as_str()).filter(|c| !c.is_empty());
    if d.system(chosen).disks != d.system(None).disks {
        let text = format!("{name} has other disks in this configuration, which is not taken in; choose the usual one.");
        draft.found(stop(Rule::Disk, "configuration", text));
    }
    let unlisted: Vec<&str> = d.files.iter().map(|f| f.href.as_str()).filter(|f| package.sum(f).is_none()).collect();
    if package.manifest && !unlisted.is_empty() {
        let text = format!("The manifest of {name} says nothing of {}: whether it arrived as it was sent nobody can tell.", unlisted.join(", "));
        draft.found(Finding::mind(Rule::Content, &name, text).at("from"));
    } else if package.manifest {
        let text = format!("Each file of {name} is compared with the SHA-256 in its manifest while it is read; where one differs, nothing is made.");
        draft.found(Finding::clear(Rule::Content, &name, text));
    } else {
        let text = format!("{name} has no manifest with SHA-256 sums: whether it arrived as it was sent nobody can tell.");
        draft.found(Finding::mind(Rule::Content, &name, text).at("from"));
    }
    let left: Vec<String> = d.left_out.iter().cloned().chain(d.system(chosen).left_out).collect();
    if !left.is_empty() {
        let text = format!("{name} also speaks of what is left out here: {}.", left.join(", "));
        draft.found(Finding::mind(Rule::Content, &name, text).at("from"));
    }
    let chosen = Some(taken.configuration.as_str()).filter(|c| !c.is_empty());
    let system = d.system(chosen);
    let all: Vec<&str> = system.cards.iter().filter_map(|(_, mac)| mac.as_deref()).collect();
    macs(draft, ask, &all, &name);
    let empty: Vec<&str> = d
        .properties
        .iter()
        .filter(|p| p.asked && !p.password && value(p.key.as_str(), &p.value, taken).is_empty())
        .map(|p| p.key.as_str())
        .collect();
    let secret: Vec<&str> = d.properties.iter().filter(|p| p.password).map(|p| p.key.as_str()).collect();
    if !secret.is_empty() {
        let text = format!("{} is a password: it is not told to the guest, as it would stand on its disk; set it there.", secret.join(", "));
        draft.found(Finding::mind(Rule::Password, &name, text).at("properties"));
    }
    if !empty.is_empty() {
        let text = format!("Its author asks for {}, and nothing is given.", empty.join(", "));
        draft.found(Finding::mind(Rule::Content, &name, text).at("properties"));
    }
}

fn value(key: &str, usual: &str, taken: &Taken) -> String {
    let given = taken.properties.iter().find(|(k, _)| k.as_str() == key);
    given.map_or_else(|| usual.to_owned(), |(_, v)| v.as_str().to_owned())
}

/// Addresses that cards had elsewhere are kept by one machine only, and by nobody who has them already.
pub(super) fn macs(draft: &mut Draft<'_>, ask: &CreateMachines, all: &[&str], name: &str) {
    if !ask.taken.as_ref().is_some_and(|t| t.keep_macs) {
        return;
    }
    let stop = |text: String| Finding::stop(Rule::Address, name, text).at("keep_macs");
    if ask.count > 1 {
        return draft.found(stop("Several machines can't have the same MAC addresses.".into()));
    }
    for mac in all {
        if !is_mac(mac) {
            let text = format!("“{mac}” is no MAC address of one card; let new ones be given.");
            draft.found(stop(text));
        }
        if let Some(has) = draft.estate().machine_with_mac(&mac.to_lowercase()) {
            let text = format!("{mac} is taken: {} has it.", has.name);
            draft.found(stop(text));
        }
    }
}

/// Six octets in hexadecimal, of one card and not of a group (IEEE 802, the lowest bit of the first octet).
fn is_mac(text: &str) -> bool {
    let octets: Vec<_> = text.split(':').map(|o| (o.len() == 2).then(|| u8::from_str_radix(o, 16).ok()).flatten()).collect();
    octets.len() == 6 && octets.iter().all(Option::is_some) && octets[0].is_some_and(|first| first & 1 == 0)
}

/// What the archive says of a machine that is made from it: addresses that are kept, values that its guest is told.
pub(super) fn apply(draft: &Draft<'_>, ask: &CreateMachines, machines: &mut [Machine]) {
    let Some(Source::Package { image }) = ask.copied.map(|c| c.source) else { return };
    let Ok(package) = package(draft.view, image, draft.now) else { return };
    let none = Taken::default();
    let taken = ask.taken.as_deref().unwrap_or(&none);
    let chosen = Some(taken.configuration.as_str()).filter(|c| !c.is_empty());
    let cards = package.descriptor.system(chosen).cards;
    let properties: BTreeMap<String, String> = package
        .descriptor
        .properties
        .iter()
        .filter(|p| !p.password)
        .map(|p| (p.key.clone(), value(&p.key, &p.value, taken)))
        .collect();
    let kept: Vec<Option<&str>> = cards.iter().map(|(_, mac)| mac.as_deref()).collect();
    for machine in machines {
        machine.properties.clone_from(&properties);
        if taken.keep_macs {
            keep(machine, &kept);
        }
    }
}

/// Its cards have these addresses, in their order.
pub(super) fn keep(machine: &mut Machine, macs: &[Option<&str>]) {
    for (nic, mac) in machine.nics.iter_mut().zip(macs) {
        if let Some(mac) = mac {
            nic.mac = mac.to_lowercase();
        }
    }
}
