//! The sheet to edit one machine, or to label several.

use super::{back, chosen, what};
use crate::frame::{
    Fields,
    fields::read_labels,
    fields::whole,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::rooms::edits;
use zastrugi_core::{
    estate::{Attached, Boot, BootFrom, Machine, Memory, Provisioning},
    ids::{ImageId, MachineId},
    rooms::Proposal,
    rooms::edits::{Set, Target},
    units::Bytes,
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/edit.html")]
struct EditFields {
    machines: Vec<(u64, String)>,
    one: bool,
    name: String,
    vcpus: String,
    vcpus_max: String,
    memory: String,
    kept: String,
    max: String,
    /// Of each disk: its field, what it is, and its size as typed.
    disks: Vec<(String, String, String)>,
    labels: String,
    unlabel: String,
    tier: String,
    restarts: String,
    after: String,
    protected: String,
    note: String,
    /// `keep`, empty for none, or a number.
    image: String,
    images: Vec<(String, String)>,
    order: String,
    once: String,
}

/// A size as it would be typed.
fn typed(bytes: Bytes) -> String {
    bytes.to_string().replace('\u{a0}', " ")
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let one = if let [id] = ids.as_slice() {
        view.estate.machines.get(id).cloned()
    } else {
        None
    };
    let shown = typed_or_known(view, fields, one.as_deref(), (&ids, &named));
    let mut wrong = Vec::new();
    let mut sets = Vec::new();
    match &one {
        Some(machine) => of_one(machine, &shown, &mut sets, &mut wrong),
        None => of_many(&shown, &mut sets),
    }
    boots(view, one.as_deref(), &shown, &mut sets, &mut wrong);
    order(view, one.as_deref(), &shown, &mut sets, &mut wrong);
    let targets = ids.into_iter().map(Target::Machine).collect::<Vec<_>>();
    Filled {
        title: format!("Edit {}", what(&named)),
        lead: "Only what you change is changed. What can't count while a machine runs waits for its next start.".into(),
        run: "Run: change it".into(),
        danger: false,
        back: back(&named),
        fields: render(&shown),
        ask: Proposal::Edits(edits::Ask::Edit { targets, sets }),
        wrong,
    }
}

/// What was typed, else what one machine has.
fn typed_or_known(
    view: &View,
    fields: &Fields,
    one: Option<&Machine>,
    (ids, named): (&[MachineId], &[(u64, String)]),
) -> EditFields {
    let labels_now = one
        .as_ref()
        .map(|m| m.label_words().collect::<Vec<_>>().join(" "))
        .unwrap_or_default();
    EditFields {
        one: one.is_some(),
        name: fields.or("name", one.as_ref().map_or("", |m| m.name.as_str())),
        vcpus: fields.or(
            "vcpus",
            &one.as_ref()
                .map_or_else(String::new, |m| m.vcpus.to_string()),
        ),
        vcpus_max: fields.or(
            "vcpus_max",
            &one.as_ref()
                .map_or_else(String::new, |m| m.most_vcpus().to_string()),
        ),
        memory: fields.or(
            "memory",
            &one.as_ref()
                .map_or_else(String::new, |m| typed(m.memory.size)),
        ),
        kept: fields.or(
            "kept",
            &one.as_ref()
                .map_or_else(String::new, |m| typed(m.memory.kept)),
        ),
        max: fields.or(
            "max",
            &one.as_ref()
                .map_or_else(String::new, |m| typed(m.memory.max)),
        ),
        disks: one.map_or_else(Vec::new, |m| disks(view, fields, m)),
        labels: fields.or("labels", &labels_now),
        unlabel: fields.get("unlabel").into(),
        tier: fields.or(
            "tier",
            &one.as_ref()
                .map_or_else(String::new, |m| m.tier.to_string()),
        ),
        restarts: fields.or(
            "restarts",
            one.as_ref()
                .map_or("", |m| if m.restarts { "yes" } else { "no" }),
        ),
        after: fields.or(
            "after",
            &one.as_ref()
                .map_or_else(String::new, |m| waits_for(view, m)),
        ),
        protected: fields.or(
            "protected",
            one.as_ref()
                .map_or("", |m| if m.protected { "yes" } else { "no" }),
        ),
        note: fields.or("note", one.as_ref().map_or("", |m| m.note.as_str())),
        image: fields.or("image", &one.as_ref().map_or("keep".into(), |m| drive(m))),
        images: shared_images(view, ids),
        order: fields.or(
            "order",
            &one.as_ref()
                .map_or_else(String::new, |m| m.boot.order_words()),
        ),
        once: fields.or(
            "once",
            one.as_ref()
                .map_or("keep", |m| m.boot.once.map_or("", BootFrom::word)),
        ),
        machines: named.to_vec(),
    }
}

fn of_one(
    machine: &Machine,
    shown: &EditFields,
    sets: &mut Vec<Set>,
    wrong: &mut Vec<(String, String)>,
) {
    if shown.name != machine.name {
        sets.push(Set::Name((&shown.name).into()));
    }
    match whole(&shown.vcpus) {
        Ok(n) if n == machine.vcpus => {}
        Ok(n) => sets.push(Set::VCpus(n)),
        Err(words) => wrong.push(("vcpus".into(), words)),
    }
    match whole(&shown.vcpus_max) {
        // One that is only raised with the vCPUs is not meant.
        Ok(n) if n == machine.most_vcpus() => {}
        Ok(n) => sets.push(Set::VCpusMax(n)),
        Err(words) => wrong.push(("vcpus_max".into(), words)),
    }
    let mut size = |field: &str, text: &str, was: Bytes| {
        if text == typed(was) {
            return was;
        }
        Bytes::parse(text).unwrap_or_else(|words| {
            wrong.push((field.to_owned(), words));
            was
        })
    };
    let memory = Memory {
        size: size("memory", &shown.memory, machine.memory.size),
        kept: size("kept", &shown.kept, machine.memory.kept),
        max: size("max", &shown.max, machine.memory.max),
    };
    if memory != machine.memory {
        sets.push(Set::Memory(memory));
    }
    for (n, disk) in machine.disks.iter().enumerate() {
        let Some((field, _, text)) = shown.disks.get(n) else {
            continue;
        };
        match Bytes::parse(text) {
            _ if *text == typed(disk.size) => {}
            Ok(size) => sets.push(Set::DiskSize {
                disk: n,
                key: Some(disk.key),
                size,
            }),
            Err(words) => wrong.push((field.clone(), words)),
        }
    }
    let labels = read_labels(&shown.labels);
    let gone = machine.labels.keys().filter(|k| !labels.contains_key(*k));
    sets.extend(gone.map(|key| Set::Unlabel { key: key.into() }));
    let new = labels
        .iter()
        .filter(|(k, v)| machine.labels.get(*k) != Some(v));
    sets.extend(new.map(|(key, value)| Set::Label {
        key: key.into(),
        value: value.into(),
    }));
    common(shown, Some(machine), sets);
    if shown.note != machine.note {
        sets.push(Set::Note((&shown.note).into()));
    }
}

/// Its disks, each with what it lies on.
fn disks(view: &View, fields: &Fields, machine: &Machine) -> Vec<(String, String, String)> {
    let all = machine.disks.iter().enumerate();
    all.map(|(n, disk)| {
        let field = format!("disk-{}", n + 1);
        let volume = view.estate.volumes.get(&disk.volume);
        let on = volume.map_or("its volume", |v| v.name.as_str());
        let kind = match disk.provisioning {
            Provisioning::Thick => "thick",
            Provisioning::Thin => "thin",
        };
        let text = fields.or(&field, &typed(disk.size));
        (field, format!("Disk {}, {kind} on {on}", n + 1), text)
    })
    .collect()
}

/// The machine that another waits for, by name.
fn waits_for(view: &View, machine: &Machine) -> String {
    let other = machine.after.and_then(|id| view.estate.machines.get(&id));
    other.map_or_else(String::new, |m| m.name.clone())
}

/// Whether they restart elsewhere, and whom they wait for.
fn order(
    view: &View,
    was: Option<&Machine>,
    shown: &EditFields,
    sets: &mut Vec<Set>,
    wrong: &mut Vec<(String, String)>,
) {
    let restarts = match shown.restarts.as_str() {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    };
    let differs = restarts.filter(|r| was.is_none_or(|m| m.restarts != *r));
    sets.extend(differs.map(Set::Restarts));
    let name = shown.after.trim();
    let before = was.map_or_else(String::new, |m| waits_for(view, m));
    if name == before {
        return;
    }
    if name.is_empty() {
        sets.push(Set::After(None));
    } else if let Some(other) = view.estate.machine_named(name) {
        sets.push(Set::After(Some(other.id)));
    } else {
        wrong.push(("after".into(), format!("There is no machine {name}.")));
    }
}

/// The image in a machine's drive, as the field has it.
fn drive(machine: &Machine) -> String {
    let attached = machine.boot.attached;
    attached.map_or_else(String::new, |a| a.image.0.to_string())
}

/// The images that all of these machines can have.
fn shared_images(view: &View, ids: &[MachineId]) -> Vec<(String, String)> {
    let machines = ids.iter().filter_map(|id| view.estate.machines.get(id));
    let mut clusters: Vec<_> = machines.map(|m| m.cluster).collect();
    clusters.dedup();
    let [cluster] = clusters.as_slice() else {
        return vec![];
    };
    let all = super::images(view, *cluster).into_iter();
    all.map(|(id, name)| (id.to_string(), name)).collect()
}

/// What was changed in what they boot from.
fn boots(
    view: &View,
    was: Option<&Machine>,
    shown: &EditFields,
    sets: &mut Vec<Set>,
    wrong: &mut Vec<(String, String)>,
) {
    if shown.image != "keep" && was.is_none_or(|m| drive(m) != shown.image) {
        let image = shown.image.parse().ok().map(ImageId);
        let image = image.and_then(|i| view.estate.images.get(&i));
        sets.push(Set::Attach(image.map(|i| Attached {
            image: i.id,
            volume: i.volume,
        })));
    }
    if !shown.order.is_empty() {
        match Boot::read_order(&shown.order) {
            Ok(order) if was.is_some_and(|m| m.boot.order == order) => {}
            Ok(order) => sets.push(Set::BootOrder(order)),
            Err(words) => wrong.push(("order".into(), words)),
        }
    }
    let once = shown.once.parse().ok();
    if shown.once != "keep" && was.is_none_or(|m| m.boot.once != once) {
        sets.push(Set::BootOnce(once));
    }
}

fn of_many(shown: &EditFields, sets: &mut Vec<Set>) {
    sets.extend(
        read_labels(&shown.labels)
            .into_iter()
            .map(|(key, value)| Set::Label {
                key: key.into(),
                value: value.into(),
            }),
    );
    sets.extend(
        read_labels(&shown.unlabel)
            .into_keys()
            .map(|key| Set::Unlabel { key: key.into() }),
    );
    common(shown, None, sets);
}

fn common(shown: &EditFields, was: Option<&Machine>, sets: &mut Vec<Set>) {
    if let Ok(tier) = shown.tier.parse::<u8>()
        && was.is_none_or(|m| m.tier != tier)
    {
        sets.push(Set::Tier(tier));
    }
    let protected = match shown.protected.as_str() {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    };
    sets.extend(
        protected
            .filter(|p| was.is_none_or(|m| m.protected != *p))
            .map(Set::Protected),
    );
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_differs_is_proposed() {
        let mut view =
            zastrugi_core::testkit::read("cluster a\nhost 1 512\nmachine 7 db 16 on 1").view;
        let id = MachineId(7);
        let same = fill(&view, &Fields::parse("ids=7"));
        assert!(
            matches!(same.ask, Proposal::Edits(edits::Ask::Edit { sets, .. }) if sets.is_empty())
        );
        let fields = Fields::parse(
            "sent=1&ids=7&name=db&vcpus=8&vcpus_max=2&memory=lots&kept=16+GiB&max=16+GiB&labels=app%3Dx&tier=3&protected=no&note=",
        );
        let filled = fill(&view, &fields);
        assert_eq!(
            filled.wrong[0].0, "memory",
            "what can't be read is said at its field"
        );
        let Proposal::Edits(edits::Ask::Edit { sets, .. }) = filled.ask else {
            panic!()
        };
        assert_eq!(
            sets,
            [
                Set::VCpus(8),
                Set::Label {
                    key: "app".into(),
                    value: "x".into()
                }
            ]
        );
        view = View::default();
        assert!(view.estate.machines.get(&id).is_none());
    }
}
