//! How fast a host copies what lies on volumes, and what a copy of a machine or of a version is of.

use crate::{
    estate::{Disk, Host, Machine, Parent, Provisioning, Version},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::{MachineId, TemplateId, VolumeId, draw_uuid},
    migration::bandwidth,
    moment::{Moment, Span},
    units::{Bytes, Rate, round},
    view::View,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Read on the way in, written on the way out: an uplink carries both at once.
pub fn rate(via: &Host, from: VolumeId, to: VolumeId) -> Rate {
    let paths = |volume: VolumeId| {
        via.mounts
            .get(&volume)
            .into_iter()
            .flatten()
            .filter(|p| p.up)
    };
    // Ports that the host doesn't tell of are taken to be as fast as its fastest uplink.
    let known = |uplink: &str| via.uplinks.iter().find(|u| u.name == uplink);
    let best = via.uplinks.iter().map(|u| u.mbit).max().unwrap_or(0);
    let speed = |uplink: &str| known(uplink).map_or(best, |u| u.mbit);
    let fastest = |volume: VolumeId| paths(volume).map(|p| speed(&p.uplink)).max().unwrap_or(0);
    bandwidth(fastest(from), fastest(to), 1)
}

/// What a copy is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Source {
    Template {
        template: TemplateId,
        version: u32,
    },
    /// As it is now, or as it was when a snapshot was taken.
    Machine {
        machine: MachineId,
        snapshot: Option<Uuid>,
    },
}

/// What is read for a copy.
#[derive(Debug, Clone, PartialEq)]
pub struct Original {
    pub volume: VolumeId,
    pub disks: Vec<Disk>,
    /// What its disks hold; the whole size of disks of which nobody told.
    pub bytes: Bytes,
    pub known: bool,
    /// Thick disks take all of it.
    pub thick: Bytes,
    /// What people call it.
    pub words: String,
    /// It is copied while its guest writes, from a moment that the host holds fast.
    pub running: bool,
}

impl Source {
    /// What it is of, as it is known now.
    ///
    /// # Errors
    /// That it is gone, or that nothing can be copied from it, as a finding without a field.
    pub fn resolve(self, view: &View, now: Moment) -> Result<Original, Finding> {
        match self {
            Source::Template { template, version } => {
                of_version(view, Parent { template, version })
            }
            Source::Machine { machine, snapshot } => of_machine(view, machine, snapshot, now),
        }
    }
}

fn of_version(view: &View, parent: Parent) -> Result<Original, Finding> {
    let called = view.estate.called(parent);
    let template = view.estate.templates.get(&parent.template);
    let version: Option<&Version> = template.and_then(|t| t.version(parent.version));
    let Some(version) = version.filter(|v| v.ready) else {
        let text = format!("{called} is not there, or not whole yet.");
        return Err(Finding::stop(Rule::Exists, called, text));
    };
    Ok(Original {
        volume: version.volume,
        disks: version.disks.clone(),
        bytes: version.takes,
        known: true,
        thick: thick(&version.disks),
        words: called,
        running: false,
    })
}

fn of_machine(
    view: &View,
    id: MachineId,
    snapshot: Option<Uuid>,
    now: Moment,
) -> Result<Original, Finding> {
    let gone = |text: String| Err(Finding::stop(Rule::Exists, "machine", text));
    let Some(machine) = view.estate.machines.get(&id) else {
        return gone("The machine to copy is gone.".into());
    };
    let name = &machine.name;
    let known = snapshot.map(|s| machine.snapshots.get(s));
    let Some(volume) = machine.disks.first().map(|d| d.volume) else {
        return gone(format!("{name} has no disks."));
    };
    let (words, count) = match known {
        Some(None) => return gone(format!("The snapshot of {name} is gone.")),
        Some(Some(snapshot)) => (
            format!("“{}” of {name}", snapshot.name),
            snapshot.disks.unwrap_or(machine.disks.len()),
        ),
        None => (name.clone(), machine.disks.len()),
    };
    let disks: Vec<Disk> = machine.disks.iter().take(count).copied().collect();
    let held = held(view, machine, snapshot, now);
    let whole: Bytes = disks.iter().map(|d| d.size).sum();
    Ok(Original {
        volume,
        bytes: held.unwrap_or(whole),
        known: held.is_some(),
        thick: thick(&disks),
        disks,
        words,
        running: snapshot.is_none() && !machine.is_off(),
    })
}

fn thick(disks: &[Disk]) -> Bytes {
    let all = disks
        .iter()
        .filter(|d| d.provisioning == Provisioning::Thick);
    all.map(|d| d.size).sum()
}

/// By the bitmaps of its layers where they were read, else as its host measures; with what it has of a template.
fn held(view: &View, machine: &Machine, snapshot: Option<Uuid>, now: Moment) -> Option<Bytes> {
    let beneath = machine.parent.and_then(|p| {
        let template = view.estate.templates.get(&p.template)?;
        Some(template.version(p.version)?.takes)
    });
    let own = match view.evidence.fresh(&Probe::Layers(machine.id), now) {
        Some(Answer::Layers(chain)) if machine.snapshots.are_of(chain) => {
            let from = snapshot.map_or(Some(chain.current), |s| chain.of(s))?;
            Some(chain.seen(from))
        }
        _ => view.loads.machines.get(&machine.id)?.disk.map(|d| d.used),
    }?;
    Some(own + beneath.unwrap_or_default())
}

impl Original {
    /// How long a host copies; none where its uplinks have no known speed.
    pub fn time(&self, via: &Host, to: VolumeId) -> Option<Span> {
        let rate = rate(via, self.volume, to);
        (rate.0 > 0).then(|| Span::millis(round(self.bytes.as_f64() / (rate.0 as f64) * 1000.0)))
    }

    /// The same disks with keys of their own, on a volume; `salt` tells copies of one run apart.
    pub fn disks_on(&self, to: VolumeId, salt: u64) -> Vec<Disk> {
        let disk = |(n, d): (u64, &Disk)| Disk {
            key: draw_uuid(salt, n, d.key.as_u64_pair().1),
            volume: to,
            ..*d
        };
        (1u64..).zip(&self.disks).map(disk).collect()
    }

    /// What is copied, and how long that takes.
    pub fn said(&self, name: &str, time: Option<Span>) -> Vec<Finding> {
        let mut found = Vec::new();
        let about = time.map_or_else(
            || "a time that is not known".to_owned(),
            |t| format!("about {t}"),
        );
        if self.known {
            let text = format!("{} of {} are copied in {about}.", self.bytes, self.words);
            found.push(Finding::clear(Rule::Disk, name, text));
        } else {
            let text = format!(
                "How much {} holds was not told; at most {} are copied, in {about}.",
                self.words, self.bytes
            );
            found.push(Finding::unchecked(Rule::Disk, name, text));
        }
        if time.is_none() {
            let text = "The uplinks to the volume have no known speed; how long copying takes is not known.";
            found.push(Finding::unchecked(Rule::Storage, name, text));
        }
        found
    }
}
