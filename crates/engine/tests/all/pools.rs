//! Volumes of the hosts' own disks, on real sockets: made, filled, hosts away for a while and for good, given back.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use std::collections::BTreeSet;
use zastrugi_core::{
    estate::{DiskState, Pooled, Volume},
    finding::Severity,
    ids::HostId,
    moment::Span,
    rooms::{
        Proposal, leaving, machines,
        maintenance::{self, Afterwards, Empty},
        storage::{self, ConnectVolume, VolumeSource},
    },
    runs::RunState,
    units::Bytes,
};

/// A volume of all hosts' own disks; who is away is waited for so many minutes.
pub(crate) fn own(lab: &Lab, name: &str, minutes: u64) -> Proposal {
    Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
        array: None,
        source: VolumeSource::Pooled {
            copies: 2,
            wait: Span::mins(minutes),
        },
        name: name.into(),
        cluster: lab.estate().clusters.keys().next().copied(),
        hosts: None,
        typed: "".into(),
    }))
}

pub(crate) async fn disks_known(lab: &Lab) {
    eventually("hosts tell of their disks", || {
        lab.estate().hosts.values().all(|h| h.disks.len() == 2)
    })
    .await;
}

fn pooled(lab: &Lab) -> Pooled {
    *lab.volume_named("own").pooled.clone().unwrap()
}

fn host(lab: &Lab, name: &str) -> HostId {
    lab.estate().host_named(name).unwrap().id
}

async fn lab(pool: &PgPool, hosts: u32, minutes: u64) -> Lab {
    let lab = Lab::new(pool, hosts).await;
    lab.ready().await;
    disks_known(&lab).await;
    lab.done(own(&lab, "own", minutes)).await;
    lab
}

/// A machine that runs on it, with something written.
async fn machine(lab: &Lab) {
    let mut ask = lab.create("m", 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(lab.volume_named("own").id);
    }
    lab.done(ask).await;
    lab.standins.world.write("m", 1 << 30);
    eventually("what is written has copies", || {
        let (p, used) = (pooled(lab), lab.volume_named("own").used);
        let held: Bytes = p.members.values().map(|s| s.held).sum();
        p.is_whole() && used > Bytes::gib(1) && held == used.times(2)
    })
    .await;
}

fn volume(lab: &Lab) -> Volume {
    Volume::clone(&lab.volume_named("own"))
}

/// If this fails, what the sheet promises of room is not what the hosts have, or a machine can't live on their own disks.
#[sqlx::test(migrations = false)]
async fn hosts_lend_their_disks_and_a_machine_lives_on_them(pool: PgPool) {
    let lab = lab(&pool, 3, 10).await;
    let v = volume(&lab);
    // (3 × 2 TB − 2 TB) / 2 × 0.97
    assert_eq!(v.capacity, Bytes(1_940_000_000_000));
    assert!(v.ready && v.drift(&lab.estate()).is_empty() && v.uid.starts_with("pool-"));
    let lent = |h: &HostId| {
        lab.estate().hosts[h]
            .disks
            .iter()
            .all(|d| d.state == DiskState::Lent(v.uid.clone()))
    };
    eventually("the disks are lent", || lab.estate().hosts.keys().all(lent)).await;
    machine(&lab).await;
    eventually("a host says the same of its room", || {
        volume(&lab).capacity == v.capacity
    })
    .await;
    lab.assert_once();
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// If this fails, a host that is down for a moment has everything copied anew, or what was written meanwhile is never made up for.
#[sqlx::test(migrations = false)]
async fn a_host_that_is_away_for_a_moment_misses_only_what_is_written(pool: PgPool) {
    let lab = lab(&pool, 3, 240).await;
    machine(&lab).await;
    let runs_on = lab.estate().machine_named("m").unwrap().host.unwrap();
    let holds = |h: &HostId| pooled(&lab).members[h].held > Bytes::ZERO;
    let away = *lab
        .estate()
        .hosts
        .keys()
        .find(|h| **h != runs_on && holds(h))
        .unwrap();
    let name = lab.estate().hosts[&away].name.clone();
    lab.standins.world.power(&name, false);
    eventually("copies are missing", || {
        pooled(&lab).health.lacking > Bytes::ZERO && pooled(&lab).members[&away].away
    })
    .await;
    assert_eq!(
        pooled(&lab).health.lost,
        Bytes::ZERO,
        "the other copy can be read"
    );
    assert!(
        lab.estate().machine_named("m").unwrap().host == Some(runs_on),
        "it runs on"
    );
    // Nobody may take another one down meanwhile.
    let others = lab
        .estate()
        .hosts
        .keys()
        .copied()
        .filter(|h| *h != away)
        .collect::<Vec<_>>();
    let said = lab.desk.assess(&lab.admin, &empty(vec![others[0]]));
    let stop = said
        .findings()
        .iter()
        .find(|f| f.severity == Severity::Stop && f.subject == "own")
        .unwrap();
    assert!(
        stop.text.contains("no copy left") || stop.text.contains("not whole"),
        "{}",
        stop.text
    );
    lab.standins.world.power(&name, true);
    eventually("all copies are there again", || {
        pooled(&lab).is_whole() && !pooled(&lab).members[&away].away
    })
    .await;
}

fn empty(hosts: Vec<HostId>) -> Proposal {
    Proposal::Maintenance(maintenance::Ask::Empty(Empty {
        hosts,
        reason: "fans".into(),
        lasts: None,
        slow: false,
        force: false,
        wire: false,
        stop: false,
        then: Afterwards::StaysOn,
    }))
}

/// If this fails, a host that is gone leaves everything with one copy for ever.
#[sqlx::test(migrations = false)]
async fn what_a_host_held_that_is_gone_is_copied_anew(pool: PgPool) {
    let lab = lab(&pool, 3, 240).await;
    machine(&lab).await;
    let runs_on = lab.estate().machine_named("m").unwrap().host.unwrap();
    let away = *lab.estate().hosts.keys().find(|h| **h != runs_on).unwrap();
    let name = lab.estate().hosts[&away].name.clone();
    let go_on = Proposal::Storage(storage::Ask::GoOnWithout {
        volume: volume(&lab).id,
        host: away,
    });
    let said = lab.desk.assess(&lab.admin, &go_on);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("can be read")),
        "nobody is left out that is there"
    );
    lab.standins.world.power(&name, false);
    eventually("it is away", || pooled(&lab).members[&away].away).await;
    lab.done(go_on).await;
    eventually("made up for", || {
        pooled(&lab).is_whole() && !pooled(&lab).members.contains_key(&away)
    })
    .await;
    assert_eq!(lab.standins.world.lacks("own"), Some((0, 0, 0)));
    lab.standins.world.power(&name, true);
    eventually("it is there and does not reach it", || {
        let estate = lab.estate();
        estate.hosts[&away].accepts_work() && !volume(&lab).drift(&estate).is_empty()
    })
    .await;
    let heal = Proposal::Storage(storage::Ask::HealVolume {
        volume: volume(&lab).id,
    });
    lab.done(heal).await;
    eventually("it takes part again", || {
        pooled(&lab)
            .members
            .get(&away)
            .is_some_and(|s| s.raw > Bytes::ZERO)
    })
    .await;
}

