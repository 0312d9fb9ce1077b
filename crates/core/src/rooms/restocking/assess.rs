//! What is due at a pool, as one plan (rules, section 14).

use super::{Draft, Event, Step};
use crate::{
    copying::Source,
    estate::{Machine, Memory, OfPool, SparePool, Version},
    finding::{Finding, Rule},
    ids::{MachineId, SparePoolId},
    rooms::{
        machines::{self, Copied, CreateMachines, NewDisk, NewNic, PowerAct},
        spares,
    },
    spares::{due, names},
};
use std::sync::Arc;

pub(super) fn follow(draft: &mut Draft<'_>, id: SparePoolId) {
    "Bring a pool to what it shall be".clone_into(&mut draft.title);
    let Some(pool) = draft.estate().spare_pools.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "pool", "The pool is gone."));
    };
    let name = &pool.name;
    let due = due(draft.estate(), &pool);
    draft.title = match (due.make, due.away.len()) {
        (0, n) => format!("Throw away {n} of pool {name}"),
        (n, 0) => format!("Make {n} spares of pool {name}"),
        (n, m) => format!("Make {n} spares of pool {name}, throw away {m}"),
    };
    if due.is_nothing() {
        let text = format!("{name} has all that it shall have.");
        return draft.found(Finding::stop(Rule::Nothing, name, text));
    }
    draft.intend(Event::Pool(spares::Event::Followed {
        pool: id,
        make: due.make,
        away: due.away.len(),
    }));
    if due.away_first {
        let gone = away(draft, &due.away, &[]);
        make(draft, &pool, due.make, &gone);
    } else {
        let made = make(draft, &pool, due.make, &[]);
        // What nobody has any more needn't wait for what is new.
        away(draft, &due.away, &made);
    }
}

/// Answers the steps after which they are there.
fn make(draft: &mut Draft<'_>, pool: &SparePool, count: u32, after: &[usize]) -> Vec<usize> {
    if count == 0 {
        return vec![];
    }
    let version = draft.estate().templates.get(&pool.template).and_then(|t| t.newest()).cloned();
    let Some(version) = version else { return vec![] };
    let pattern = match names(draft.estate(), &pool.pattern, count) {
        Ok(pattern) => pattern,
        Err(words) => {
            draft.found(Finding::stop(Rule::Name, &pool.name, words));
            return vec![];
        }
    };
    let mut part = draft.beside::<machines::Step>(draft.view);
    machines::create(&mut part, &asked(pool, &version, pattern, count));
    let of = OfPool { pool: pool.id, version: version.number, held: None, back: false };
    let tag = move |event: machines::Event| {
        let machines::Event::Planned(machine) = event else {
            return Event::Machine(event);
        };
        let of_pool = Some(Box::new(of.clone()));
        Event::Machine(machines::Event::Planned(Box::new(Machine { of_pool, ..*machine })))
    };
    draft.take_in(part, after, |f| f, (Step::Machine, tag)).collect()
}

fn asked(pool: &SparePool, version: &Version, pattern: String, count: u32) -> CreateMachines {
    let disk = |d: &crate::estate::Disk| NewDisk { size: d.size, provisioning: d.provisioning };
    CreateMachines {
        pledge: None,
        pattern: pattern.into(),
        count,
        cluster: Some(pool.cluster),
        qualities: Default::default(),
        volume: pool.dependent.then_some(version.volume),
        host: None,
        vcpus: pool.vcpus,
        memory: Memory { kept: pool.memory, size: pool.memory, max: pool.memory },
        disks: version.disks.iter().map(disk).collect(),
        nics: pool.networks.iter().map(|n| NewNic { network: *n, address: None }).collect(),
        copied: Some(Copied {
            source: Source::Template { template: pool.template, version: version.number },
            dependent: pool.dependent,
            seal: false,
        }),
        taken: None,
        firmware: Default::default(),
        image: None,
        first_boot: None,
        document: pool.document.or(version.first_boot),
        labels: [("pool".into(), pool.name.as_str().into())].into(),
        tier: 4,
        protected: false,
        apart: false,
        note: Default::default(),
        start: true,
    }
}

/// Off, deleted and removed for good; answers the last step of each.
fn away(draft: &mut Draft<'_>, ids: &[MachineId], after: &[usize]) -> Vec<usize> {
    let all: Vec<Arc<Machine>> = ids.iter().filter_map(|id| draft.estate().machines.get(id)).cloned().collect();
    let mut last = Vec::new();
    for machine in all {
        if !draft.knows(&machine) || stays(draft, &machine) {
            continue;
        }
        let given = machine.of_pool.as_ref().is_some_and(|of| of.held.is_some());
        let waits: &[usize] = if given { &[] } else { after };
        last.extend(thrown(draft, &machine, waits));
    }
    last
}

/// Somebody keeps it from being thrown away.
fn stays(draft: &mut Draft<'_>, machine: &Machine) -> bool {
    let name = &machine.name;
    let why = if machine.protected {
        "it is protected from deletion"
    } else if machine.is_node() {
        "it shares a disk with other machines"
    } else {
        return false;
    };
    draft.found(Finding::stop(Rule::Protected, name, format!("{name} can't be thrown away: {why}.")));
    true
}

fn thrown(draft: &mut Draft<'_>, machine: &Machine, after: &[usize]) -> Option<usize> {
    let (id, name) = (machine.id, &machine.name);
    let mut waits = after.to_vec();
    if !machine.is_off() {
        let mut part = draft.beside::<machines::Step>(draft.view);
        machines::power(&mut part, &[id], PowerAct::Off);
        waits = draft.take_in(part, after, |f| f, (Step::Machine, Event::Machine)).collect();
    }
    let via = draft.via(machine)?;
    let delete = Step::Machine(machines::Step::Delete { machine: id, via });
    let deleted = draft.step(delete, format!("Delete {name}"), &waits, None);
    let purge = Step::Machine(machines::Step::Purge { machine: id, via });
    Some(draft.step(purge, format!("Remove {name} for good"), &[deleted], None))
}
