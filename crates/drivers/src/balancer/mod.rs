//! Load balancers by their HTTP API (`docs/balancer.md`): fronts are set whole, members taken out and in one by one.

use crate::{
    Drivers, Turn,
    agent::{limited, segment},
    fault::words,
    http::Call,
};
use reqwest::Method;
use serde::{Deserialize, de::DeserializeOwned};
use serde_json::{Value, json};
use std::{collections::BTreeMap, net::SocketAddr};
use zastrugi_core::{
    estate::{
        Balancer, Check, Controller, Estate, Front, MemberState, Method as Picks, Protocol, Seen,
        Sticks,
    },
    evidence::Answer,
    fronts::members,
    ids::FrontId,
    runs::{Fault, FaultKind},
};

/// Members of one front that are read.
const MANY: usize = 1024;

#[derive(Deserialize)]
struct Greeting {
    name: String,
}

#[derive(Deserialize)]
struct Identity {
    name: String,
    software: String,
}

#[derive(Deserialize)]
struct Fronts {
    fronts: Vec<WireFront>,
}

#[derive(Deserialize)]
struct WireFront {
    id: String,
    #[serde(default)]
    trouble: Option<String>,
    members: Vec<WireMember>,
}

#[derive(Deserialize)]
struct WireMember {
    at: String,
    admitted: bool,
    state: String,
    #[serde(default)]
    why: String,
    #[serde(default)]
    connections: u32,
}

#[derive(Deserialize)]
struct Open {
    connections: u32,
}

/// A front as its balancer has it.
pub struct FrontSeen {
    pub members: BTreeMap<String, Seen>,
    /// Open connections, by member.
    pub open: BTreeMap<String, u32>,
}

impl WireFront {
    fn read(self) -> FrontSeen {
        let mut seen = FrontSeen {
            members: BTreeMap::new(),
            open: BTreeMap::new(),
        };
        for member in self.members.into_iter().take(MANY) {
            let at = limited(member.at);
            let state = match (member.state.as_str(), &self.trouble) {
                ("drains", _) => MemberState::Drains,
                ("out", _) => MemberState::Out,
                (_, Some(trouble)) => MemberState::Fails(words(trouble)),
                ("serves", None) => MemberState::Serves,
                _ => MemberState::Fails(words(&member.why)),
            };
            seen.open.insert(at.clone(), member.connections);
            seen.members.insert(
                at,
                Seen {
                    admitted: member.admitted,
                    state,
                },
            );
        }
        seen
    }
}

impl Drivers {
    /// What a front is called on its balancer: others than we may have fronts there too.
    fn front_name(&self, front: FrontId) -> String {
        format!("{}-{}", self.installation().id, front.0)
    }

    /// Who balances at `address`? Nothing secret is sent.
    pub(crate) async fn balancer_greeting(&self, address: &str) -> Result<Answer, Fault> {
        self.allowed(address)?;
        let (said, pin) = self.http.greet::<Greeting>(address, "/v1").await?;
        Ok(Answer::Manager {
            name: words(&said.name),
            pin,
        })
    }

    async fn at_balancer<T: DeserializeOwned>(
        &self,
        balancer: &Balancer,
        (method, path): (Method, String),
        turn: Option<Turn<'_>>,
        body: Option<Value>,
    ) -> Result<T, Fault> {
        self.allowed(&balancer.access.address)?;
        let none = || {
            Fault::new(
                FaultKind::Premise,
                "No token is kept.",
                "Connect the load balancer again.",
            )
        };
        let token = self.secrets.open(balancer.key.ok_or_else(none)?).await?;
        let mut headers = vec![("authorization", format!("Bearer {token}"))];
        if let Some(turn) = turn {
            headers.push(("step-key", turn.key.to_owned()));
            headers.push((
                "epoch",
                format!("{}.{}", turn.epoch.number, turn.epoch.history.simple()),
            ));
            headers.push(("fence", turn.fence.0.to_string()));
        }
        let call = Call {
            who: balancer.name.clone(),
            address: &balancer.access.address,
            pin: &balancer.access.pin,
            method,
            path,
            headers,
            body,
            bytes: None,
        };
        self.http.call(call).await
    }

    pub(crate) async fn read_balancer(&self, balancer: &Balancer) -> Result<Balancer, Fault> {
        let said: Identity = self
            .at_balancer(balancer, (Method::GET, "/v1/identity".into()), None, None)
            .await?;
        Ok(Balancer {
            name: limited(said.name),
            software: limited(said.software),
            known: true,
            access: Controller {
                silent: None,
                ..balancer.access.clone()
            },
            ..balancer.clone()
        })
    }

