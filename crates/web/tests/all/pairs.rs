//! Pairs of sites and replicas as pages show them, and the sheets that keep, start and free them.

use crate::{house::House, pages::words};
use rocket::http::Status;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    caps::Cap,
    estate::{
        Cluster, Consistent, End, Estate, Fact, Host, Machine, MachineState, Pair, Replica, Site,
        Snapshot, StoredPoint, Trouble, Twin, Wanted,
    },
    ids::{ClusterId, HostId, MachineId, PairId, SiteId, VolumeId},
    moment::{Moment, Span},
    testkit::read,
    units::Bytes,
};

pub(crate) const PAIR: u64 = 700;
const THERE: SiteId = SiteId(990);

fn end(site: SiteId, carriers: [u64; 2], own: u64, other: u64) -> End {
    End {
        site,
        carriers: carriers.map(HostId).into(),
        network: None,
        cap: Cap::read("40 MiB/s; Mo-Fr 07:00-18:00 10 MiB/s", "Europe/Oslo").unwrap(),
        clusters: [(ClusterId(other), ClusterId(own))].into(),
        volumes: Default::default(),
        networks: Default::default(),
    }
}

/// As its host has it.
fn snapshot(p: &StoredPoint, parent: Option<Uuid>) -> Snapshot {
    Snapshot {
        uuid: p.session,
        name: "then".into(),
        note: String::new(),
        taken: p.taken,
        parent,
        consistent: p.consistent,
        memory: None,
        disks: Some(1),
        ends: None,
    }
}

/// Two sites that are a pair, and a replica of machine 7 with two points at the second.
pub(crate) fn estate() -> Estate {
    let small = read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 16 on 1\ncluster fulmar careless\nhost 3 512\nhost 4 512",
    );
    let mut e = Estate::clone(&small.view.estate);
    e.put(Fact::Site(Arc::new(Site {
        id: THERE,
        name: "Hill<i>top".into(),
    })));
    let mut c = Cluster::clone(&e.clusters[&ClusterId(902)]);
    c.site = THERE;
    e.put(Fact::Cluster(Arc::new(c)));
    for id in [3, 4] {
        let mut h = Host::clone(&e.hosts[&HostId(id)]);
        h.site = THERE;
        e.put(Fact::Host(Arc::new(h)));
    }
    e.put(Fact::Pair(Arc::new(Pair {
        id: PairId(PAIR),
        name: "str<i>ait".into(),
        ends: [
            end(SiteId(900), [1, 2], 901, 902),
            end(THERE, [3, 4], 902, 901),
        ],
        squeezed: true,
        trouble: Some(Trouble {
            since: Moment(1_700_000_000_000),
            text: "h4 <b>can't</b> be reached.".into(),
        }),
    })));
    let db = e.machines[&MachineId(7)].clone();
    let mut m = Machine::clone(&db);
    m.id = MachineId(20);
    m.uuid = Uuid::from_u128(20);
    m.name = "db-there".into();
    m.cluster = Some(ClusterId(902));
    m.host = None;
    m.state = MachineState::Off;
    m.wanted = Wanted::Off;
    m.disks[0].volume = VolumeId(952);
    let points = [1u128, 2].map(|n| StoredPoint {
        session: Uuid::from_u128(n),
        taken: Moment(1_700_000_000_000 + 3_600_000 * i64::try_from(n).unwrap()),
        consistent: Consistent::Quiet,
        size: Bytes::gib(10),
        read: Bytes::mib(300 + 7 * u64::try_from(n).unwrap()),
        stored: Bytes::mib(90),
        took: Span::secs(31),
        job: None,
        locked: None,
        ends: None,
        whole: None,
        group: None,
        equal: None,
        proof: None,
    });
    for p in &points {
        let parent = m.snapshots.rests_on;
        m.snapshots.take(snapshot(p, parent));
    }
    let twin = Twin {
        original: db.disks[0].key,
        own: Uuid::from_u128(200),
    };
    m.replica = Some(Box::new(Replica {
        of: db.uuid,
        name: db.name.clone(),
        pair: PairId(PAIR),
        astray: false,
        disks: vec![twin],
        points: points.into(),
    }));
    e.put(Fact::Machine(Arc::new(m)));
    e
}

