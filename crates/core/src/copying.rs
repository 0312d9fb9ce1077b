//! How fast a host copies what lies on volumes, and what a copy of a machine or of a version is of.

use crate::{
    estate::{
        AnyPoint, Disk, Firmware, Holds, Host, Machine, Parent, PointAt, Provisioning, Version,
    },
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::{ImageId, MachineId, TemplateId, VolumeId, draw_uuid},
    migration::bandwidth,
    moment::{Moment, Span},
    ovf::{self, Package, RAW},
    units::{Bytes, Rate, round},
    view::View,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

mod point;

pub use point::{Line, kept};

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

/// Why its disks can't be written now: field and words.
pub fn rests(machine: &Machine) -> Option<(&'static str, String)> {
    let name = &machine.name;
    if !machine.is_off() {
        return Some(("machine", format!("{name} is on; power it off first.")));
    }
    if machine.arriving.is_some() || machine.deleted.is_some() {
        return Some(("machine", format!("{name} is being moved, or was deleted.")));
    }
    if !machine.snapshots.is_empty() {
        return Some((
            "machine",
            format!(
                "{name} has snapshots, which hold earlier states of the same disk; delete them first."
            ),
        ));
    }
    machine.parent.is_some().then(|| {
        (
            "machine",
            format!("The disks of {name} lie on a template; make it whole first."),
        )
    })
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
    /// A machine in an archive.
    Package {
        image: ImageId,
    },
    /// A machine in a recovery point.
    Point(PointAt),
}

/// Where the bytes of a copy come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whence {
    Volume(VolumeId),
    /// A store outside, over a line of its own.
    Store(Line),
}

/// What is read for a copy.
#[derive(Debug, Clone, PartialEq)]
pub struct Original {
    pub from: Whence,
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
    /// Disks that it shares with others; no copy holds them.
    pub shared: Vec<String>,
    /// What it boots with; none: that is not known.
    pub firmware: Option<Box<Firmware>>,
}

impl From<AnyPoint> for Source {
    /// What a machine that is made of it is a copy of.
    fn from(point: AnyPoint) -> Source {
        match point {
            AnyPoint::Stored(at) => Source::Point(at),
            AnyPoint::Replicated { replica, session } => Source::Machine {
                machine: replica,
                snapshot: Some(session),
            },
        }
    }
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
            Source::Machine { machine, snapshot } => {
                let original = of_machine(view, machine, snapshot)?;
                let machine = view.estate.machines.get(&machine);
                let held = machine.and_then(|m| held(view, m, snapshot, now));
                Ok(Original {
                    bytes: held.unwrap_or(original.bytes),
                    known: held.is_some(),
                    ..original
                })
            }
            Source::Package { image } => of_package(view, image, now),
            Source::Point(at) => point::resolve(view, at, now),
        }
    }

    /// The same without how much of its disks is written: for showing what it is.
    ///
    /// # Errors
    /// As [`Source::resolve`].
    pub fn shown(self, view: &View, now: Moment) -> Result<Original, Finding> {
        match self {
            Source::Machine { machine, snapshot } => of_machine(view, machine, snapshot),
            Source::Template { .. } | Source::Package { .. } | Source::Point(_) => {
                self.resolve(view, now)
            }
        }
    }
}

/// What an archive describes, if it was looked through.
///
/// # Errors
/// What is wrong with it, or that nobody looked yet.
pub fn package(view: &View, id: ImageId, now: Moment) -> Result<&Package, Finding> {
    let stop = |rule, text: String| Err(Finding::stop(rule, "archive", text));
    let Some(image) = view.estate.images.get(&id) else {
        return stop(Rule::Exists, "The archive is gone.".into());
    };
    let name = &image.name;
    if image.holds != Holds::Package {
        return stop(
            Rule::Content,
            format!(
                "{name} is no machine in an archive: {}.",
                image.holds.word()
            ),
        );
    }
    if !image.ready {
        return stop(Rule::State, format!("{name} is not whole yet."));
    }
    match view.evidence.fresh(&Probe::Package(id), now) {
        Some(Answer::Package(package)) => Ok(package),
        Some(Answer::Refused { why }) => {
            stop(Rule::Content, format!("{name} can't be taken: {why}."))
        }
        Some(Answer::Silent { why }) => {
            let why = why.trim_end_matches('.');
            stop(
                Rule::Reachable,
                format!("{name} could not be looked through: {why}."),
            )
        }
        _ => stop(
            Rule::Reachable,
            format!("{name} has not been looked through yet."),
        ),
    }
}

