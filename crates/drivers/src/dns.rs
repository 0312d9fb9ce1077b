//! A name server: asked (RFC 1035), and told changes (RFC 2136) that are signed (RFC 8945).

use crate::fault::words;
use hickory_proto::{
    op::{Message, OpCode, Query, ResponseCode},
    rr::{
        DNSClass, Name, RData, Record, RecordType, TSigner,
        rdata::{A, AAAA, PTR, tsig::TsigAlgorithm},
    },
};
use std::{
    collections::BTreeSet,
    net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr},
    time::{Duration, SystemTime, UNIX_EPOCH},
};
use tokio::{net::UdpSocket, time::timeout};
use zastrugi_core::runs::{Fault, FaultKind};

/// A packet may be lost; whoever is there answers within milliseconds.
const PATIENCE: Duration = Duration::from_millis(900);
const TRIES: usize = 3;
/// The largest answer that is read, in bytes: without EDNS a server sends at most 512 (RFC 1035, section 4.2.1).
const LARGEST: usize = 4096;
/// How long others may rest on a name, in seconds.
const TTL: u32 = 300;
/// Clocks of ours and of the server may be so far apart, in seconds (RFC 8945, section 10).
const FUDGE: u16 = 300;

/// One server, with the key that it knows us by.
pub(crate) struct NameServer {
    pub(crate) at: SocketAddr,
    pub(crate) key: Option<TSigner>,
}

fn ours(what: impl std::fmt::Display) -> Fault {
    let remedy = "Look at the name and at the key.";
    Fault::new(FaultKind::Garbled, words(&what.to_string()), remedy)
}

/// A name as the protocol has it, from its root.
pub(crate) fn rooted(name: &str) -> Result<Name, Fault> {
    Name::from_ascii(format!("{}.", name.trim_end_matches('.'))).map_err(ours)
}

/// What signs changes, from a secret in base64.
pub(crate) fn signer(key: &str, secret: &[u8]) -> Result<TSigner, Fault> {
    TSigner::new(
        secret.to_vec(),
        TsigAlgorithm::HmacSha256,
        rooted(key)?,
        FUDGE,
    )
    .map_err(ours)
}

impl NameServer {
    fn fault(&self, kind: FaultKind, said: impl std::fmt::Display, remedy: &str) -> Fault {
        Fault::new(kind, format!("{} {said}.", self.at), remedy)
    }

    async fn send(&self, message: &Message) -> Result<Vec<u8>, Fault> {
        let bytes = message.to_vec().map_err(ours)?;
        let any: SocketAddr = match self.at {
            SocketAddr::V4(_) => (Ipv4Addr::UNSPECIFIED, 0).into(),
            SocketAddr::V6(_) => (Ipv6Addr::UNSPECIFIED, 0).into(),
        };
        let remedy = "Check that it is on and that its address is right, then retry.";
        let broken = |error: std::io::Error| {
            self.fault(
                FaultKind::Unreachable,
                format!("can't be asked: {error}"),
                remedy,
            )
        };
        let socket = UdpSocket::bind(any).await.map_err(broken)?;
        socket.connect(self.at).await.map_err(broken)?;
        for _ in 0..TRIES {
            socket.send(&bytes).await.map_err(broken)?;
            let mut said = vec![0; LARGEST];
            if let Ok(read) = timeout(PATIENCE, socket.recv(&mut said)).await {
                said.truncate(read.map_err(broken)?);
                // An answer to an earlier question that came late is nobody's.
                if said.get(..2) == bytes.get(..2) {
                    return Ok(said);
                }
            }
        }
        Err(self.fault(FaultKind::TimedOut, "does not answer", remedy))
    }

    async fn ask(&self, name: &Name, kind: RecordType) -> Result<Message, Fault> {
        let mut query = Query::new();
        query
            .set_name(name.clone())
            .set_query_type(kind)
            .set_query_class(DNSClass::IN);
        let mut message = Message::query();
        message.add_query(query);
        let said = self.send(&message).await?;
        Message::from_vec(&said).map_err(|e| {
            self.fault(
                FaultKind::Garbled,
                format!("answers nonsense: {e}"),
                "Look at it.",
            )
        })
    }

    /// The serial of a zone that it is in charge of; none: it is not.
    pub(crate) async fn serial(&self, zone: &Name) -> Result<Option<u32>, Fault> {
        let said = self.ask(zone, RecordType::SOA).await?;
        let soa = said.answers.iter().find_map(|r| match &r.data {
            RData::SOA(soa) => Some(soa.serial),
            _ => None,
        });
        Ok(soa.filter(|_| said.metadata.authoritative))
    }

    /// The zone that holds a name, if this server is in charge of it.
    async fn zone_of(&self, name: &Name) -> Result<Option<Name>, Fault> {
        let said = self.ask(name, RecordType::SOA).await?;
        let all = said.answers.iter().chain(&said.authorities);
        let mut zones = all.filter(|r| matches!(r.data, RData::SOA(_)));
        let found = zones.find(|r| r.name.zone_of(name));
        Ok(found
            .filter(|_| said.metadata.authoritative)
            .map(|r| r.name.clone()))
    }

