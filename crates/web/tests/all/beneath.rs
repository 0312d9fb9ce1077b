//! Storage and networks on pages: what stands there, who is offered what, and forms that lose nothing.

use crate::{
    house::House,
    markup::wrongs,
    pages::{read, words},
};
use rocket::http::Status;
use sqlx::PgPool;
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    addressing::range,
    estate::{
        Array, Backing, Controller, Estate, Fact, Host, HostNet, Network, Part, Pool, Provisioning,
        Served, Service, Snaps, SpareDisk, Stray, Subnet, Switch, SwitchPort, Uplink, Volume,
    },
    ids::{ArrayId, HostId, MachineId, NetworkId, SiteId, SwitchId, VolumeId},
    moment::{Moment, Span},
    testkit::{self, paths},
    units::Bytes,
};

fn controller(address: &str, silent: Option<&str>) -> Controller {
    Controller {
        address: address.into(),
        pin: "p".into(),
        silent: silent.map(str::to_owned),
    }
}

fn array() -> Array {
    Array {
        controllers: vec![
            controller("10.0.9.201:8443", None),
            controller("10.0.9.202:8443", Some("no answer in 2 s")),
        ],
        user: "keeper".into(),
        maker: "Tidestone".into(),
        model: "B4".into(),
        serial: "TS77".into(),
        pools: vec![Pool {
            name: "fast".into(),
            capacity: Bytes::gib(20_480),
            used: Bytes::gib(2048),
            service: None,
        }],
        portals: vec!["10.0.9.1:3260".into(), "10.0.9.2:3260".into()],
        ..testkit::array(ArrayId(700), "basalt", SiteId(900))
    }
}

fn uplinks() -> BTreeSet<String> {
    ["uplink-1".to_owned()].into()
}

fn network() -> Network {
    Network {
        mtu: 9000,
        subnets: vec![Subnet {
            net: "10.2.0.0/24".parse().unwrap(),
            gateway: "10.2.0.1".parse().ok(),
            ranges: vec![range("10.2.0.10-10.2.0.99", Part::Guests).unwrap()],
        }],
        uplinks: uplinks(),
        note: "for <crews>".into(),
        ..testkit::network(NetworkId(800), "crew")
    }
}

/// Two hosts; the second lacks a path, the network and the frame size on its switch port.
pub(crate) fn estate() -> Estate {
    let small = testkit::read("cluster eider\nhost 1 256\nhost 2 256\nmachine 7 db 64 on 1");
    let mut estate = Estate::clone(&small.view.estate);
    estate.put(Fact::Array(Arc::new(array())));
    let mut slab = Volume::clone(&estate.volumes[&VolumeId(951)]);
    slab.backing = Some(Backing {
        array: ArrayId(700),
        lun: "1".into(),
        pool: "fast".into(),
    });
    estate.put(Fact::Volume(Arc::new(slab)));
    estate.put(Fact::Network(Arc::new(network())));
    let port = SwitchPort {
        up: true,
        mtu: 9216,
        untagged: 1,
        tagged: BTreeSet::from([20]),
        neighbour: Some(("h1".into(), "uplink-1".into())),
    };
    estate.put(Fact::Switch(Arc::new(Switch {
        id: SwitchId(850),
        name: "sw1".into(),
        site: SiteId(900),
        access: controller("10.0.8.1:8443", None),
        user: "reader".into(),
        key: None,
        ports: [("eth1".to_owned(), port)].into(),
        known: true,
    })));
    for id in [1, 2] {
        let mut host = Host::clone(&estate.hosts[&HostId(id)]);
        host.uplinks = vec![Uplink {
            name: "uplink-1".into(),
            mac: format!("06:00:00:00:00:0{id}"),
            mbit: 25_000,
            up: true,
            switch: "sw1".into(),
            port: format!("eth{id}"),
        }];
        if id == 1 {
            let has = HostNet {
                vlan: Some(20),
                mtu: 9000,
                uplinks: uplinks(),
            };
            host.networks.insert("crew".into(), has);
        } else {
            host.mounts.insert(VolumeId(951), paths(1));
        }
        estate.put(Fact::Host(Arc::new(host)));
    }
    estate
}

