//! The checks before a machine is put back to a recovery point (rules, section 17).

use super::{Draft, PutBack, Step};
use crate::{
    copying::Line,
    estate::{Disk, Kept, Machine, MachineState, StoredPoint},
    finding::{Finding, Rule},
    ids::draw_uuid,
    moment::Span,
    placement,
    rooms::{
        carrying::{self, Placed},
        machines::{self, AfterGrace, PowerAct},
        snapshots::{self, Quiet, Take},
    },
    units::Bytes,
};
use std::sync::Arc;

/// So long its guest may take to stop.
const GRACE: Span = Span::mins(3);
/// What it held is kept for so long.
const KEPT: Span = Span::days(7);

pub(super) fn put_back(draft: &mut Draft<'_>, ask: &PutBack) {
    "Put a machine back".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(ask.machine).cloned().filter(|m| draft.knows(m) && draft.is_own(m, "machine")) else { return };
    let name = &machine.name;
    let stop = |rule, field: &str, text: String| Finding::stop(rule, name, text).at(field);
    let Some((at, point)) = draft.point(ask.point) else { return };
    draft.title = format!("Put {name} back to {} UTC", point.taken.stamp());
    if at.machine != machine.uuid {
        let text = format!("That is a point of another machine; {name} is not put back to it.");
        return draft.found(stop(Rule::Exists, "point", text).remedy("Give it disks of that point, or make a machine of it."));
    }
    if machine.deleted.is_some() || machine.arriving.is_some() || machine.state == MachineState::Planned {
        let text = format!("{name} is being made or moved, or was deleted.");
        return draft.found(stop(Rule::State, "machine", text));
    }
    let kept = match crate::copying::kept(draft.view, at, draft.now) {
        Ok(kept) => kept.clone(),
        Err(why) => return draft.found(why.at("point")),
    };
    let Some(placed) = matched(draft, &machine, &kept) else { return };
    let Some(via) = draft.at_home(&machine, "machine") else { return };
    let (bytes, line) = (kept.held(), Line::to(draft.estate(), at.store));
    let home = machine.disks.first().and_then(|d| draft.estate().volumes.get(&d.volume)).cloned();
    let Some(home) = home else { return };
    draft.found(placement::more(&home, bytes, "point"));
    let text = format!("{bytes} come from the store while {name} goes on as it is; then it stands still until they are in place, which takes no copying.");
    draft.found(Finding::clear(Rule::Disk, name, text).because(line.because(bytes)));
    lost(draft, ask, &machine, &point);
    let number = draft.number();
    let delivery = draw_uuid(draft.run().0, number, draft.now.0.unsigned_abs());
    let (machine_id, volume) = (machine.id, home.id);
    let brought = carrying::Step::Bring {
        machine: machine_id,
        via,
        volume,
        delivery,
        point: at,
        disks: placed.iter().map(|p| p.from).collect(),
        time: line.time(bytes),
    };
    let place = carrying::Step::Place {
        machine: machine_id,
        via,
        volume,
        delivery,
        point: at,
        disks: placed,
    };
    let brought = draft.step(Step::Carry(brought), format!("Bring {bytes} of {name}"), &[], Some("point"));
    in_place(draft, ask, &machine, place, brought);
}

/// Stopped where it is on, kept, put in place, started where it was on.
fn in_place(draft: &mut Draft<'_>, ask: &PutBack, machine: &Arc<Machine>, place: carrying::Step, brought: usize) {
    let name = &machine.name;
    let mut after = vec![brought];
    let mut start = Vec::new();
    if !machine.is_off() {
        let mut part = draft.beside::<machines::Step>(draft.view);
        let restart = PowerAct::Restart { grace: GRACE, then: AfterGrace::PowerOff };
        machines::power(&mut part, &[machine.id], restart);
        draft.found_all(part.findings().to_vec());
        let steps: Vec<machines::Step> = part.planned().cloned().collect();
        let (up, down): (Vec<_>, Vec<_>) = steps.into_iter().partition(|s| {
            matches!(s, machines::Step::Start { .. } | machines::Step::AwaitGuest { .. })
        });
        for step in down {
            let words = match matches!(step, machines::Step::AskStop { .. }) {
                true => format!("Ask {name} to stop"),
                false => format!("Wait until {name} is off"),
            };
            after = vec![draft.step(Step::Power(step), words, &after, None)];
        }
        start = up;
    }
    if ask.keep {
        after = keep(draft, machine, &after);
    }
    after = vec![draft.step(Step::Carry(place), format!("Put the disks of {name} back"), &after, Some("point"))];
    for step in start {
        let words = match matches!(step, machines::Step::Start { .. }) {
            true => format!("Power on {name}"),
            false => format!("Wait until {name} answers"),
        };
        after = vec![draft.step(Step::Power(step), words, &after, None)];
    }
}

