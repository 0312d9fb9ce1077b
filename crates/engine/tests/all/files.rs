//! Files read out of recovery points, on real sockets: by whoever may, told in the Logbook, and never as something else.

use crate::{
    backups::{back_up, make_store},
    lab::Lab,
    restoring::newest,
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{Inside, ItemKind, PointAt},
    permits::Role,
    rooms::{Proposal, machines},
    units::Bytes,
};
use zastrugi_engine::{EventFilter, InsideError, Viewer};
use zastrugi_store::testkit::url;

async fn lab(pool: &PgPool) -> (Lab, PointAt) {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    let Proposal::Machines(machines::Ask::Create(mut ask)) = lab.create("m", 1, false) else {
        panic!("not a machine");
    };
    // Large enough for what guests are installed with.
    ask.disks[0].size = Bytes::mib(512);
    lab.done(Proposal::Machines(machines::Ask::Create(ask)))
        .await;
    lab.done(make_store(&lab, "hill").await).await;
    lab.done(back_up(&lab, "m")).await;
    let at = newest(&lab, "m");
    (lab, at)
}

fn inside(point: PointAt, path: &str) -> Inside {
    Inside::read(point, &format!("1/2/{path}")).unwrap()
}

async fn told(lab: &Lab) -> Vec<String> {
    let events = lab.desk.events(&EventFilter::default(), 400).await.unwrap();
    let all = events.into_iter().map(|e| e.text);
    all.filter(|t| t.starts_with("The file")).collect()
}

/// If this fails, one file costs a whole restore, or nobody knows who read it.
#[sqlx::test(migrations = false)]
async fn a_file_comes_out_of_a_point_and_who_read_it_is_told(pool: PgPool) {
    let (lab, at) = lab(&pool).await;
    let look = lab.desk.look_in(&lab.admin, (at, 1), None).await.unwrap();
    let words: Vec<_> = look
        .partitions
        .iter()
        .map(|p| (p.number, p.system.word()))
        .collect();
    assert_eq!((look.disks.len(), words), (1, vec![(1, "FAT"), (2, "ext")]));
    let app = inside(at, "etc/app");
    let look = lab
        .desk
        .look_in(&lab.admin, (at, 1), Some(&app))
        .await
        .unwrap();
    let items = look.folder.unwrap().items;
    assert_eq!((items.len(), items[0].kind.clone()), (1, ItemKind::File));
    assert_eq!(
        told(&lab).await,
        Vec::<String>::new(),
        "names alone are no file"
    );

    let conf = app.under("app.conf");
    let mut taken = lab.desk.file_in(&lab.admin, &conf).await.unwrap();
    let mut all = Vec::new();
    while let Some(piece) = taken.stream.pieces.recv().await {
        all.extend_from_slice(&piece.unwrap());
    }
    let text = String::from_utf8(all).unwrap();
    assert!(
        text.starts_with("listen = ") && text.len() as u64 == taken.stream.length,
        "{text}"
    );
    let said = told(&lab).await;
    assert_eq!(said.len(), 1, "{said:?}");
    assert!(
        said[0].starts_with("The file etc/app/app.conf on disk 1, partition 2 of m as of "),
        "{said:?}"
    );
    lab.assert_once();
}

/// If this fails, somebody reads who may not, or a slip in a name is told as a fault of the store.
#[sqlx::test(migrations = false)]
async fn who_may_not_gets_nothing_and_what_is_not_there_is_told(pool: PgPool) {
    let (lab, at) = lab(&pool).await;
    let viewer = Viewer {
        role: Role::Viewer,
        ..lab.admin.clone()
    };
    let conf = inside(at, "etc/app/app.conf");
    for answer in [
        lab.desk.file_in(&viewer, &conf).await.err(),
        lab.desk.look_in(&viewer, (at, 1), None).await.err(),
    ] {
        assert!(
            matches!(answer, Some(InsideError::NotAllowed)),
            "{answer:?}"
        );
    }
    for (place, words) in [
        (inside(at, "etc/none"), "file not found"),
        (inside(at, "etc"), "directory"),
        (Inside::read(at, "2/1/x").unwrap(), "no such disk"),
        (Inside::read(at, "1/9/x").unwrap(), "no partition 9"),
    ] {
        let why = lab.desk.file_in(&lab.admin, &place).await.unwrap_err();
        assert!(why.to_string().contains(words), "{place}: {why}");
    }
    // So many read at the same time that one more has to wait.
    let mut held = Vec::new();
    let busy = loop {
        match lab
            .desk
            .file_in(&lab.admin, &inside(at, "var/log/app.log"))
            .await
        {
            Ok(taken) => held.push(taken),
            Err(why) => break why,
        }
        assert!(held.len() < 50, "nobody has to wait");
    };
    assert!(matches!(busy, InsideError::Busy), "{busy}");
    let read = held.len() + 1;
    drop(held);
    assert!(
        lab.desk.file_in(&lab.admin, &conf).await.is_ok(),
        "there is room again"
    );
    lab.standins.world.silence_buckets("breakwater", true);
    let why = lab
        .desk
        .look_in(&lab.admin, (at, 1), None)
        .await
        .unwrap_err();
    assert!(why.to_string().contains("does not answer"), "{why}");
    assert_eq!(
        told(&lab).await.len(),
        read,
        "only what was handed out is told"
    );
}
