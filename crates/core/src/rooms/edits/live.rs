//! What of a change counts at once for a machine that is on, and what waits for its next start (rules, section 12).

use super::{Draft, Set, Step};
use crate::{
    estate::{Machine, MachineState, Memory, Now},
    finding::{Finding, Rule},
    ids::HostId,
    units::Bytes,
};

/// Memory is added in pieces of this.
const PIECE: Bytes = Bytes::gib(1);

/// What counts at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
struct AtOnce {
    vcpus: Option<u32>,
    memory: Option<Bytes>,
}

/// Why something waits.
fn memory_waits(machine: &Machine, now: &Now, size: Bytes) -> Option<String> {
    let guest = machine.state == MachineState::Running { guest: true };
    if size < now.memory.size {
        Some("memory is never taken from a guest that runs".into())
    } else if size > now.memory.max {
        Some(format!("it was started so that it may grow to {}", now.memory.max))
    } else if !guest {
        Some("its guest agent does not answer".into())
    } else if !machine.grows.memory {
        Some("its guest can't take memory while it runs".into())
    } else if !size.less(now.memory.size).0.is_multiple_of(PIECE.0) {
        Some(format!("memory is added in steps of {PIECE}"))
    } else {
        None
    }
}

fn vcpus_wait(machine: &Machine, now: &Now, vcpus: u32) -> Option<String> {
    let guest = machine.state == MachineState::Running { guest: true };
    if vcpus < now.vcpus {
        Some("vCPUs are never taken from a guest that runs".into())
    } else if vcpus > now.most_vcpus() {
        Some(format!("it was started so that it may grow to {}", now.most_vcpus()))
    } else if !guest {
        Some("its guest agent does not answer".into())
    } else if !machine.grows.vcpus {
        Some("its guest can't take vCPUs while it runs".into())
    } else {
        None
    }
}

/// Says of each size when it counts; answers what its host must be told after the record.
pub(super) fn resize(draft: &mut Draft<'_>, machine: &Machine, sets: &[Set], rewrite: Option<(usize, HostId)>) {
    let mut then = machine.clone();
    sets.iter().for_each(|s| s.on_machine(&mut then));
    let now = machine.runs_with();
    let name = &machine.name;
    let mut at_once = AtOnce::default();
    // Another host can write its record; only its own can give it anything.
    let own = rewrite.is_some_and(|(_, via)| machine.host == Some(via));
    let apart = || (!own).then(|| "its host takes no orders now".to_owned());
    let mut said = |what: String, waits: Option<String>| match waits {
        None => draft.found(Finding::clear(Rule::State, name, format!("{what} at once, while {name} runs."))),
        Some(why) => {
            let text = format!("{what} when {name} starts next: {why}.");
            let mind = Finding::mind(Rule::State, name, text).at("memory");
            draft.found(mind.remedy("Restart it when that suits, or withdraw the change on its page."));
        }
    };
    let Memory { kept, size, max } = then.memory;
    if size != now.memory.size && size != machine.memory.size {
        let waits = memory_waits(machine, &now, size).or_else(apart);
        at_once.memory = waits.is_none().then_some(size);
        said(format!("{} of memory instead of {} count", size, now.memory.size), waits);
    }
    if kept != machine.memory.kept {
        let waits = (kept > now.memory.size.max(at_once.memory.unwrap_or_default())).then(|| format!("it runs with {}", now.memory.size));
        said(format!("{kept} always kept count"), waits);
    }
    if max != machine.memory.max && max != now.memory.max {
        said(format!("Memory that may grow to {max} counts"), Some("what it may grow to is set when it starts".into()));
    }
    if then.vcpus != now.vcpus && then.vcpus != machine.vcpus {
        let waits = vcpus_wait(machine, &now, then.vcpus).or_else(apart);
        at_once.vcpus = waits.is_none().then_some(then.vcpus);
        said(format!("{} vCPUs instead of {} count", then.vcpus, now.vcpus), waits);
    }
    let most = then.most_vcpus();
    if most != machine.most_vcpus() && most != now.most_vcpus() && most > then.vcpus {
        said(format!("vCPUs that may grow to {} count", then.most_vcpus()), Some("what it may grow to is set when it starts".into()));
    }
    draft.fits(machine, &then, "memory");
    if at_once != AtOnce::default()
        && let Some((written, via)) = rewrite
    {
        let step = Step::Grow {
            machine: machine.id,
            via,
            vcpus: at_once.vcpus,
            memory: at_once.memory,
        };
        draft.step(step, format!("Give it to {name} while it runs"), &[written], Some("memory"));
    }
}