    /// Every address that stands under a name.
    pub(crate) async fn addresses(&self, name: &Name) -> Result<BTreeSet<IpAddr>, Fault> {
        let mut all = BTreeSet::new();
        for kind in [RecordType::A, RecordType::AAAA] {
            let said = self.ask(name, kind).await?;
            all.extend(said.answers.iter().filter_map(|r| match &r.data {
                RData::A(a) => Some(IpAddr::V4(a.0)),
                RData::AAAA(a) => Some(IpAddr::V6(a.0)),
                _ => None,
            }));
        }
        Ok(all)
    }

    /// Every name that an address leads back to.
    pub(crate) async fn back(&self, address: IpAddr) -> Result<Vec<Name>, Fault> {
        let said = self.ask(&Name::from(address), RecordType::PTR).await?;
        let names = said.answers.iter().filter_map(|r| match &r.data {
            RData::PTR(to) => Some(to.0.clone()),
            _ => None,
        });
        Ok(names.collect())
    }

    /// Under the name stand these addresses and no others, all at once.
    pub(crate) async fn enter(
        &self,
        zone: &Name,
        name: &Name,
        addresses: &BTreeSet<IpAddr>,
    ) -> Result<(), Fault> {
        let mut changes = vec![
            none_of(name, RecordType::A),
            none_of(name, RecordType::AAAA),
        ];
        changes.extend(addresses.iter().map(|address| {
            let data = match address {
                IpAddr::V4(v4) => RData::A(A(*v4)),
                IpAddr::V6(v6) => RData::AAAA(AAAA(*v6)),
            };
            Record::from_rdata(name.clone(), TTL, data)
        }));
        self.change(zone, changes).await
    }

    /// The address leads back to the name. Answers whether the server is in charge of where that would stand.
    pub(crate) async fn lead_back(&self, address: IpAddr, name: &Name) -> Result<bool, Fault> {
        let at = Name::from(address);
        let Some(zone) = self.zone_of(&at).await? else {
            return Ok(false);
        };
        let to = Record::from_rdata(at.clone(), TTL, RData::PTR(PTR(name.clone())));
        self.change(&zone, vec![none_of(&at, RecordType::PTR), to])
            .await?;
        Ok(true)
    }

    /// The address leads back to the name no more; what leads elsewhere stays.
    pub(crate) async fn lead_nowhere(&self, address: IpAddr, name: &Name) -> Result<(), Fault> {
        if !self.back(address).await?.contains(name) {
            return Ok(());
        }
        let at = Name::from(address);
        match self.zone_of(&at).await? {
            Some(zone) => {
                self.change(&zone, vec![none_of(&at, RecordType::PTR)])
                    .await
            }
            None => Ok(()),
        }
    }

    /// Several changes of one zone, all or none (RFC 2136, section 3.4).
    async fn change(&self, zone: &Name, changes: Vec<Record>) -> Result<(), Fault> {
        let mut message = Message::query();
        message.metadata.op_code = OpCode::Update;
        message.metadata.recursion_desired = false;
        let mut of = Query::new();
        of.set_name(zone.clone())
            .set_query_type(RecordType::SOA)
            .set_query_class(DNSClass::IN);
        message.add_query(of);
        message.add_authorities(changes);
        let mut verifier = None;
        if let Some(key) = &self.key {
            let now = SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .unwrap_or_default();
            verifier = message.finalize(key, now.as_secs()).map_err(ours)?;
        }
        let said = self.send(&message).await?;
        let garbled = |what: &str| {
            self.fault(
                FaultKind::Garbled,
                what,
                "Look at it; somebody may stand between.",
            )
        };
        let code = Message::from_vec(&said)
            .map_err(|_| garbled("answers nonsense"))?
            .metadata
            .response_code;
        match code {
            ResponseCode::NoError => {}
            ResponseCode::NotAuth => {
                let remedy = "Look at the key's name and secret, and that its clock is right.";
                return Err(self.fault(FaultKind::Password, "does not take the key", remedy));
            }
            ResponseCode::Refused => {
                let remedy = "Let it take changes of this zone that are signed with the key.";
                return Err(self.fault(
                    FaultKind::Refused,
                    format!("takes no changes of {zone} from us"),
                    remedy,
                ));
            }
            other => {
                return Err(self.fault(
                    FaultKind::Refused,
                    format!("answers a change with {other}"),
                    "Look at its log.",
                ));
            }
        }
        // Whoever only pretends to be the server does not know the key.
        if let Some(mut verifier) = verifier {
            verifier
                .verify(&said)
                .map_err(|_| garbled("answers without its signature"))?;
        }
        Ok(())
    }
}

/// No record of this kind stands under the name (RFC 2136, section 2.5.2).
fn none_of(name: &Name, kind: RecordType) -> Record {
    let mut record = Record::update0(name.clone(), 0, kind);
    record.dns_class = DNSClass::ANY;
    record
}
