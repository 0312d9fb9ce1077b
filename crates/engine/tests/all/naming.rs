//! Names of machines at a real name server: entered, followed, taken out, and what goes wrong there.

use crate::{
    lab::{Lab, NAMES_SECRET, eventually, until},
    network,
};
use base64::{Engine as _, engine::general_purpose::STANDARD};
use hickory_proto::{
    op::{Message, OpCode, Query},
    rr::{
        DNSClass, Name, RData, Record, RecordType, TSigner,
        rdata::{A, PTR, tsig::TsigAlgorithm},
    },
};
use sqlx::PgPool;
use std::{
    net::IpAddr,
    time::{Duration, SystemTime, UNIX_EPOCH},
};
use tokio::net::UdpSocket;
use zastrugi_core::{
    endpoint::Password,
    estate::Machine,
    ids::ClusterId,
    rooms::{
        Proposal, edits,
        edits::{Set, Target},
        hosts, joining, leaving, machines,
        machines::PowerAct,
        naming::{Ask, SetNames},
        networks,
    },
    runs::RunState,
};
use zastrugi_engine::{EventFilter, Resolve};

pub(crate) const ZONE: &str = "quay.example";

pub(crate) fn server(lab: &Lab) -> String {
    format!("{}.1.53:1053", lab.devices.net)
}

pub(crate) async fn set(lab: &Lab, cluster: ClusterId, zone: &str, secret: &str) -> Proposal {
    let secret = lab.desk.keep_secret(secret).await.unwrap();
    Proposal::Naming(Ask::Set(SetNames {
        cluster,
        zone: zone.into(),
        servers: vec![server(lab).into()],
        key: "zastrugi".into(),
        secret: Password::Kept(secret),
        leave: false,
    }))
}

async fn sent(lab: &Lab, message: &Message) -> Message {
    let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
    socket.connect(server(lab)).await.unwrap();
    socket.send(&message.to_vec().unwrap()).await.unwrap();
    let mut said = vec![0; 4096];
    let read = tokio::time::timeout(Duration::from_secs(5), socket.recv(&mut said));
    let n = read.await.unwrap().unwrap();
    Message::from_vec(&said[..n]).unwrap()
}

/// What stands under a name, as anybody is told it.
pub(crate) async fn stands(lab: &Lab, name: &Name, kind: RecordType) -> Vec<String> {
    let mut query = Query::new();
    query
        .set_name(name.clone())
        .set_query_type(kind)
        .set_query_class(DNSClass::IN);
    let mut message = Message::query();
    message.add_query(query);
    let said = sent(lab, &message).await;
    said.answers.iter().map(|r| r.data.to_string()).collect()
}

fn rooted(name: &str) -> Name {
    Name::from_ascii(format!("{name}.{ZONE}.")).unwrap()
}

async fn forward(lab: &Lab, name: &str) -> Vec<String> {
    let mut all = stands(lab, &rooted(name), RecordType::A).await;
    all.extend(stands(lab, &rooted(name), RecordType::AAAA).await);
    all
}

async fn back(lab: &Lab, address: &str) -> Vec<String> {
    let address: IpAddr = address.parse().unwrap();
    stands(lab, &Name::from(address), RecordType::PTR).await
}

/// Somebody else, who knows the key too, enters something.
async fn somebody(lab: &Lab, zone: &str, record: Record) {
    let mut of = Query::new();
    of.set_name(Name::from_ascii(zone).unwrap())
        .set_query_type(RecordType::SOA)
        .set_query_class(DNSClass::IN);
    let mut message = Message::query();
    message.metadata.op_code = OpCode::Update;
    message.add_query(of);
    message.add_authority(record);
    let key = STANDARD.decode(NAMES_SECRET).unwrap();
    let who = Name::from_ascii("zastrugi.").unwrap();
    let signer = TSigner::new(key, TsigAlgorithm::HmacSha256, who, 300).unwrap();
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap();
    message.finalize(&signer, now.as_secs()).unwrap();
    sent(lab, &message).await;
}

async fn somebody_enters(lab: &Lab, name: &str, address: [u8; 4]) {
    let record = Record::from_rdata(rooted(name), 60, RData::A(A(address.into())));
    somebody(lab, &format!("{ZONE}."), record).await;
    assert_eq!(forward(lab, name).await.len(), 1);
}

async fn lab(pool: &PgPool) -> (Lab, ClusterId) {
    let lab = network::lab(pool, 1).await;
    let crew = network::ask(&lab, "crew", 20, 1500);
    lab.done(Proposal::Networks(networks::Ask::Create(crew)))
        .await;
    let cluster = *lab.estate().clusters.keys().next().unwrap();
    (lab, cluster)
}

async fn machine(lab: &Lab, name: &str) {
    lab.done(network::on(lab, name, network::network(lab, "crew")))
        .await;
}

fn of(lab: &Lab, name: &str) -> std::sync::Arc<Machine> {
    lab.estate().machine_named(name).unwrap().clone()
}

