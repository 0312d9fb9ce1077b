//! Pools on real sockets: spares that make themselves, somebody who gets one, what comes back, and a new version.

use crate::lab::{Lab, eventually};
use crate::templates::{make, template};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{SparePool, Wanted},
    ids::MachineId,
    moment::Span,
    rooms::{
        Proposal, machines,
        machines::{AfterGrace, PowerAct},
        spares::{Ask, Keep},
        templates,
    },
    spares::Stand,
    units::Bytes,
};
use zastrugi_store::testkit::url;

/// Two hosts, and template `base` of a machine that is off.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, false)).await;
    lab.done(make(lab.machine("m"), "base", None)).await;
    lab
}

pub(crate) fn keep(lab: &Lab, change: impl FnOnce(&mut Keep)) -> Proposal {
    let mut ask = Keep {
        pool: kept(lab).map(|p| p.id),
        name: "trainers".into(),
        template: Some(template(lab, "base").id),
        cluster: lab.estate().clusters.keys().next().copied(),
        pattern: "trainer-{01}".into(),
        spare: 2,
        most: 5,
        vcpus: 1,
        memory: Bytes::gib(1),
        dependent: true,
        networks: vec![None],
        document: None,
        ends_off: true,
    };
    change(&mut ask);
    Proposal::Spares(Ask::Keep(Box::new(ask)))
}

fn kept(lab: &Lab) -> Option<SparePool> {
    let estate = lab.estate();
    estate
        .spare_pool_named("trainers")
        .map(|p| SparePool::clone(p))
}

pub(crate) fn stand(lab: &Lab) -> Stand {
    kept(lab).map_or_else(Stand::default, |p| Stand::of(&lab.estate(), &p))
}

async fn hand_out(lab: &Lab, to: &str) -> MachineId {
    let had = stand(lab).held;
    let pool = kept(lab).unwrap().id;
    lab.done(Proposal::Spares(Ask::HandOut {
        pool,
        count: 1,
        to: to.into(),
    }))
    .await;
    stand(lab)
        .held
        .into_iter()
        .find(|id| !had.contains(id))
        .unwrap()
}

/// If this fails, somebody waits for a machine that should have been ready, or gets one that somebody else had.
#[sqlx::test(migrations = false)]
async fn spares_make_themselves_and_what_comes_back_is_gone(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(keep(&lab, |_| {})).await;
    eventually("two are ready", || stand(&lab).ready.len() == 2).await;
    let first = hand_out(&lab, "ann").await;
    eventually("a new one takes its place", || stand(&lab).ready.len() == 2).await;
    assert_eq!(stand(&lab).held, [first]);
    let second = hand_out(&lab, "bo").await;
    assert_ne!(first, second);
    lab.done(Proposal::Spares(Ask::GiveBack {
        machines: vec![first],
    }))
    .await;
    eventually("it is gone for good", || {
        !lab.estate().machines.contains_key(&first)
    })
    .await;
    assert_eq!(stand(&lab).held, [second], "the other has hers still");
    // Whoever switches hers off has given it back.
    let act = PowerAct::Stop {
        grace: Span::secs(60),
        then: AfterGrace::PowerOff,
    };
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![second],
        act,
    }))
    .await;
    eventually("and so is this", || {
        !lab.estate().machines.contains_key(&second)
    })
    .await;
    eventually("two are ready", || stand(&lab).ready.len() == 2).await;
    let all = lab.estate().pool_members(kept(&lab).unwrap().id).count();
    assert_eq!(all, 2);
    lab.assert_once();
}

/// If this fails, people get machines of yesterday's version, or have theirs taken for a new one.
#[sqlx::test(migrations = false)]
async fn a_new_version_is_rolled_through_spares_and_people_keep_theirs(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(keep(&lab, |_| {})).await;
    eventually("two are ready", || stand(&lab).ready.len() == 2).await;
    let hers = hand_out(&lab, "ann").await;
    eventually("two are ready", || stand(&lab).ready.len() == 2).await;
    let base = template(&lab, "base").id;
    let mut next = make(lab.machine("m"), "base", None);
    if let Proposal::Templates(templates::Ask::Make(make)) = &mut next {
        make.of = Some(base);
    }
    lab.done(next).await;
    let newest = template(&lab, "base").newest().unwrap().number;
    let rolled = || {
        let stand = stand(&lab);
        let estate = lab.estate();
        let of = |id: &MachineId| estate.machines[id].of_pool.as_ref().unwrap().version;
        stand.ready.len() == 2
            && stand.stale.is_empty()
            && stand.ready.iter().all(|id| of(id) == newest)
    };
    eventually("both spares are of the new version", rolled).await;
    let her = lab.estate().machines[&hers].clone();
    assert_eq!(her.of_pool.as_ref().unwrap().version, newest - 1);
    assert_eq!(her.wanted, Wanted::On, "hers runs on");
}

/// If this fails, a pool that nobody wants any more costs memory for ever.
#[sqlx::test(migrations = false)]
async fn a_pool_is_emptied_and_ended(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(keep(&lab, |_| {})).await;
    eventually("two are ready", || stand(&lab).ready.len() == 2).await;
    lab.done(keep(&lab, |k| k.spare = 0)).await;
    eventually("none is left", || stand(&lab) == Stand::default()).await;
    eventually("nobody is at work on it", || {
        lab.desk.look().runs.iter().all(|r| !r.state.open())
    })
    .await;
    let pool = kept(&lab).unwrap().id;
    lab.done(Proposal::Spares(Ask::End { pool })).await;
    assert!(kept(&lab).is_none());
}

/// If this fails, a full volume leaves a pool that tries again every second, or one that never tries again.
#[sqlx::test(migrations = false)]
async fn a_pool_that_has_no_room_makes_its_spares_once_there_is_some(pool: PgPool) {
    let lab = lab(&pool).await;
    let hosts: Vec<_> = lab.estate().hosts.keys().copied().collect();
    // More memory than both hosts have.
    let most = lab.estate().hosts[&hosts[0]].hardware.memory;
    lab.done(keep(&lab, |k| k.memory = most)).await;
    tokio::time::sleep(std::time::Duration::from_secs(4)).await;
    assert_eq!(
        stand(&lab),
        Stand::default(),
        "nothing is begun that can't be done"
    );
    let runs = lab
        .desk
        .look()
        .runs
        .iter()
        .filter(|r| r.title.contains("spares of pool"))
        .count();
    assert_eq!(runs, 0);
    lab.done(keep(&lab, |_| {})).await;
    eventually("two are ready", || stand(&lab).ready.len() == 2).await;
}