    /// Reads the balancer as it is now, with all of our fronts on it; a silent one is an answer too.
    pub async fn look_at_balancer(
        &self,
        estate: &Estate,
        balancer: &Balancer,
    ) -> (Balancer, Option<BTreeMap<FrontId, FrontSeen>>) {
        let read = async {
            Ok::<_, Fault>((
                self.read_balancer(balancer).await?,
                self.fronts_on(balancer).await?,
            ))
        };
        match read.await {
            Ok((read, mut on_it)) => {
                let ours = estate.fronts.values().filter(|f| f.balancer == balancer.id);
                let found =
                    ours.filter_map(|f| Some((f.id, on_it.remove(&self.front_name(f.id))?)));
                let found = found.collect();
                (read, Some(found))
            }
            Err(fault) => {
                let why = fault.said.trim_end_matches('.').to_owned();
                let silent = Balancer {
                    access: Controller {
                        silent: Some(why),
                        ..balancer.access.clone()
                    },
                    ..balancer.clone()
                };
                (silent, None)
            }
        }
    }

    async fn fronts_on(&self, balancer: &Balancer) -> Result<BTreeMap<String, FrontSeen>, Fault> {
        let said: Fronts = self
            .at_balancer(balancer, (Method::GET, "/v1/fronts".into()), None, None)
            .await?;
        Ok(said
            .fronts
            .into_iter()
            .map(|f| (f.id.clone(), f.read()))
            .collect())
    }

    /// A front as it is on its balancer; none where it is not there.
    pub(crate) async fn front_on(
        &self,
        balancer: &Balancer,
        front: FrontId,
    ) -> Result<Option<FrontSeen>, Fault> {
        Ok(self
            .fronts_on(balancer)
            .await?
            .remove(&self.front_name(front)))
    }

    pub(crate) async fn set_front(
        &self,
        estate: &Estate,
        balancer: &Balancer,
        front: &Front,
        turn: Turn<'_>,
    ) -> Result<(), Fault> {
        let path = format!("/v1/fronts/{}", segment(&self.front_name(front.id)));
        let mut body = config(estate, front);
        if let Some(certificate) = &front.certificate {
            body["certificate"] = certificate.shown.pem.as_str().into();
            body["key"] = self.secrets.open(certificate.key).await?.into();
        }
        self.at_balancer::<Value>(balancer, (Method::PUT, path), Some(turn), Some(body))
            .await
            .map(drop)
    }

    pub(crate) async fn drop_front(
        &self,
        balancer: &Balancer,
        front: FrontId,
        turn: Turn<'_>,
    ) -> Result<(), Fault> {
        let path = format!("/v1/fronts/{}", segment(&self.front_name(front)));
        self.at_balancer::<Value>(
            balancer,
            (Method::DELETE, path),
            Some(turn),
            Some(json!({})),
        )
        .await
        .map(drop)
    }

    /// Takes a member out: it gets no new connections. Answers how many it still has.
    pub(crate) async fn take_out(
        &self,
        balancer: &Balancer,
        front: FrontId,
        at: SocketAddr,
        turn: Turn<'_>,
    ) -> Result<u32, Fault> {
        let path = format!(
            "/v1/fronts/{}/members/{}",
            segment(&self.front_name(front)),
            segment(&at.to_string())
        );
        let body = Some(json!({"admitted": false}));
        let open: Open = self
            .at_balancer(balancer, (Method::PUT, path), Some(turn), body)
            .await?;
        Ok(open.connections)
    }
}

/// The front in the words of the API.
fn config(estate: &Estate, front: &Front) -> Value {
    let manner = &front.manner;
    let health = &manner.health;
    let mut asked = json!({"kind": "tcp", "every_s": health.every.0 / 1000, "falls": health.falls, "rises": health.rises});
    if let Check::Http { path, status, text } = &health.check {
        asked["kind"] = "http".into();
        asked["path"] = path.as_str().into();
        asked["status"] = (*status).into();
        asked["text"] = text.as_str().into();
    }
    let all: BTreeMap<String, Value> = members(estate, front)
        .into_iter()
        .map(|m| {
            (
                m.key(),
                json!({"name": m.machine.name, "admitted": m.admitted}),
            )
        })
        .collect();
    json!({
        "name": front.name, "address": front.address, "port": front.port, "drain_s": manner.drain.0 / 1000,
        "protocol": match manner.protocol { Protocol::Tcp => "tcp", Protocol::Http => "http", Protocol::Https => "https" },
        "method": match manner.method {
            Picks::RoundRobin => "round-robin",
            Picks::LeastConnections => "least-connections",
            Picks::Source => "source",
        },
        "persistence": match manner.sticks { Sticks::No => "none", Sticks::Cookie => "cookie", Sticks::Source => "source" },
        "health": asked, "members": all,
    })
}
