//! The guard: directed cases first, then thousands of seeds in virtual time.

mod guests;
mod seats;
mod sim;

use sim::{Mutation, Sim};
use std::sync::atomic::{AtomicU64, Ordering};
use zastrugi_core::ids::{HostId, MachineId};

/// The first seed of a range that breaks something, with its story.
fn first_broken(
    seeds: std::ops::Range<u64>,
    mutation: Mutation,
) -> Option<(u64, Vec<String>, String)> {
    let parts = 4;
    // Whoever is past the first that was found looks no further.
    let least = AtomicU64::new(u64::MAX);
    std::thread::scope(|scope| {
        let hands: Vec<_> = (0..parts)
            .map(|part| {
                let (seeds, least) = (seeds.clone(), &least);
                scope.spawn(move || {
                    let own = seeds.filter(|seed| seed % parts == part);
                    own.take_while(|seed| *seed < least.load(Ordering::Relaxed))
                        .find_map(|seed| {
                            let mut sim = Sim::new(seed, mutation);
                            sim.run();
                            (!sim.broken.is_empty()).then(|| {
                                least.fetch_min(seed, Ordering::Relaxed);
                                (seed, sim.broken.clone(), sim.told())
                            })
                        })
                })
            })
            .collect();
        hands
            .into_iter()
            .filter_map(|h| h.join().unwrap())
            .min_by_key(|f| f.0)
    })
}

/// So many are looked at here; a million steps of others by `cargo bench --bench guard`, where it is faster.
const SEEDS: u64 = 600;

/// If this fails, two hosts may write one disk, or a machine that could run stays down. The seed replays exactly.
#[test]
fn no_weather_makes_two_hosts_write_one_disk_and_every_machine_comes_back() {
    if let Some((seed, broken, story)) = first_broken(0..SEEDS, Mutation::None) {
        panic!("seed {seed}: {broken:?}\n{story}");
    }
}

/// If this fails, the simulation would not notice a guard that is wrong.
#[test]
fn the_simulation_finds_each_of_these_wrong_guards() {
    // Each with a seed near which it was found: looked at first, and all others only if that story is another one by now.
    for (mutation, known) in [
        (Mutation::OneLook, 740),
        (Mutation::ShortLease, 60),
        (Mutation::NoPatience, 0),
        (Mutation::Hasty, 0),
        (Mutation::Trusting, 660),
        (Mutation::Unconfirmed, 0),
        (Mutation::Unheard, 10),
        (Mutation::Lingering, 40),
    ] {
        let found =
            first_broken(known..known + 10, mutation).or_else(|| first_broken(0..1_000, mutation));
        assert!(found.is_some(), "{mutation:?} goes unnoticed");
    }
}

/// A cluster that was looked at for long enough to judge.
fn settled(hosts: u64) -> Sim {
    let mut sim = Sim::still(hosts);
    sim.play(80);
    sim
}

/// If this fails, the machines of a host that lost its power stay down, or are back later than the matrix says.
#[test]
fn a_host_without_power_is_proved_off_and_its_machines_run_elsewhere_within_a_minute() {
    let mut sim = settled(4);
    let cut = sim.now;
    sim.cut(2);
    sim.play(70);
    let fenced = sim
        .said(cut, "Fenced { host: HostId(2), proof: Controller }")
        .unwrap();
    assert!((15.0..25.0).contains(&fenced), "{fenced}\n{}", sim.told());
    let up = sim.said(cut, "Up { machine: MachineId(20)").unwrap();
    assert!(up < 50.0, "{up}\n{}", sim.told());
    assert!(sim.broken.is_empty());
    assert_eq!(sim.switched_off, 0, "nobody switches off what is off");
}

/// If this fails, a host that lost its power with its controller's keeps its machines down until a person comes.
#[test]
fn without_a_controller_the_watchdog_is_awaited_and_without_that_a_person() {
    for armed in [true, false] {
        let mut sim = settled(4);
        sim.host(2).watchdog = armed;
        sim.play(5);
        let cut = sim.now;
        sim.cut(2);
        sim.host(2).bmc_dead = true;
        sim.play(50);
        let person = sim.said(cut, "Waits { host: HostId(2)");
        assert_eq!(person.is_none(), armed, "{}", sim.told());
        assert!(sim.said(cut, "Fenced").is_none(), "nothing proves it yet");
        sim.play(130);
        let proof = if armed {
            "proof: Watchdog"
        } else {
            "proof: Person"
        };
        let fenced = sim
            .said(cut, proof)
            .unwrap_or_else(|| panic!("{}", sim.told()));
        assert!(fenced >= 80.0, "a lease and half of one more: {fenced}");
        assert!(sim.said(cut, "Up { machine: MachineId(20)").is_some());
    }
}