#[sqlx::test(migrations = false)]
async fn storage_tells_both_layers_drift_and_silent_controllers(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let ada = house.sign_in("ada").await;
    let list = read(&house, &ada, "/storage").await;
    for said in [
        "slab-951: 1 host lacks paths",
        "basalt: 1 of 2 controllers silent",
        "100 GiB of 10 TiB",
        "fast: 18 TiB free",
        "2 of 2",
    ] {
        assert!(
            list.replace('\u{a0}', " ").contains(said),
            "“{said}” is not in {list}"
        );
    }
    let volume = read(&house, &ada, "/storage/volumes/951").await;
    for said in [
        "h2 has 1 of 2 paths.",
        "10.0.9.2:3260",
        "too early to say, 0 of 7 daily points",
        "basalt, pool fast",
        "Bring back to all hosts",
        "db",
    ] {
        assert!(volume.contains(said), "“{said}” is not in {volume}");
    }
    let one = read(&house, &ada, "/storage/arrays/700").await;
    for said in ["TS77", "no answer in 2 s", "keeper", "slab-951"] {
        assert!(one.contains(said), "“{said}” is not in {one}");
    }
    let field = read(&house, &ada, "/").await;
    assert!(field.contains("h2 has 1 of 2 paths to slab-951"), "{field}");
    let otto = house.sign_in("otto").await;
    let seen = read(&house, &otto, "/storage/volumes/951").await;
    assert!(
        !seen.contains("Hand back") && !seen.contains("Bring back"),
        "{seen}"
    );
    assert_eq!(
        house.get(&otto, "/sheet/heal-volume?ids=951").await.0,
        Status::Forbidden
    );
    assert_eq!(
        house.get(&ada, "/storage/volumes/77").await.0,
        Status::NotFound
    );
}

#[sqlx::test(migrations = false)]
async fn networks_tell_what_differs_and_who_has_which_address(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let ada = house.sign_in("ada").await;
    let list = read(&house, &ada, "/networks").await;
    for said in [
        "One host differs from what was meant.",
        "crew on h2: missing on the host",
        "Mend it",
        "sw1",
    ] {
        assert!(list.contains(said), "“{said}” is not in {list}");
    }
    let crew = read(&house, &ada, "/networks/800").await;
    for said in [
        "10.2.0.0/24",
        "Next free: 10.2.0.10",
        "gateway",
        "one host differs",
        "Set it up again",
    ] {
        assert!(crew.contains(said), "“{said}” is not in {crew}");
    }
    let (_, raw) = house.get(&ada, "/networks/800").await;
    assert!(!raw.contains("<crews>"), "a note is text");
    // Kept addresses by pasted CSV: read back the same, and a slip is said with its line.
    let token = house.token(&ada).await;
    let body = |lines: &str| {
        let pairs = [
            ("_csrf", token.as_str()),
            ("sent", "1"),
            ("ids", "800"),
            ("reserved", lines),
            ("note", ""),
        ];
        form_urlencoded::Serializer::new(String::new())
            .extend_pairs(pairs)
            .finish()
    };
    let (status, page) = house
        .post(
            &ada,
            "/sheet/edit-network",
            body("address,what\n10.2.0.50,printer\nnonsense,x"),
        )
        .await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(
        words(&page).contains("Line 3: “nonsense” is no address."),
        "{}",
        words(&page)
    );
    assert!(page.contains("10.2.0.50,printer"), "what was typed is kept");
    let (status, _) = house
        .post(
            &ada,
            "/sheet/edit-network",
            body("address,what\n10.2.0.50,printer\n10.2.0.1,gateway"),
        )
        .await;
    assert_eq!(status, Status::SeeOther);
    let (_, csv) = house.get(&ada, "/networks/800/addresses.csv").await;
    let kept = csv.lines().find(|l| l.starts_with("10.2.0.50")).unwrap();
    assert!(
        kept.starts_with("10.2.0.50,printer,20"),
        "with the time since when: {kept}"
    );
}