async fn entered(lab: &Lab, machine: &str, name: Option<&str>) {
    eventually("its name is as it should be", || {
        of(lab, machine).entered.as_ref().map(|e| e.name.clone())
            == name.map(|n| format!("{n}.{ZONE}"))
    })
    .await;
}

/// If this fails, a name leads to a machine that is gone, to an address that somebody else has now, or nowhere.
#[sqlx::test(migrations = false)]
async fn a_name_is_entered_followed_and_taken_out(pool: PgPool) {
    let (lab, cluster) = lab(&pool).await;
    machine(&lab, "a").await;
    lab.done(set(&lab, cluster, "quay.example", NAMES_SECRET).await)
        .await;
    entered(&lab, "a", Some("a")).await;
    assert_eq!(forward(&lab, "a").await, ["10.2.0.10", "2001:db8:2::10"]);
    for address in ["10.2.0.10", "2001:db8:2::10"] {
        assert_eq!(back(&lab, address).await, ["a.quay.example."]);
    }
    assert!(of(&lab, "a").entered.as_ref().unwrap().back);
    assert_eq!(forward(&lab, "zastrugi-trial").await, Vec::<String>::new());
    // Machines that come later have theirs too, and keep it under another name.
    machine(&lab, "b").await;
    entered(&lab, "b", Some("b")).await;
    let target = Target::Machine(lab.machine("b"));
    let name = Set::Name("beacon".into());
    let edit = edits::Ask::Edit {
        targets: vec![target],
        sets: vec![name],
    };
    lab.done(Proposal::Edits(edit)).await;
    entered(&lab, "beacon", Some("beacon")).await;
    assert_eq!(
        forward(&lab, "b").await,
        Vec::<String>::new(),
        "nobody is b any more"
    );
    assert_eq!(back(&lab, "10.2.0.11").await, ["beacon.quay.example."]);
    // A deleted one gives its name up at once, and gets it back with its life.
    let machines = vec![lab.machine("beacon")];
    let off = machines::Ask::Power {
        machines: machines.clone(),
        act: PowerAct::Off,
    };
    lab.done(Proposal::Machines(off)).await;
    lab.done(Proposal::Machines(machines::Ask::Delete {
        machines: machines.clone(),
    }))
    .await;
    entered(&lab, "beacon", None).await;
    assert_eq!(
        forward(&lab, "beacon").await.len() + back(&lab, "10.2.0.11").await.len(),
        0
    );
    lab.done(Proposal::Machines(machines::Ask::Recover {
        machines,
        how: Default::default(),
    }))
    .await;
    entered(&lab, "beacon", Some("beacon")).await;
    // Without a zone nothing is left there.
    lab.done(set(&lab, cluster, "", NAMES_SECRET).await).await;
    for (name, address) in [("a", "10.2.0.10"), ("beacon", "10.2.0.11")] {
        assert_eq!(
            forward(&lab, name).await.len() + back(&lab, address).await.len(),
            0
        );
        assert!(of(&lab, name).entered.is_none());
    }
    lab.assert_once();
}

/// If this fails, what somebody else entered is overwritten, a wrong key is found out one machine later, or a way back is
/// promised that nobody has.
#[sqlx::test(migrations = false)]
async fn what_goes_wrong_there_is_said_and_breaks_nothing_of_others(pool: PgPool) {
    let (lab, cluster) = lab(&pool).await;
    let run = lab
        .start(set(&lab, cluster, "quay.example", "d3Jvbmc=").await)
        .await;
    let fault = needs_you(&lab, run).await;
    assert!(fault.contains("does not take the key"), "{fault}");
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(lab.estate().clusters[&cluster].dns.is_none());
    let other = set(&lab, cluster, "hill.example", NAMES_SECRET).await;
    lab.desk.ask_for_zone(&[server(&lab)], "hill.example").await;
    let stop = lab.desk.assess(&lab.admin, &other);
    assert!(
        stop.at_field("servers")
            .unwrap()
            .text
            .contains("not in charge of hill.example")
    );
    // Only forward.
    lab.standins.world.names_without_reverse("lantern", true);
    lab.done(set(&lab, cluster, "quay.example", NAMES_SECRET).await)
        .await;
    machine(&lab, "a").await;
    entered(&lab, "a", Some("a")).await;
    assert!(!of(&lab, "a").entered.as_ref().unwrap().back);
    let told = lab.desk.events(&EventFilter::default(), 50).await.unwrap();
    assert!(
        told.iter()
            .any(|e| e.text.ends_with("which does not lead back")),
        "{told:#?}"
    );
    lab.standins.world.names_without_reverse("lantern", false);
    // An address that somebody has lead elsewhere goes on leading there.
    let at = Name::from("10.2.0.11".parse::<IpAddr>().unwrap());
    let to = RData::PTR(PTR(rooted("theirs")));
    somebody(&lab, "2.10.in-addr.arpa.", Record::from_rdata(at, 60, to)).await;
    // A name that somebody has already stays theirs; taken out by them, it is ours.
    somebody_enters(&lab, "b", [192, 0, 2, 7]).await;
    machine(&lab, "b").await;
    let run = lab.by_itself("Name of b").await;
    let fault = needs_you(&lab, run).await;
    assert_eq!(
        fault,
        "b.quay.example is 192.0.2.7 already, entered by somebody else."
    );
    assert_eq!(forward(&lab, "b").await, ["192.0.2.7"]);
    let target = Target::Machine(lab.machine("b"));
    let edit = edits::Ask::Edit {
        targets: vec![target],
        sets: vec![Set::Name("c".into())],
    };
    lab.done(Proposal::Edits(edit)).await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    entered(&lab, "c", Some("c")).await;
    assert_eq!(forward(&lab, "b").await, ["192.0.2.7"], "as they left it");
    assert_eq!(back(&lab, "10.2.0.11").await, ["theirs.quay.example."]);
    assert!(!of(&lab, "c").entered.as_ref().unwrap().back);
    // While nobody answers nothing is lost.
    lab.standins.world.names_silent("lantern", true);
    let edit = edits::Ask::Edit {
        targets: vec![target],
        sets: vec![Set::Name("d".into())],
    };
    lab.done(Proposal::Edits(edit)).await;
    let run = lab.by_itself("Name of d").await;
    let fault = needs_you(&lab, run).await;
    assert!(fault.contains("does not answer"), "{fault}");
    lab.standins.world.names_silent("lantern", false);
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    entered(&lab, "d", Some("d")).await;
    assert_eq!(forward(&lab, "c").await, Vec::<String>::new());
}