fn of_package(view: &View, id: ImageId, now: Moment) -> Result<Original, Finding> {
    let package = package(view, id, now)?;
    let name = view
        .estate
        .images
        .get(&id)
        .map_or_else(String::new, |i| i.name.clone());
    let volume = view
        .estate
        .images
        .get(&id)
        .map_or(VolumeId(0), |i| i.volume);
    let system = package.descriptor.system(None);
    if let Some(odd) = system
        .disks
        .iter()
        .find(|d| d.file.is_some() && d.format != RAW)
    {
        let text = format!(
            "{name}: its disk {} is of the format “{}”, which no host here reads.",
            odd.id, odd.format
        );
        return Err(Finding::stop(Rule::Disk, &name, text));
    }
    if system.disks.is_empty() {
        let text = format!("{name}: it describes a machine without disks.");
        return Err(Finding::stop(Rule::Disk, &name, text));
    }
    let disk = |d: &ovf::Disk| Disk {
        key: Uuid::nil(),
        size: d.capacity,
        provisioning: Provisioning::Thin,
        volume,
    };
    let disks: Vec<Disk> = system.disks.iter().map(disk).collect();
    Ok(Original {
        from: Whence::Volume(volume),
        bytes: disks.iter().map(|d| d.size).sum(),
        known: false,
        thick: Bytes::ZERO,
        disks,
        words: name,
        running: false,
        shared: vec![],
        firmware: None,
    })
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
        from: Whence::Volume(version.volume),
        disks: version.disks.clone(),
        bytes: version.takes,
        known: true,
        thick: thick(&version.disks),
        words: called,
        running: false,
        shared: vec![],
        firmware: version.firmware.clone(),
    })
}

fn of_machine(view: &View, id: MachineId, snapshot: Option<Uuid>) -> Result<Original, Finding> {
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
    let whole: Bytes = disks.iter().map(|d| d.size).sum();
    Ok(Original {
        from: Whence::Volume(volume),
        bytes: whole,
        known: false,
        thick: thick(&disks),
        disks,
        words,
        running: snapshot.is_none() && !machine.is_off(),
        shared: view.estate.clustered(machine),
        firmware: machine.firmware.clone(),
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
    /// The volume that it lies on, if it lies on one.
    pub fn volume(&self) -> Option<VolumeId> {
        match self.from {
            Whence::Volume(volume) => Some(volume),
            Whence::Store(_) => None,
        }
    }

    /// How long a host copies; none where its uplinks have no known speed.
    pub fn time(&self, via: &Host, to: VolumeId) -> Option<Span> {
        let rate = match self.from {
            Whence::Volume(from) => rate(via, from, to),
            Whence::Store(line) => line.rate,
        };
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

    /// What no copy of it holds.
    pub fn left_out(&self) -> Option<Finding> {
        if self.shared.is_empty() {
            return None;
        }
        let (words, shared) = (&self.words, self.shared.join(" and "));
        let text =
            format!("{words} shares {shared} with other machines; only its own disks are copied.");
        Some(Finding::mind(Rule::Content, words, text))
    }

    /// What is copied, and how long that takes.
    pub fn said(&self, name: &str, time: Option<Span>) -> Vec<Finding> {
        let mut found: Vec<Finding> = self.left_out().into_iter().collect();
        let about = time.map_or_else(
            || "a time that is not known".to_owned(),
            |t| format!("about {t}"),
        );
        if let Whence::Store(line) = self.from {
            let text = format!("{} of {} come from its store.", self.bytes, self.words);
            let clear = Finding::clear(Rule::Disk, name, text);
            found.push(clear.because(line.because(self.bytes)));
        } else if self.known {
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