#[sqlx::test(migrations = false)]
async fn a_new_network_says_what_is_wrong_at_its_field_and_keeps_what_was_typed(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    let body = format!(
        "_csrf={token}&sent=1&name=tickets&vlan=20%2C30&mtu=jumbo&uplink=uplink-1&subnet=10.9.0.0%2F33&gateway=&guests=&hosts=&subnet=&gateway=2001%3Adb8%3A%3A1&guests=&hosts="
    );
    let (status, page) = house.post(&ada, "/sheet/new-network", body).await;
    assert_eq!(status, Status::UnprocessableEntity);
    let text = words(&page);
    for said in [
        "“20,30” is a list; one network has one VLAN.",
        "“jumbo” is not a whole number.",
        "“10.9.0.0/33” is no subnet such as 10.2.0.0/24.",
        "It needs a subnet first.",
    ] {
        assert!(text.contains(said), "“{said}” is not in {text}");
    }
    for kept in [
        "value=\"20,30\"",
        "value=\"jumbo\"",
        "value=\"10.9.0.0/33\"",
        "value=\"2001:db8::1\"",
    ] {
        assert!(page.contains(kept), "{kept} is lost");
    }
}

#[sqlx::test(migrations = false)]
async fn the_matrix_of_64_hosts_and_40_networks_is_one_small_page(pool: PgPool) {
    let mut text = "cluster eider\n".to_owned();
    for h in 1..=64 {
        text += &format!("host {h} 256\n");
    }
    let small = testkit::read(&text);
    let mut estate = Estate::clone(&small.view.estate);
    for n in 0u16..40 {
        let mut net = network();
        net.id = NetworkId(2000 + u64::from(n));
        net.name = format!("net-{n:02}");
        net.vlan = Some(100 + n);
        net.subnets.clear();
        estate.put(Fact::Network(Arc::new(net)));
    }
    let hosts: Vec<Host> = estate.hosts.values().map(|h| Host::clone(h)).collect();
    for mut host in hosts {
        for n in 0u16..40 {
            let has = HostNet {
                vlan: Some(100 + n),
                mtu: 9000,
                uplinks: uplinks(),
            };
            host.networks.insert(format!("net-{n:02}"), has);
        }
        if host.id == HostId(9) {
            host.networks.remove("net-07");
        }
        estate.put(Fact::Host(Arc::new(host)));
    }
    let house = House::of(&pool, &estate).await;
    let vera = house.sign_in("vera").await;
    let (_, page) = house.get(&vera, "/networks").await;
    assert!(page.len() < 150 * 1024, "{} bytes", page.len());
    assert!(words(&page).contains("net-07 on h9: missing on the host"));
    let fine = page.matches("l8-11 4 11z").count();
    assert_eq!(fine, 64 * 40 - 1, "each cell that is as meant is drawn");
}

#[sqlx::test(migrations = false)]
async fn every_new_page_has_one_heading_and_every_field_a_label(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    for path in [
        "/storage",
        "/storage/volumes/951",
        "/storage/arrays/700",
        "/networks",
        "/networks/800",
        "/sheet/connect-array",
        "/sheet/connect-volume",
        "/sheet/extend-volume?ids=951",
        "/sheet/heal-volume?ids=951",
        "/sheet/edit-volume?ids=951",
        "/sheet/give-volume?ids=951",
        "/sheet/connect-switch",
        "/sheet/new-network",
        "/sheet/heal-network?ids=800",
        "/sheet/edit-network?ids=800",
        "/sheet/remove-network?ids=800",
        "/sheet/new-machines",
    ] {
        let (status, page) = house.get(&cookie, path).await;
        assert_eq!(status, Status::Ok, "{path}");
        assert_eq!(wrongs(&page), Vec::<String>::new(), "{path}");
    }
}