/// A snapshot of what it holds now; the steps after which it is there.
fn keep(draft: &mut Draft<'_>, machine: &Arc<Machine>, after: &[usize]) -> Vec<usize> {
    let mut part = draft.beside::<snapshots::Step>(draft.view);
    let take = Take {
        machines: vec![machine.id],
        name: "before it was put back".into(),
        note: Default::default(),
        quiet: Quiet::No,
        memory: false,
        together: false,
        ends: Some(KEPT),
    };
    snapshots::take(&mut part, &take);
    let said = part.findings().iter().filter(|f| f.stops() || f.rule != Rule::Content);
    draft.found_all(said.cloned().collect::<Vec<_>>());
    let steps: Vec<snapshots::Step> = part.planned().cloned().collect();
    let words = format!("Keep what {} holds now", machine.name);
    steps.into_iter().map(|step| draft.step(Step::Snap(step), words.clone(), after, Some("keep"))).collect()
}

/// Which disk of the point goes onto which of the machine; what fits nothing is said.
fn matched(draft: &mut Draft<'_>, machine: &Machine, kept: &Kept) -> Option<Vec<Placed>> {
    let name = &machine.name;
    let mut placed = Vec::new();
    for (n, d) in (1..).zip(&kept.disks) {
        let onto: Option<Disk> = machine.disk(d.key).map(|(_, disk)| *disk);
        match onto {
            Some(onto) if onto.size < d.size => {
                let text = format!("Disk {n} had {}, now it has {}.", d.size, onto.size);
                draft.found(Finding::stop(Rule::Disk, name, text).at("point").remedy("Make a machine of the point instead."));
            }
            Some(onto) => {
                if onto.size > d.size {
                    let text = format!("Disk {n} of {name} had {} then; it keeps its {}, and nothing is on what came since.", d.size, onto.size);
                    draft.found(Finding::mind(Rule::Disk, name, text).at("point"));
                }
                placed.push(Placed { from: d.key, onto, new: false });
            }
            None => {
                let text = format!("{name} has no more the disk of {} that was its disk {n}; it stays in the store.", d.size);
                let mind = Finding::mind(Rule::Disk, name, text).at("point");
                draft.found(mind.remedy("Give it that disk of the point as one more."));
            }
        }
    }
    let since = machine.disks.iter().filter(|d| !kept.disks.iter().any(|k| k.key == d.key)).count();
    if since > 0 {
        let text = format!("{since} of its disks are not in the point; they stay as they are.");
        draft.found(Finding::mind(Rule::Disk, name, text).at("point"));
    }
    if placed.is_empty() {
        let text = format!("Nothing in the point is a disk that {name} has.");
        draft.found(Finding::stop(Rule::Disk, name, text).at("point").remedy("Make a machine of the point instead."));
        return None;
    }
    Some(placed)
}

/// What its disks hold no more afterwards.
fn lost(draft: &mut Draft<'_>, ask: &PutBack, machine: &Machine, point: &StoredPoint) {
    let name = &machine.name;
    let since = draft.now.since(point.taken);
    let most: Option<Bytes> = carrying::changed(draft, machine, since);
    let wrote = match most {
        Some(most) => format!("what it wrote in the {since} since, {most} at most,"),
        None => format!("what it wrote in the {since} since, how much nobody measured,"),
    };
    if ask.keep {
        let text = format!("Of the disks of {name} {wrote} is gone; it stays for {KEPT} in a snapshot, to which one can go back.");
        return draft.found(Finding::mind(Rule::Deleted, name, text).at("keep"));
    }
    let text = format!("Of the disks of {name} {wrote} is gone, and there is no way back.");
    draft.found(Finding::mind(Rule::Deleted, name, text).at("keep"));
    if ask.typed.trim() != name {
        let text = format!("Type the machine's name to confirm: {name}.");
        draft.found(Finding::stop(Rule::Name, name, text).at("typed"));
    }
}
