//! Stores that are there already, on real sockets and in a mounted export: opened with their key, looked through, and machines out of
//! them by a manager that never wrote to them.

use crate::{
    backups::{back_up, forget_store, make_store},
    jobs::{begin, keep, label, points, written},
    lab::Lab,
    packages::small,
    restoring::{beside, newest, put_back},
};
use sqlx::PgPool;
use zastrugi_core::{
    endpoint::Password,
    estate::Goal,
    evidence::{Answer, Probe},
    ids::JobId,
    rooms::{Proposal, stores},
    runs::RunState,
};
use zastrugi_engine::{Exports, Resolve};
use zastrugi_store::testkit::url;

pub(crate) async fn key_of(lab: &Lab) -> String {
    let store = *lab.estate().stores.keys().next().unwrap();
    lab.desk.take_out_key(&lab.admin, store).await.unwrap()
}

/// What [`make_store`] makes, where it is there already.
pub(crate) async fn open_store(lab: &Lab, folder: &str, key: &str) -> Proposal {
    let Proposal::Stores(stores::Ask::Make(ask)) = make_store(lab, folder).await else {
        panic!("no store");
    };
    let key = lab.desk.keep_secret(key).await.unwrap();
    Proposal::Stores(stores::Ask::Make(stores::MakeStore {
        lock: "".into(),
        key: Password::Kept(key),
        ..ask
    }))
}

pub(crate) fn read_again(lab: &Lab, job: Option<JobId>) -> Proposal {
    let store = *lab.estate().stores.keys().next().unwrap();
    Proposal::Stores(stores::Ask::Read { store, job })
}

async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    written(&lab, 9 << 20).await;
    lab
}

/// If this fails, a bucket whose manager is gone opens for nobody, or with any key; or what is in it can't be brought back.
#[sqlx::test(migrations = false)]
async fn a_store_of_before_is_opened_with_its_key_alone(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(make_store(&lab, "hill").await).await;
    lab.done(back_up(&lab, "m")).await;
    let then = lab.standins.world.read_disk("m", 0).unwrap();
    written(&lab, 2 << 20).await;
    lab.done(back_up(&lab, "m")).await;
    let (key, before) = (key_of(&lab).await, points(&lab));
    let uuid = lab.estate().stores.values().next().unwrap().uuid;
    lab.done(forget_store(&lab)).await;
    assert!(points(&lab).is_empty());
    let other = zastrugi_formats::backup::Key::new([9; 32])
        .written()
        .to_string();
    let run = lab.start(open_store(&lab, "hill", &other).await).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Cancelled]).await;
    assert!(
        lab.estate().stores.is_empty(),
        "one that did not open is none"
    );
    lab.done(open_store(&lab, "hill", &key).await).await;
    let now = lab.estate().stores.values().next().unwrap().clone();
    assert!(now.ready && now.uuid == uuid);
    let told: Vec<_> = points(&lab)
        .iter()
        .map(|p| (p.session, p.taken, p.size, p.read))
        .collect();
    let had: Vec<_> = before
        .iter()
        .map(|p| (p.session, p.taken, p.size, p.read))
        .collect();
    assert_eq!(told, had);
    let first = zastrugi_core::estate::PointAt {
        session: before[0].session,
        ..newest(&lab, "m")
    };
    lab.done(put_back(&lab, "m", first, false).await).await;
    assert!(lab.standins.world.read_disk("m", 0).unwrap() == then);
    // It goes on where it was: what is there is not stored again.
    lab.done(back_up(&lab, "m")).await;
    assert!(points(&lab)[2].stored < before[0].stored);
}

/// If this fails, what somebody put into a store or took out of it behind our back stays unknown, and promises rest on nothing.
#[sqlx::test(migrations = false)]
async fn what_was_done_behind_our_back_is_found(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(make_store(&lab, "hill").await).await;
    lab.done(label(&lab, "m")).await;
    lab.done(keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 1"))
        .await;
    for _ in 0..2 {
        written(&lab, 1 << 20).await;
        lab.done(back_up(&lab, "m")).await;
    }
    let all = points(&lab);
    // The journal went back, as far as anybody can tell.
    let key = key_of(&lab).await;
    let job = *lab.estate().jobs.keys().next().unwrap();
    lab.done(Proposal::Jobs(zastrugi_core::rooms::jobs::Ask::Remove {
        job,
    }))
    .await;
    lab.done(forget_store(&lab)).await;
    lab.done(open_store(&lab, "hill", &key).await).await;
    lab.done(keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 1"))
        .await;
    let job = lab.estate().jobs.values().next().unwrap().clone();
    assert!(matches!(job.to, Goal::Store(_)));
    // Somebody took the older one away by hand.
    let at = zastrugi_core::estate::PointAt {
        session: all[0].session,
        ..newest(&lab, "m")
    };
    assert!(
        lab.standins
            .world
            .lose_object("breakwater", &all[0].session.to_string())
    );
    lab.done(read_again(&lab, Some(job.id))).await;
    let left = points(&lab);
    assert_eq!(
        left.iter().map(|p| p.session).collect::<Vec<_>>(),
        [all[1].session]
    );
    assert!(at.found(&lab.estate()).is_err());
    // Points that were not known are of the job, and go as it keeps.
    lab.done(begin(&lab)).await;
}

/// If this fails, a store in a mounted export is none, or needs the manager to be read.
#[sqlx::test(migrations = false)]
async fn a_store_lies_in_a_mounted_export(pool: PgPool) {
    let dir = tempfile::tempdir().unwrap();
    std::fs::create_dir(dir.path().join("hill-nfs")).unwrap();
    let exports = Exports(Some(dir.path().to_owned()));
    let lab = Lab::with(&url(&pool), crate::lab::scenario(2), 40.0, |s| {
        s.exports = exports
    })
    .await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    written(&lab, 9 << 20).await;
    lab.desk.look_for_exports().await;
    let book = lab.desk.look().evidence;
    let Some(Answer::Exports { all }) = book.fresh(&Probe::Exports, lab.desk.now()) else {
        panic!("nobody looked");
    };
    assert_eq!(all[0].name, "hill-nfs");
    let Proposal::Stores(stores::Ask::Make(ask)) = make_store(&lab, "points").await else {
        panic!("no store");
    };
    let make = stores::MakeStore {
        lock: "".into(),
        export: "hill-nfs".into(),
        ..ask
    };
    lab.done(Proposal::Stores(stores::Ask::Make(make))).await;
    lab.done(back_up(&lab, "m")).await;
    assert!(dir.path().join("hill-nfs/points/store.json").is_file());
    let then = lab.standins.world.read_disk("m", 0).unwrap();
    let at = newest(&lab, "m");
    lab.done(beside(&lab, "m-then", at).await).await;
    assert!(lab.standins.world.read_disk("m-then", 0).unwrap() == then);
    // The export is gone for a while: the copy says so, and goes on when it is back.
    let (there, away) = (dir.path().join("hill-nfs"), dir.path().join(".away"));
    std::fs::rename(&there, &away).unwrap();
    let run = lab.start(back_up(&lab, "m")).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    std::fs::rename(&away, &there).unwrap();
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Done]).await;
    assert_eq!(points(&lab).len(), 2);
}