#[sqlx::test(migrations = false)]
async fn pieces_of_a_file_need_role_token_and_size(pool: PgPool) {
    use rocket::http::Header;
    let house = House::new(&pool, crate::house::ESTATE).await;
    let piece = |name: &'static str, token: Option<String>, bytes: usize| {
        let house = &house;
        async move {
            let cookie = house.sign_in(name).await;
            let token = match token {
                Some(token) => token,
                None => house.token(&cookie).await,
            };
            let mut request = house.client.put("/storage/images/600/bytes?from=0");
            request.add_header(Header::new("Sec-Fetch-Site", "same-origin"));
            request.add_header(Header::new("X-CSRF-Token", token));
            let request = request.cookie(cookie).body(vec![0; bytes]);
            request.dispatch().await.status()
        }
    };
    assert_eq!(piece("vera", None, 10).await, Status::Forbidden);
    assert_eq!(
        piece("otto", None, 10).await,
        Status::Gone,
        "an operator sends images too"
    );
    let wrong = Some("wrong".to_owned());
    assert_eq!(piece("ada", wrong, 10).await, Status::Forbidden);
    assert_eq!(
        piece("ada", None, 9 << 20).await,
        Status::PayloadTooLarge,
        "only so much at once"
    );
    assert_eq!(
        piece("ada", None, 10).await,
        Status::Gone,
        "an image that nobody awaits"
    );
}

#[sqlx::test(migrations = false)]
async fn kept_addresses_may_be_ranges(pool: PgPool) {
    let small = zastrugi_core::testkit::read(crate::house::ESTATE);
    let mut estate = (*small.view.estate).clone();
    let mut crew = zastrugi_core::testkit::network(zastrugi_core::ids::NetworkId(600), "crew");
    crew.subnets = vec![
        serde_json::from_value(
            serde_json::json!({"net": "10.9.0.0/24", "gateway": null, "ranges": []}),
        )
        .unwrap(),
    ];
    estate.put(zastrugi_core::estate::Fact::Network(crew.into()));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let typed = "10.9.0.10-10.9.0.19,printers%0A10.9.0.30,camera";
    let body = format!("_csrf={token}&sent=1&ids=600&note=&reserved={typed}");
    let (status, page) = house.post(&cookie, "/sheet/edit-network", body).await;
    assert_eq!(status, Status::SeeOther, "{page}");
    for _ in 0..100 {
        if house.desk().look().estate.networks[&zastrugi_core::ids::NetworkId(600)]
            .reserved
            .len()
            == 11
        {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(30)).await;
    }
    let (_, page) = house.get(&cookie, "/sheet/edit-network?ids=600").await;
    assert!(
        page.contains("10.9.0.10-10.9.0.19,printers\n10.9.0.30,camera"),
        "{page}"
    );
    let body = format!("_csrf={token}&sent=1&ids=600&note=&reserved=10.9.0.9-10.9.0.1,x");
    let (_, page) = house.post(&cookie, "/sheet/edit-network", body).await;
    assert!(page.contains("the first is above the last"), "{page}");
}

/// A second volume on which lie a record that nobody knows, called as whoever made it liked, and a second one of `db`; and so many
/// unattached disks.
fn left_behind(disks: u128) -> Estate {
    let mut estate = estate();
    let db = estate.machines[&MachineId(7)].clone();
    let mut quay = Volume::clone(&estate.volumes[&VolumeId(951)]);
    (quay.id, quay.name, quay.uid) = (VolumeId(952), "quay".into(), "vol-952".into());
    let held = Stray::of(&db, Moment(0));
    let unknown = Stray {
        name: "<b>payroll</b>".into(),
        ..held.clone()
    };
    quay.strays.all = [(Uuid::from_u128(77), unknown), (db.uuid, held)].into();
    quay.unattached.seq = 1;
    for n in 0..disks {
        let disk = SpareDisk {
            size: Bytes::gib(4),
            provisioning: Provisioning::Thin,
            takes: Bytes::gib(1),
            had: format!("berth-{n:04}"),
            since: Moment(i64::try_from(n).unwrap()),
            deleted: None,
        };
        quay.unattached.disks.insert(Uuid::from_u128(n + 1), disk);
    }
    estate.put(Fact::Volume(Arc::new(quay)));
    estate
}