/// If this fails, somebody can't see how a pair carries or what came over it, or a name becomes markup.
#[sqlx::test(migrations = false)]
async fn a_pair_shows_both_ways_what_was_found_and_what_came_over_it(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    for path in [
        format!("/protect/pairs/{PAIR}"),
        format!("/protect/pairs/{PAIR}/part"),
        "/protect".to_owned(),
    ] {
        let (status, page) = house.get(&cookie, &path).await;
        assert_eq!(status, Status::Ok, "{path}");
        assert!(
            !page.contains("str<i>ait")
                && !page.contains("Hill<i>top")
                && !page.contains("<b>can't"),
            "{path}"
        );
    }
    let (_, page) = house.get(&cookie, &format!("/protect/pairs/{PAIR}")).await;
    let said = words(&page);
    for expected in [
        "Quayside to Hill",
        "h1, h2",
        "10 MiB/s",
        "eider = fulmar",
        "No host at Quayside reaches one at Hill",
        "db-there",
        "314 MiB",
        "this manager's own processes",
        "its file systems stood still",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    let (_, home) = house.get(&cookie, "/").await;
    assert!(
        words(&home).contains("does not carry as it should"),
        "it stands under what needs somebody"
    );
    let viewer = house.sign_in("vera").await;
    let (_, page) = house.get(&viewer, &format!("/protect/pairs/{PAIR}")).await;
    assert!(
        !page.contains("/sheet/remove-pair"),
        "nothing for whoever may not"
    );
    let (status, _) = house.get(&cookie, "/protect/pairs/9999").await;
    assert_eq!(status, Status::NotFound);
}

/// If this fails, what was typed into the sheet is lost, or a word that can't be read has no words beside its field.
#[sqlx::test(migrations = false)]
async fn the_sheet_of_a_pair_keeps_what_was_typed(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    let (status, fresh) = house.get(&cookie, "/sheet/pair").await;
    assert_eq!(status, Status::Ok);
    assert!(
        fresh.contains("value=\"h1, h2\"") && fresh.contains("eider = fulmar"),
        "what is alike is filled in"
    );
    let typed = "sent=1&name=sound&a_site=900&b_site=990&a_was=900&b_was=990&maps_of=900-990&a_carriers=h1%2C+nobody&b_carriers=h3+h4&a_cap=quick&clusters=eider+%3D+tern&networks=&volumes=&zone=UTC";
    let (status, sheet) = house.get(&cookie, &format!("/sheet/pair?{typed}")).await;
    assert_eq!(status, Status::Ok);
    let said = words(&sheet);
    for expected in [
        "There is no host “nobody”",
        "is no rate",
        "no cluster “tern”",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    for kept in ["h1, nobody", "h3 h4", "quick", "eider = tern", "sound"] {
        assert!(sheet.contains(kept), "{kept}");
    }
    // Another site: hosts and clusters of the one before are of no use.
    let other = typed
        .replace("b_was=990", "b_was=900")
        .replace("a_carriers=h1%2C+nobody", "a_carriers=h1+h2");
    let (_, sheet) = house.get(&cookie, &format!("/sheet/pair?{other}")).await;
    assert!(sheet.contains("value=\"h3, h4\""), "{sheet}");
    let (_, had) = house.get(&cookie, &format!("/sheet/pair?of={PAIR}")).await;
    assert!(
        had.contains("Mo-Fr 07:00-18:00") && words(&had).contains("Nothing of the pair is changed"),
        "{had}"
    );
}

/// If this fails, a replica looks like a machine that can be powered on, or the ways to go on from it lead nowhere.
#[sqlx::test(migrations = false)]
async fn a_replica_says_whose_it_is_and_offers_three_ways(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    let (status, page) = house.get(&cookie, "/machines/20").await;
    assert_eq!(status, Status::Ok);
    let said = words(&page);
    for expected in [
        "It is a replica of db",
        "Three ways to go on from it",
        "Make a copy of it",
        "307",
    ] {
        assert!(
            said.contains(expected) || page.contains(expected),
            "{expected}: {said}"
        );
    }
    assert!(
        !page.contains("/sheet/power?act=on&amp;ids=20")
            && !page.contains("/sheet/snapshot?ids=20")
    );
    for (sheet, word) in [
        ("start-replica", "follows db no more"),
        ("free-replica", "follows db no more"),
    ] {
        let (status, page) = house.get(&cookie, &format!("/sheet/{sheet}?id=20")).await;
        assert_eq!(status, Status::Ok);
        assert!(
            words(&page).contains(word) && words(&page).contains("Type its name"),
            "{sheet}"
        );
    }
    let copy = format!("/sheet/new-machines?from=machine-20:{}", Uuid::from_u128(2));
    let (status, _) = house.get(&cookie, &copy).await;
    assert_eq!(status, Status::Ok);
    let (_, power) = house.get(&cookie, "/sheet/power?act=on&ids=20").await;
    assert!(
        words(&power).contains("db-there is a replica of db"),
        "{}",
        words(&power)
    );
    // On the original's line of points the other site has a line of its own.
    let (_, original) = house.get(&cookie, "/protect/machines/7").await;
    assert!(words(&original).contains("What db is promised"));
    // A point of it has a page, on which it is proven; and the original's page leads there.
    let session = Uuid::from_u128(2);
    let path = format!("/protect/replicas/20/{session}");
    assert!(original.contains(&path), "{original}");
    let (status, point) = house.get(&cookie, &path).await;
    assert_eq!(status, Status::Ok);
    let said = words(&point);
    assert!(
        said.contains("A recovery point that db-there has") && said.contains("Prove it"),
        "{said}"
    );
    let (_, sheet) = house
        .get(
            &cookie,
            &format!("/sheet/prove?point=replica-20.{}", session.simple()),
        )
        .await;
    assert!(
        words(&sheet).contains("as db-there has it"),
        "{}",
        words(&sheet)
    );
    for gone in [
        "/protect/replicas/20/x".to_owned(),
        format!("/protect/replicas/7/{session}"),
        "/protect/replicas/9/part".into(),
    ] {
        let (status, _) = house.get(&cookie, &gone).await;
        assert_eq!(status, Status::NotFound, "{gone}");
    }
}