/// If this fails, a host takes the only copy of something away with it, or its disks stay lent to a cluster that it has left.
#[sqlx::test(migrations = false)]
async fn a_host_leaves_once_what_it_held_is_with_the_others(pool: PgPool) {
    let lab = lab(&pool, 3, 10).await;
    machine(&lab).await;
    let leave = |hosts: Vec<HostId>| {
        Proposal::Leaving(leaving::Ask::Leave(leaving::Leave {
            hosts,
            slow: false,
            force: false,
            wire: false,
            stop: false,
        }))
    };
    let runs_on = lab.estate().machine_named("m").unwrap().host.unwrap();
    let goes = *lab.estate().hosts.keys().find(|h| **h != runs_on).unwrap();
    let rest: BTreeSet<HostId> = lab
        .estate()
        .hosts
        .keys()
        .copied()
        .filter(|h| *h != goes)
        .collect();
    let name = lab.estate().hosts[&goes].name.clone();
    lab.done(leave(vec![goes])).await;
    assert!(lab.estate().host_named(&name).is_none());
    let p = pooled(&lab);
    assert_eq!(p.members.keys().copied().collect::<BTreeSet<_>>(), rest);
    eventually("whole", || pooled(&lab).is_whole()).await;
    // Two are as many as there are copies: neither may leave.
    let said = lab.desk.assess(
        &lab.admin,
        &leave(vec![*rest.iter().find(|h| **h != runs_on).unwrap()]),
    );
    let stop = said
        .findings()
        .iter()
        .find(|f| f.severity == Severity::Stop && f.subject == "own")
        .unwrap();
    assert!(stop.text.contains("1 would be left"), "{}", stop.text);
}

/// If this fails, a dead disk is found out when the second one dies.
#[sqlx::test(migrations = false)]
async fn a_dead_disk_is_said_and_made_up_for_and_its_place_is_lent_again(pool: PgPool) {
    let lab = lab(&pool, 3, 10).await;
    machine(&lab).await;
    let before = volume(&lab).capacity;
    lab.standins.world.kill_disk("h1", "nvme1", true);
    let dead = || {
        lab.estate().hosts[&host(&lab, "h1")]
            .disks
            .iter()
            .any(|d| d.state == DiskState::Dead)
    };
    eventually("it is known", dead).await;
    eventually("less room, and all copies", || {
        volume(&lab).capacity < before && pooled(&lab).is_whole()
    })
    .await;
    lab.standins.world.kill_disk("h1", "nvme1", false);
    eventually("an empty one is there", || !dead()).await;
    let lend = Proposal::Storage(storage::Ask::LendDisks {
        volume: volume(&lab).id,
    });
    lab.done(lend).await;
    eventually("as before", || volume(&lab).capacity == before).await;
}

/// If this fails, a cancelled run leaves disks lent to a volume that nobody knows, or handing back leaves them so.
#[sqlx::test(migrations = false)]
async fn given_up_or_handed_back_every_host_has_its_disks_again(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    disks_known(&lab).await;
    lab.standins.world.add_fault(zastrugi_standins::Fault {
        device: "h2".into(),
        call: "share".into(),
        kind: zastrugi_standins::FaultKind::Refuse,
        times: 99,
    });
    let run = lab.start(own(&lab, "own", 10)).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    lab.desk
        .answer(&lab.admin, run, zastrugi_engine::Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    lab.standins.world.clear_faults();
    let v = volume(&lab);
    assert_eq!(
        v.pooled.as_ref().unwrap().members.len(),
        1,
        "what was lent is known"
    );
    let heal = Proposal::Storage(storage::Ask::HealVolume { volume: v.id });
    lab.done(heal).await;
    let give = Proposal::Storage(storage::Ask::GiveVolume { volume: v.id });
    lab.done(give).await;
    let free = || {
        lab.estate()
            .hosts
            .values()
            .flat_map(|h| &h.disks)
            .all(|d| d.state == DiskState::Free)
    };
    eventually("all disks are free", free).await;
    assert!(lab.estate().volumes.values().all(|v| v.name != "own"));
}
