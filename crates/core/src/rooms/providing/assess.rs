//! The checks before a volume is made for machines that find none (rules, section 16: made, connected, in the same run).

use super::{Draft, Event, Provide, Step};
use crate::{
    estate::{Backing, Estate, Fact, Provisioning, Volume},
    finding::{Finding, Rule},
    moment::Moment,
    rooms::{
        machines::{self, CreateMachines},
        storage::{self, ConnectVolume, VolumeSource},
    },
    road::Ask as _,
    units::Bytes,
};
use std::sync::Arc;

/// Of a volume so much stays free (rules, section 2), in hundredths.
const FREE: u64 = 15;

/// The size that a volume for these machines has if nobody says otherwise: what their disks may come to hold, and what stays free,
/// in whole GiB.
pub fn usual(machines: &CreateMachines) -> Bytes {
    let each: u64 = machines.disks.iter().map(|d| d.size.0).sum();
    let all = u128::from(each) * u128::from(machines.count.max(1)) * 100;
    let bytes = all.div_ceil(u128::from(100 - FREE));
    let gib = bytes.div_ceil(1 << 30).max(1);
    Bytes::gib(u64::try_from(gib).unwrap_or(u64::MAX >> 30))
}

pub(super) fn provide(draft: &mut Draft<'_>, ask: &Provide) {
    let wish = ConnectVolume {
        array: ask.array,
        source: VolumeSource::New {
            pool: ask.pool.clone(),
            size: ask.size,
            provisioning: Provisioning::Thin,
        },
        name: ask.name.clone(),
        cluster: ask.machines.cluster,
        hosts: None,
        typed: Default::default(),
    };
    let mut part = draft.beside::<storage::Step>(draft.view);
    storage::Ask::ConnectVolume(wish).assess(&mut part);
    let mut estate = (*draft.view.estate).clone();
    part.in_estate(&mut estate);
    let made = part.intents().find_map(planned);
    let steps = draft.take_in(part, &[], in_the_sheet, (Step::Storage, Event::Storage));
    let Some(made) = made else {
        // What is wrong with the machines is said as well.
        return alone(draft, ask);
    };
    there(&mut estate, ask, &made, draft.now);
    let view = draft.view.with(estate);
    let mut part = draft.beside::<machines::Step>(&view);
    let on_it = CreateMachines {
        volume: Some(made.id),
        ..ask.machines.clone()
    };
    machines::create(&mut part, &on_it);
    let after: Vec<usize> = steps.last().into_iter().collect();
    let title = part.title.clone();
    draft.take_in(part, &after, |f| f, (Step::Machine, Event::Machine));
    draft.title = format!("{title}, on the new volume {}", made.name);
}

fn planned(event: &storage::Event) -> Option<Volume> {
    let storage::Event::VolumePlanned(volume) = event else { return None };
    Some((**volume).clone())
}

/// In the sheet of machines there are other fields.
fn in_the_sheet(finding: Finding) -> Finding {
    let field = match finding.field.as_deref() {
        Some("name") => "volume_name",
        Some("size") => "volume_size",
        Some("cluster") => "cluster",
        Some(_) => "volume",
        None => return finding,
    };
    finding.at(field)
}

fn alone(draft: &mut Draft<'_>, ask: &Provide) {
    let mut part = draft.beside::<machines::Step>(draft.view);
    machines::create(&mut part, &ask.machines);
    // Not what the volumes that are there lack.
    let theirs = |f: &Finding| matches!(f.rule, Rule::VolumeRoom | Rule::VolumeReserve | Rule::Storage);
    part.leave_out(|f| f.field.as_deref() != Some("volume") && !theirs(f));
    draft.title = part.title.clone();
    draft.take_in(part, &[], |f| f, (Step::Machine, Event::Machine));
}

/// The volume as it is when its part of the run is done: made, served as its pool is, on all hosts by all ways.
fn there(estate: &mut Estate, ask: &Provide, planned: &Volume, now: Moment) {
    let Some(array) = ask.array.and_then(|a| estate.arrays.get(&a)).cloned() else { return };
    let volume = Volume {
        ready: true,
        backing: Some(Backing {
            array: array.id,
            lun: String::new(),
            pool: ask.pool.trim().to_owned(),
        }),
        ..planned.clone()
    };
    estate.connect(&volume);
    estate.put(Fact::Array(Arc::new(array.serving(volume.id, ask.pool.trim(), now))));
    estate.put(Fact::Volume(volume.into()));
}