/// If this fails, machines of a host that lost its power with its controller's stay down for a lease and a half although
/// its array could have proved that it writes nothing; or they are started before the array has said so.
#[test]
fn where_the_controller_is_no_help_the_array_shuts_the_host_out_and_only_its_word_counts() {
    for dead in [false, true] {
        let mut sim = Sim::still(4);
        sim.host(2).array = true;
        sim.play(1);
        sim.plan();
        sim.play(80);
        let cut = sim.now;
        sim.cut(2);
        (sim.host(2).bmc_dead, sim.host(2).array_dead) = (true, dead);
        sim.play(55);
        let proved = sim.said(cut, "Fenced { host: HostId(2), proof: Storage }");
        assert_eq!(proved.is_some(), !dead, "{}", sim.told());
        assert!(sim.shut_out > 0);
        if let Some(proved) = proved {
            assert!((25.0..45.0).contains(&proved), "{proved}");
            assert!(
                sim.said(cut, "Up { machine: MachineId(20)")
                    .is_some_and(|up| up < 75.0)
                    || sim.restarted > 0
            );
        } else {
            // The array says nothing: its watchdog does, as it would have without.
            sim.play(80);
            assert!(sim.said(cut, "proof: Watchdog").is_some(), "{}", sim.told());
        }
        assert_eq!(sim.broken, Vec::<String>::new());
    }
}

/// If this fails, a host that hangs and whose controller does nothing keeps its machines until a person comes; or one that
/// was only mute for a while is taken for off.
#[test]
fn a_host_that_is_shut_out_may_be_heard_again_and_that_is_no_lie_of_anybody() {
    let mut sim = Sim::still(4);
    (
        sim.host(3).array,
        sim.host(3).watchdog,
        sim.host(3).bmc_lame,
    ) = (true, false, true);
    sim.play(1);
    sim.plan();
    sim.play(80);
    let hung = sim.now;
    sim.host(3).stalled_until = u64::MAX;
    sim.play(110);
    assert_eq!(
        (sim.switched_off, sim.shut_out > 0),
        (1, true),
        "{}",
        sim.told()
    );
    assert!(sim.said(hung, "proof: Storage").is_some(), "{}", sim.told());
    assert!(
        sim.said(hung, "Up { machine: MachineId(30)").is_some(),
        "{}",
        sim.told()
    );
    let woke = sim.now;
    sim.host(3).stalled_until = 0;
    sim.play(30);
    assert!(
        sim.said(woke, "it is heard again, without its volumes")
            .is_some(),
        "{}",
        sim.told()
    );
    assert!(sim.said(woke, "was wrong").is_none());
    assert_eq!(sim.broken, Vec::<String>::new());
}

/// If this fails, a host that hangs keeps its machines for ever.
#[test]
fn a_host_that_hangs_is_switched_off_once_and_its_controller_is_believed_only_when_it_is_off() {
    let mut sim = settled(4);
    let hung = sim.now;
    sim.host(3).watchdog = false;
    sim.host(3).stalled_until = u64::MAX;
    sim.play(80);
    let off = sim.said(hung, "has host-3 switched off").unwrap();
    assert!((15.0..45.0).contains(&off), "{off}\n{}", sim.told());
    assert_eq!(sim.switched_off, 1);
    assert!(sim.said(hung, "Up { machine: MachineId(30)").is_some());

    // One that takes the order and does nothing.
    let mut sim = settled(4);
    let hung = sim.now;
    (sim.host(3).watchdog, sim.host(3).bmc_lame) = (false, true);
    sim.play(2);
    sim.host(3).stalled_until = u64::MAX;
    sim.play(100);
    assert_eq!(sim.switched_off, 1, "it is told once");
    assert!(sim.said(hung, "Fenced").is_none(), "{}", sim.told());
    assert!(sim.said(hung, "Waits { host: HostId(3)").is_some());
}

