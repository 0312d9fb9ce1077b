//! When each stage begins and is over: machines are powered on by their hosts, so many at once as a host is given calls, then each boots.

use super::{Ahead, Bound};
use crate::{
    estate::{Machine, RecoveryPlan, Stage, Then},
    ids::HostId,
    moment::Span,
    runs::{GUEST_ANSWERS, LANES},
    view::View,
};
use std::collections::BTreeMap;

/// What a call that powers on is thought to take.
const POWER_ON: (&str, Span) = ("power on", Span::secs(1));
/// What a command in a guest is thought to take.
const COMMAND: Span = Span::secs(1);

/// From a power-on until the guest answers, as it was when a copy of this replica was booted last; else as guests do here.
pub fn boots(view: &View, replica: Option<&Machine>) -> (Span, bool) {
    let proofs = replica
        .into_iter()
        .flat_map(Machine::replicated)
        .filter_map(|p| p.proof.as_ref());
    let last = proofs.filter(|p| p.is_good()).max_by_key(|p| p.at);
    match last {
        Some(proof) => (proof.booted, true),
        None => (view.pace.expect(GUEST_ANSWERS.0, GUEST_ANSWERS.1), false),
    }
}

/// Each stage after the one before.
pub(super) fn laid(view: &View, plan: &RecoveryPlan, stages: Vec<Vec<Bound>>) -> Vec<Ahead> {
    let mut from = Span(0);
    let mut all = Vec::new();
    for (stage, machines) in plan.stages.iter().zip(stages) {
        let then: Vec<(String, Span, bool)> = stage.then.iter().map(|t| between(view, t)).collect();
        let after = Span(then.iter().map(|(_, time, _)| time.0).sum());
        let to = from.plus(booted(view, stage, &machines)).plus(after);
        all.push(Ahead {
            name: stage.name.clone(),
            from,
            to,
            machines,
            then,
        });
        from = to;
    }
    all
}

fn between(view: &View, then: &Then) -> (String, Span, bool) {
    let (time, asks) = match then {
        Then::Confirm { .. } => (Span(0), true),
        Then::Pause { time } => (*time, false),
        Then::Run { .. } => (COMMAND, false),
    };
    (then.words(&view.estate), time, asks)
}

/// All in turn, or list scheduling: each host is given [`LANES`] calls at once, longest boots first.
fn booted(view: &View, stage: &Stage, machines: &[Bound]) -> Span {
    let call = view.pace.expect(POWER_ON.0, POWER_ON.1);
    if stage.in_turn {
        let each = machines.iter().map(|b| call.plus(b.boots).0);
        return Span(each.sum());
    }
    let mut by_host: BTreeMap<Option<HostId>, Vec<Span>> = BTreeMap::new();
    for b in machines {
        by_host.entry(b.host).or_default().push(b.boots);
    }
    let mut last = Span(0);
    for boots in by_host.values_mut() {
        boots.sort_unstable_by_key(|b| std::cmp::Reverse(*b));
        for (n, boot) in boots.iter().enumerate() {
            let turn = u64::try_from(n / LANES + 1).unwrap_or(u64::MAX);
            last = last.max(Span(call.0.saturating_mul(turn)).plus(*boot));
        }
    }
    last
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The bound of any schedule: no stage is over before its longest boot, nor later than all of them in turn.
    #[test]
    fn together_is_never_longer_than_in_turn() {
        let small = crate::testkit::read(
            "cluster eider\nhost 1 64\nmachine 7 db 4 on 1\nmachine 8 web 4 on 1",
        );
        let view = &small.view;
        let bound = |id: u64, secs: u64| Bound {
            machine: view.estate.machines[&crate::ids::MachineId(id)].clone(),
            replica: None,
            point: None,
            host: Some(HostId(1)),
            boots: Span::secs(secs),
            measured: true,
            proven: None,
        };
        let stage = |in_turn| Stage {
            name: "one".into(),
            named: vec![],
            who: None,
            in_turn,
            limit: Span::mins(5),
            then: vec![],
        };
        let all = [bound(7, 20), bound(8, 30)];
        assert_eq!(booted(view, &stage(false), &all), Span::secs(31));
        assert_eq!(booted(view, &stage(true), &all), Span::secs(52));
        let many: Vec<Bound> = (0..9).map(|_| bound(7, 20)).collect();
        assert_eq!(
            booted(view, &stage(false), &many),
            Span::secs(23),
            "four calls at once: three rounds"
        );
        assert_eq!(booted(view, &stage(false), &[]), Span(0));
    }
}
