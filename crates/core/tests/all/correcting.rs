//! What a failed step was given is corrected in its run: what rests on it is done again, and nothing else.

use crate::{
    bare,
    networking::{PLAIN, create, fixture},
    put,
};
use std::collections::BTreeSet;
use zastrugi_core::{
    ids::RunId,
    road::{Correction, Given, Input, Uncorrected, correct, correctable},
    rooms::{
        Event, Proposal, Step,
        building::{self, Ask},
        installing, networks,
    },
    runs::{Fault, FaultKind, Phase, RunState},
    testkit::Small,
};

/// A run whose steps were all done as far as they could be, but those that `fails` names.
fn play(small: &mut Small, ask: &Proposal, fails: impl Fn(&Step) -> bool) -> RunId {
    let accepted = put(small, ask).accept().unwrap();
    let (run, _) = small.begin(accepted);
    loop {
        let now = small.view.runs.get(run).unwrap().clone();
        let plan = small.plans[&run].clone();
        let Some((step, _)) = now.in_phase(Phase::Running).next() else {
            return run;
        };
        let input = if fails(&plan.steps[step].step) {
            Input::Failed {
                step,
                fault: Fault::new(FaultKind::Refused, "no", "ask"),
            }
        } else {
            Input::Succeeded {
                step,
                said: String::new(),
            }
        };
        small.tell(run, input);
    }
}

fn open(small: &Small, run: RunId) -> Vec<(usize, Vec<Given>)> {
    let (now, plan) = (small.view.runs.get(run).unwrap(), &small.plans[&run]);
    correctable(&small.view, plan, now).into_iter().collect()
}

fn corrected(
    small: &mut Small,
    run: RunId,
    step: usize,
    typed: &[(&str, &str)],
) -> Result<Vec<Event>, Uncorrected> {
    let typed = typed
        .iter()
        .map(|(f, t)| ((*f).to_owned(), (*t).to_owned()));
    let correction = Correction {
        step,
        typed: typed.collect(),
        everywhere: true,
    };
    let events = correct(&small.view, &small.plans, run, &correction, small.now)?;
    small.fold(&events);
    Ok(events)
}

fn phases(small: &Small, run: RunId) -> Vec<Phase> {
    let run = small.view.runs.get(run).unwrap();
    run.steps().map(|s| s.phase).collect()
}

fn wrong(refused: Result<Vec<Event>, Uncorrected>, field: &str) -> String {
    match refused {
        Err(Uncorrected::Wrong(found)) => {
            let hit = found.iter().find(|f| f.field.as_deref() == Some(field));
            hit.map_or_else(|| format!("{found:?}"), |f| f.text.clone())
        }
        other => format!("{other:?}"),
    }
}

/// If this fails, a host keeps a network as it was planned first, or all of it is done once more.
#[test]
fn a_network_that_one_host_refuses_is_corrected_on_those_that_have_it() {
    let mut small = fixture(PLAIN);
    let fails = |step: &Step| matches!(step, Step::Networks(networks::Step::Set { host, .. }) if host.0 == 2);
    let run = play(&mut small, &create(|_| {}), fails);
    assert_eq!(small.view.runs.get(run).unwrap().state, RunState::NeedsYou);
    let before = phases(&small, run);
    let given = open(&small, run);
    let [(step, given)] = given.as_slice() else {
        panic!("{given:?}")
    };
    let names: Vec<_> = given.iter().map(|g| g.field).collect();
    assert_eq!(names, ["vlan", "mtu", "uplinks", "gateway"]);
    let mut no =
        |typed: &[(&str, &str)], field| wrong(corrected(&mut small, run, *step, typed), field);
    assert!(no(&[("mtu", "fast")], "mtu").contains("“fast” is no number"));
    assert!(no(&[("mtu", "90000")], "mtu").contains("An MTU is from 1280"));
    assert!(no(&[("vlan", "20,21")], "vlan").contains("is no VLAN"));
    assert!(no(&[("uplinks", "")], "uplinks").contains("Choose the uplinks"));
    assert!(no(&[("uplinks", "uplink-7")], "uplinks").contains("has no uplink uplink-7"));
    assert!(no(&[("gateway", "next door")], "gateway").contains("“next door” is no address"));
    assert!(no(&[("gateway", "192.0.2.1")], "gateway").contains("192.0.2.1"));
    assert!(no(&[], "vlan").contains("Nothing is changed"));
    assert_eq!(phases(&small, run), before, "nothing was touched");

    corrected(&mut small, run, *step, &[("mtu", "1400")]).unwrap();
    let now = small.view.runs.get(run).unwrap().clone();
    assert_eq!(now.state, RunState::Running);
    let network = small.view.estate.networks.values().next_back().unwrap();
    assert_eq!(network.mtu, 1400);
    for (n, planned) in small.plans[&run].steps.iter().enumerate() {
        let set = matches!(planned.step, Step::Networks(networks::Step::Set { .. }));
        let phase = now.phase(n).unwrap();
        assert_eq!(phase == Phase::Running, set, "{}: {phase:?}", planned.title);
    }
    // It goes on: to correct it now changes nothing.
    let late = corrected(&mut small, run, *step, &[("mtu", "1300")]);
    assert_eq!(late, Err(Uncorrected::Over));
}

/// If this fails, hosts that are installed are installed once more, or one stays with a gateway that was wrong for all.
#[test]
fn only_the_host_that_was_given_something_wrong_is_installed_again() {
    let sheet = bare::build(3);
    let mut small = bare::told(&sheet, |_, _| {});
    let ask = Proposal::Building(Ask::Build(Box::new(sheet)));
    let bare = |step: &Step| match step {
        Step::Building(building::Step::Bare(step)) => Some(step.clone()),
        _ => None,
    };
    let all: BTreeSet<_> = put(&small, &ask)
        .steps()
        .iter()
        .filter_map(|p| Some(bare(&p.step)?.host()))
        .collect();
    // The last of them comes up; the two others don't.
    let up = *all.last().unwrap();
    let fails = |step: &Step| match bare(step) {
        Some(installing::Step::Install { host, .. }) => host != up,
        Some(_) => false,
        None => true,
    };
    let run = play(&mut small, &ask, fails);
    let given = open(&small, run);
    let failed: BTreeSet<usize> = given.iter().map(|(n, _)| *n).collect();
    assert_eq!(failed.len(), 2);
    let before = phases(&small, run);
    let (step, _) = given[0];
    let shared = corrected(&mut small, run, step, &[("gateway", "10.1.2.254")]);
    shared.unwrap();
    let plan = small.plans[&run].clone();
    let of = |n: usize| bare(&plan.steps[n].step).map(|s| s.host());
    let theirs: BTreeSet<_> = failed.iter().map(|n| of(*n)).collect();
    for (n, (was, is)) in before.iter().zip(phases(&small, run)).enumerate() {
        let host = of(n);
        if host.is_some() && theirs.contains(&host) {
            assert_ne!(is, Phase::Done, "step {n} rests on the gateway");
        } else {
            assert_eq!(*was == Phase::Done, is == Phase::Done, "step {n} does not");
        }
    }
    for host in small.view.estate.hosts.values() {
        let Some(installing) = &host.installing else {
            continue;
        };
        let right = installing.gateway == Some("10.1.2.254".parse().unwrap());
        assert_eq!(right, theirs.contains(&Some(host.id)), "{}", host.name);
    }
}