/// If this fails, a moment's weather takes machines down that ran well.
#[test]
fn storage_that_is_slow_an_array_that_fails_over_and_links_that_flap_bring_no_verdict() {
    let mut sim = settled(4);
    let begin = sim.now;
    sim.stall(0, 5);
    sim.play(20);
    (0..2).for_each(|v| sim.stall(v, 45));
    sim.play(60);
    for _ in 0..10 {
        (sim.host(1).mute, sim.host(4).mute) = (true, true);
        sim.play(9);
        (sim.host(1).mute, sim.host(4).mute) = (false, false);
        sim.play(3);
    }
    for word in ["Judged", "Fenced", "CutOff", "Waits"] {
        assert_eq!(sim.said(begin, word), None, "{}", sim.told());
    }
}

/// If this fails, machines that run well are taken down because their agent is not heard.
#[test]
fn a_host_that_is_only_cut_off_keeps_its_machines_and_who_is_cut_off_itself_fences_nobody() {
    let mut sim = settled(4);
    let begin = sim.now;
    sim.host(1).agent_dead = true;
    sim.play(300);
    assert!(sim.said(begin, "CutOff { host: HostId(1)").is_some());
    assert!(sim.said(begin, "Judged").is_none(), "{}", sim.told());
    assert_eq!(sim.restarted, 0);

    let mut sim = settled(4);
    let begin = sim.now;
    (1..=3).for_each(|h| sim.host(h).mute = true);
    sim.play(300);
    assert_eq!(sim.switched_off, 0, "{}", sim.told());
    assert!(sim.said(begin, "Fenced { host: HostId(4)").is_none());
    assert_eq!(sim.restarted, 0);
}

/// If this fails, the first machine of all waits for the last one.
#[test]
fn machines_start_by_tiers_and_not_more_than_four_at_once_on_a_host() {
    let mut sim = Sim::still(2);
    for n in 100..112 {
        sim.put(MachineId(n), HostId(2));
    }
    sim.play(90);
    let cut = sim.now;
    sim.cut(2);
    sim.play(400);
    assert!(sim.broken.is_empty(), "{:?}", sim.broken);
    let starts = |tier: u8| {
        let of = sim.tier(tier);
        let all = sim.story.iter().filter(|(at, _)| *at >= cut);
        let all = all.filter(|(_, s)| of.iter().any(|m| s.starts_with(&format!("{m} starts on"))));
        all.map(|(at, _)| *at).collect::<Vec<_>>()
    };
    let (first, second) = (starts(1), starts(2));
    assert!(!first.is_empty() && !second.is_empty(), "{}", sim.told());
    assert!(
        first.iter().max() < second.iter().min(),
        "tier 1 is up before tier 2 starts"
    );
    let mut all: Vec<u64> = (1..=3).flat_map(starts).collect();
    all.sort_unstable();
    let crowded = all.windows(5).any(|w| w[4] - w[0] < 20_000);
    assert!(!crowded, "five boots at once: {all:?}");
}

/// If this fails, a machine whose host alone lost its volume stands still until somebody looks, or runs twice; or a storage that
/// nobody reaches has machines ended that would have gone on.
#[test]
fn machines_that_lack_their_volume_where_others_reach_it_end_there_before_they_start_elsewhere() {
    for (host, gone) in [(2, true), (3, false)] {
        let mut sim = settled(4);
        let lost = sim.now;
        let even = MachineId(host * 10);
        sim.host(host).paths[0] = false;
        sim.play(180);
        let told = sim
            .said(lost, "Lacks")
            .unwrap_or_else(|| panic!("{}", sim.told()));
        let patience = if gone { 10.0..20.0 } else { 90.0..105.0 };
        assert!(patience.contains(&told), "{told}\n{}", sim.told());
        let ended = sim
            .said(lost, &format!("is told to end {even}: Ok"))
            .unwrap();
        let start = sim.said(lost, &format!("{even} starts on")).unwrap();
        assert!(told < ended && ended < start, "{}", sim.told());
        assert!(
            sim.said(lost, &format!("Up {{ machine: {even:?}"))
                .is_some()
        );
        assert!(sim.said(lost, "Judged").is_none(), "the host did not fail");
        assert!(sim.broken.is_empty(), "{:?}", sim.broken);
    }
    // Nobody reaches it: there is nowhere to go.
    let mut sim = settled(4);
    (1..=4).for_each(|h| sim.host(h).paths[0] = false);
    sim.play(300);
    assert_eq!((sim.ended_before, sim.restarted), (0, 0), "{}", sim.told());
}