/// If this fails, records that are no machine's are listed nowhere, or a name that somebody gave one is read as markup.
#[sqlx::test(migrations = false)]
async fn records_that_are_no_machines_stand_where_they_can_be_settled(pool: PgPool) {
    let house = House::of(&pool, &left_behind(0)).await;
    let ada = house.sign_in("ada").await;
    let volume = read(&house, &ada, "/storage/volumes/952").await;
    for said in [
        "Records that are no machine’s",
        "a second record of",
        "Compare",
        "Register",
        "Forget",
    ] {
        assert!(volume.contains(said), "“{said}” is not in {volume}");
    }
    assert!(!volume.contains("<b>payroll</b>"), "{volume}");
    let machine = read(&house, &ada, "/machines/7").await;
    assert!(
        machine.contains("A second record of it lies on quay"),
        "{machine}"
    );
    let field = read(&house, &ada, "/").await;
    assert!(
        field.contains("On quay lie 2 records that are no machine"),
        "{field}"
    );
    let known = left_behind(0).machines[&MachineId(7)].uuid;
    let path = format!("/sheet/register-records?volume=952&records={known}");
    let sheet = read(&house, &ada, &path).await;
    for said in ["Which record is db?", "Taken by hosts", "the same"] {
        assert!(sheet.contains(said), "“{said}” is not in {sheet}");
    }
    let vera = house.sign_in("vera").await;
    let seen = read(&house, &vera, "/storage/volumes/952").await;
    assert!(
        seen.contains("a second record of") && !seen.contains("Forget"),
        "{seen}"
    );
    assert_eq!(house.get(&vera, &path).await.0, Status::Forbidden);
}

/// If this fails, a thousand unattached disks make a page that nobody waits for, or those behind the first hundred are never seen.
#[sqlx::test(migrations = false)]
async fn a_thousand_unattached_disks_are_shown_a_window_at_a_time(pool: PgPool) {
    let house = House::of(&pool, &left_behind(1000)).await;
    let ada = house.sign_in("ada").await;
    let first = read(&house, &ada, "/storage").await;
    assert!(first.contains("berth-0000") && first.contains("berth-0099"));
    assert!(!first.contains("berth-0100"));
    assert!(first.contains("1–100 of 1000"), "{first}");
    let last = read(&house, &ada, "/storage?from=900").await;
    assert!(last.contains("berth-0999") && !last.contains("berth-0899"));
}

/// If this fails, what an array does for a volume is not to be seen, or looks as if it were certain while the array is silent.
#[sqlx::test(migrations = false)]
async fn a_volume_shows_what_its_array_says_that_it_does(pool: PgPool) {
    let mut estate = estate();
    let mut array = array();
    let service = Service {
        class: "fast & copied".into(),
        latency_us: Some(400),
        snapshots: Some(Snaps {
            every: Span::mins(15),
            keep: None,
        }),
        ..Service::default()
    };
    array.pools[0].service = Some(Box::new(service.clone()));
    let served = Served {
        service,
        group: Some("ledger".into()),
        since: Moment(0),
        before: None,
    };
    array.served.insert(VolumeId(951), served);
    estate.put(Fact::Array(Arc::new(array.clone())));
    let house = House::of(&pool, &estate).await;
    let ada = house.sign_in("ada").await;
    let volume = read(&house, &ada, "/storage/volumes/951").await;
    for said in [
        "400 µs on average",
        "every 15 min",
        "with all of ledger",
        "it is asked every few seconds",
    ] {
        assert!(volume.contains(said), "“{said}” is not in {volume}");
    }
    assert!(!volume.contains("fast & copied"), "escaped");
    let page = read(&house, &ada, "/storage/arrays/700").await;
    assert!(page.contains("snapshots every 15 min"), "{page}");
}