async fn needs_you(lab: &Lab, run: zastrugi_core::ids::RunId) -> String {
    let stopped = until(&lab.desk, run, &[RunState::NeedsYou]).await;
    let fault = stopped.steps().find_map(|s| s.fault.clone());
    fault.unwrap().said
}

/// If this fails, a host that reaches no name server, or is told another address than the others, joins as if all were well.
#[sqlx::test(migrations = false)]
async fn a_host_that_joins_is_asked_what_it_is_told(pool: PgPool) {
    let lab = network::lab(&pool, 2).await;
    let cluster = *lab.estate().clusters.keys().next().unwrap();
    lab.done(set(&lab, cluster, ZONE, NAMES_SECRET).await).await;
    lab.by_itself("2 names of").await;
    eventually("both hosts have names", || {
        lab.estate().hosts.values().all(|h| h.entered.is_some())
    })
    .await;
    let host = lab.estate().host_named("h2").unwrap().id;
    let ask = Proposal::Leaving(leaving::Ask::Leave(leaving::Leave {
        hosts: vec![host],
        slow: false,
        force: false,
        wire: false,
        stop: false,
    }));
    lab.done(ask).await;
    assert_eq!(forward(&lab, "h2").await, Vec::<String>::new());
    // It comes back; no question of it gets through.
    lab.standins.world.unheard("h2", true);
    let mut claim = lab.claim().await;
    if let Proposal::Hosts(hosts::Ask::Claim(claim)) = &mut claim {
        let known = |at: &_| lab.estate().host_at(at).is_some();
        claim.targets.retain(|t| !known(&t.address));
    }
    let Proposal::Hosts(hosts::Ask::Claim(claim)) = claim else {
        panic!("a claim");
    };
    let ask = Proposal::Joining(joining::Ask::Welcome { claim, cluster });
    let run = lab.start(ask).await;
    let fault = needs_you(&lab, run).await;
    assert!(fault.contains("is not heard"), "{fault}");
    // Then it is; and somebody has added an address to its neighbour meanwhile.
    lab.standins.world.unheard("h2", false);
    let record = Record::from_rdata(rooted("h1"), 60, RData::A(A([192, 0, 2, 9].into())));
    somebody(&lab, &format!("{ZONE}."), record).await;
    let again = async || {
        lab.desk
            .answer(&lab.admin, run, Resolve::Retry)
            .await
            .unwrap();
    };
    again().await;
    eventually("what it is told is said", || {
        let look = lab.desk.look();
        let steps = look.runs.get(run).into_iter().flat_map(|r| r.steps());
        let mut said = steps.filter_map(|s| Some(s.fault.as_ref()?.said.as_str()));
        said.any(|f| f.contains("h2 is told that h1.quay.example leads to"))
    })
    .await;
    let mut gone = Record::from_rdata(rooted("h1"), 0, RData::A(A([192, 0, 2, 9].into())));
    gone.dns_class = DNSClass::NONE;
    somebody(&lab, &format!("{ZONE}."), gone).await;
    again().await;
    let ended = until(&lab.desk, run, &[RunState::Done, RunState::NeedsYou]).await;
    let said: Vec<&str> = ended.steps().map(|s| s.said.as_str()).collect();
    assert!(said.contains(&"told 2 names; none leads back"), "{said:?}");
}