/// If this fails, a host that can't end what hangs in its storage has it started a second time elsewhere.
#[test]
fn what_its_host_does_not_confirm_to_be_ended_starts_nowhere_else() {
    let mut sim = settled(4);
    let lost = sim.now;
    (sim.host(2).paths[0], sim.host(2).deaf) = (false, true);
    sim.play(200);
    assert!(sim.ended_before >= 3, "{}", sim.told());
    assert_eq!(sim.said(lost, "MachineId(20) starts on"), None);
    assert_eq!(sim.restarted, 0, "{}", sim.told());
}

/// If this fails, a cluster that was dark starts a machine that another site runs by now: two write what they replicate; or a
/// failure of one host makes everybody wait for a permission.
#[test]
fn after_everything_was_dark_what_another_site_may_run_waits_until_somebody_says_that_it_does_not()
{
    let shared = MachineId(20);
    let mut sim = settled(4);
    sim.shared.insert(shared);
    sim.plan();
    let cut = sim.now;
    sim.cut(2);
    sim.play(80);
    assert!(
        sim.said(cut, "Up { machine: MachineId(20)").is_some(),
        "{}",
        sim.told()
    );

    let mut sim = settled(4);
    sim.shared.insert(shared);
    sim.plan();
    let dark = sim.now;
    (1..=4).for_each(|h| sim.cut(h));
    sim.play(60);
    (1..=4).for_each(|h| sim.switch_on(h));
    sim.play(200);
    let others = [10, 30, 40].map(|m| sim.said(dark, &format!("Up {{ machine: MachineId({m})")));
    assert!(others.iter().all(Option::is_some), "{}", sim.told());
    assert_eq!(
        sim.said(dark, "machine-20 starts on"),
        None,
        "{}",
        sim.told()
    );
    assert!(sim.said(dark, "Unsure { machine: MachineId(20)").is_some());
    // Whoever takes the guard over meanwhile knows no better.
    sim.another_guard();
    sim.play(120);
    assert_eq!(
        sim.said(dark, "machine-20 starts on"),
        None,
        "{}",
        sim.told()
    );
    sim.permit();
    sim.play(180);
    assert!(
        sim.said(dark, "Up { machine: MachineId(20)").is_some(),
        "{}",
        sim.told()
    );
    // It is over: the next failure of one host is like any other.
    let again = sim.now;
    let at = (1..=4).find(|h| sim.host(*h).runs(shared)).unwrap();
    sim.cut(at);
    sim.play(90);
    assert!(
        sim.said(again, "Up { machine: MachineId(20)").is_some(),
        "{}",
        sim.told()
    );
}

/// If this fails, machines that nobody reaches run on, on a host that nobody reaches, until a person comes; or one whose guests are
/// reached is told to end them; or they are started elsewhere before the host said that it ended them.
#[test]
fn a_host_that_is_cut_off_with_its_guests_is_told_through_its_lease_to_end_them() {
    for unlinked in [true, false] {
        let mut sim = settled(4);
        let cut = sim.now;
        (sim.host(2).agent_dead, sim.host(2).unlinked) = (true, unlinked);
        sim.play(120);
        assert!(sim.said(cut, "CutOff { host: HostId(2)").is_some());
        assert_eq!(sim.told_by_lease > 0, unlinked, "{}", sim.told());
        let ended = sim.said(cut, "host-2 ends what it runs");
        let started = sim.said(cut, "machine-20 starts on");
        assert_eq!(
            (ended.is_some(), started.is_some()),
            (unlinked, unlinked),
            "{}",
            sim.told()
        );
        if unlinked {
            assert!(ended < started, "{}", sim.told());
            assert!(
                sim.said(cut, "proof: Lease").is_some_and(|at| at < 70.0),
                "{}",
                sim.told()
            );
            assert_eq!((sim.switched_off, sim.shut_out), (0, 0), "it lives");
        }
        // It is heard again, and cut off once more: what lay beside its lease is of another time.
        sim.host(2).agent_dead = false;
        sim.play(30);
        let again = sim.now;
        sim.put(MachineId(29), zastrugi_core::ids::HostId(2));
        (sim.host(2).agent_dead, sim.host(2).unlinked) = (true, false);
        sim.plan();
        sim.play(120);
        assert_eq!(
            sim.said(again, "host-2 ends what it runs"),
            None,
            "{}",
            sim.told()
        );
        assert_eq!(
            sim.said(again, "machine-29 starts on"),
            None,
            "{}",
            sim.told()
        );
        assert_eq!(sim.broken, Vec::<String>::new());
    }
}
