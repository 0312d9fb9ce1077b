//! The conformance suite of the agent's protocol: anybody who writes an agent can try it with this. A host is claimed,
//! a machine made, run and removed, and the host handed back; each promise of `docs/agent-api.json` is tried on the way.

mod delivering;
mod first_boot;
mod hardware;
mod keepers;
mod packages;
mod questions;
mod records;
mod sharing;
mod snapshots;
mod templates;

use crate::http::Http;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::{future::Future, time::Duration};
use uuid::Uuid;

/// One promise, and what was wrong with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Checked {
    pub what: &'static str,
    pub problem: Option<String>,
}

struct Suite {
    client: reqwest::Client,
    base: String,
    key: String,
    /// The history in which it gives orders.
    epoch: String,
    results: Vec<Checked>,
}

type Said = Result<(StatusCode, Value), String>;

impl Suite {
    async fn send(
        &self,
        method: Method,
        path: &str,
        stamp: Option<(&str, u64)>,
        body: Option<Value>,
    ) -> Said {
        let mut request = self
            .client
            .request(method, format!("{}{path}", self.base))
            .timeout(Duration::from_secs(5));
        if !self.key.is_empty() {
            request = request.bearer_auth(&self.key);
        }
        if let Some((key, fence)) = stamp {
            request = request
                .header("step-key", key)
                .header("epoch", &self.epoch)
                .header("fence", fence.to_string());
        }
        if let Some(body) = body {
            request = request.json(&body);
        }
        let answer = request
            .send()
            .await
            .map_err(|e| format!("no answer: {e}"))?;
        let status = answer.status();
        let text = answer
            .text()
            .await
            .map_err(|e| format!("the answer broke off: {e}"))?;
        let value = if text.is_empty() {
            Value::Null
        } else {
            serde_json::from_str(&text).map_err(|e| e.to_string())?
        };
        Ok((status, value))
    }

    /// How many bytes are answered.
    async fn fetch(&self, path: &str) -> Result<usize, String> {
        let asked = self
            .client
            .get(format!("{}{path}", self.base))
            .timeout(Duration::from_secs(5))
            .bearer_auth(&self.key);
        let answer = asked.send().await.map_err(|e| format!("no answer: {e}"))?;
        let status = answer.status();
        let bytes = answer
            .bytes()
            .await
            .map_err(|e| format!("the answer broke off: {e}"))?;
        match status.is_success() {
            true => Ok(bytes.len()),
            false => Err(format!("{status}")),
        }
    }

    /// Notes whether a promise was kept.
    async fn check(
        &mut self,
        what: &'static str,
        outcome: impl Future<Output = Result<(), String>>,
    ) -> bool {
        let problem = outcome.await.err();
        let fine = problem.is_none();
        self.results.push(Checked { what, problem });
        fine
    }
    fn note(&mut self, what: &'static str, outcome: Result<(), String>) -> bool {
        let fine = outcome.is_ok();
        self.results.push(Checked {
            what,
            problem: outcome.err(),
        });
        fine
    }
}

fn answered(said: &Said, expected: &[u16]) -> Result<(), String> {
    match said {
        Ok((status, _)) if expected.contains(&status.as_u16()) => Ok(()),
        Ok((status, body)) => Err(format!("answered {status} {body}, expected {expected:?}")),
        Err(why) => Err(why.clone()),
    }
}

fn has(said: &Said, fields: &[&str]) -> Result<(), String> {
    let (_, body) = said.as_ref().map_err(Clone::clone)?;
    match fields.iter().find(|f| body.pointer(f).is_none()) {
        Some(missing) => Err(format!("{missing} is missing")),
        None => Ok(()),
    }
}

fn code(said: &Said, expected: &str) -> Result<(), String> {
    let (_, body) = said.as_ref().map_err(Clone::clone)?;
    let found = body
        .pointer("/error/code")
        .and_then(Value::as_str)
        .unwrap_or_default();
    if found == expected {
        Ok(())
    } else {
        Err(format!("error code “{found}”, expected “{expected}”"))
    }
}

/// Tries the agent at `address` (`ip:port`) with its first password. `volume` is one that the host sees and on which a
/// small machine may be made. Everything made is removed again.
pub async fn run(address: &str, volume: &str, password: &str) -> Vec<Checked> {
    let client = match Http::for_check() {
        Ok(client) => client,
        Err(fault) => {
            return vec![Checked {
                what: "a secure connection",
                problem: Some(fault.said),
            }];
        }
    };
    let mut suite = Suite {
        client,
        base: format!("https://{address}"),
        key: String::new(),
        epoch: epoch(FIRST, 1),
        results: vec![],
    };
    ownership(&mut suite, password).await;
    if greeting(&mut suite).await && claim(&mut suite, password).await {
        storage(&mut suite, volume).await;
        network(&mut suite).await;
        machine(&mut suite, volume).await;
        release(&mut suite).await;
    }
    suite.results
}

/// What a host that is nobody's says of what it has, and that there is nobody to take it from.
async fn ownership(s: &mut Suite, password: &str) {
    let wrong = Some(json!({"password": "not this one"}));
    let said = s.send(Method::POST, "/v1/inventory", None, wrong).await;
    s.note(
        "what a host has is told to nobody who does not know its password",
        answered(&said, &[401]),
    );
    let body = Some(json!({"password": password}));
    let said = s.send(Method::POST, "/v1/inventory", None, body).await;
    s.note(
        "a host says what it has, whose it is, and how long each machine has been on",
        answered(&said, &[200]).and_then(|()| {
            has(
                &said,
                &["/former", "/volumes", "/networks", "/uplinks", "/up_ms"],
            )
        }),
    );
    let body = Some(
        json!({"installation": "check", "name": "check", "password": password, "former": "check"}),
    );
    let stamp = Some(("check.takeover", 1));
    let said = s.send(Method::POST, "/v1/takeover", stamp, body).await;
    s.note(
        "a host that is nobody's is taken from nobody",
        answered(&said, &[409]).and_then(|()| code(&said, "unclaimed")),
    );
}

/// What is offered to the host, and that nothing on it is lost by asking wrongly.
async fn storage(s: &mut Suite, volume: &str) {
    let said = s.send(Method::GET, "/v1/storage", None, None).await;
    s.note(
        "the host says how it is called as an initiator and what is offered to it",
        answered(&said, &[200]).and_then(|()| {
            has(
                &said,
                &["/initiator", "/devices/0/uid", "/devices/0/paths/0/portal"],
            )
        }),
    );
    let path = format!("/v1/volumes/{volume}/format");
    let body = || Some(json!({"name": "check", "cluster": "check"}));
    let said = s
        .send(Method::POST, &path, Some(("check.format", 1)), body())
        .await;
    s.note(
        "a volume that is not empty is never formatted",
        answered(&said, &[409]).and_then(|()| code(&said, "not_empty")),
    );
    let said = s
        .send(
            Method::PUT,
            "/v1/storage/logins",
            Some(("check.login", 1)),
            Some(json!({"portals": ["192.0.2.1:3260"]})),
        )
        .await;
    s.note(
        "a login on portals that are all dead is refused",
        answered(&said, &[409]).and_then(|()| code(&said, "portal")),
    );
}

async fn network(s: &mut Suite) {
    let state = s.send(Method::GET, "/v1/state", None, None).await;
    let uplink = state
        .as_ref()
        .ok()
        .and_then(|a| a.1.pointer("/uplinks/0/name")?.as_str().map(str::to_owned));
    let Some(uplink) = uplink else {
        s.note("the host tells of its uplinks", Err("it names none".into()));
        return;
    };
    let net =
        |vlan: u16, uplink: &str| Some(json!({"vlan": vlan, "mtu": 1500, "uplinks": [uplink]}));
    let said = s
        .send(
            Method::PUT,
            "/v1/networks/check-a",
            Some(("check.net.a", 1)),
            net(4001, &uplink),
        )
        .await;
    s.note("a network is set up on an uplink", answered(&said, &[200]));
    let said = s
        .send(
            Method::PUT,
            "/v1/networks/check-b",
            Some(("check.net.b", 1)),
            net(4001, &uplink),
        )
        .await;
    s.note(
        "the same VLAN on the same uplink is refused under another name",
        answered(&said, &[409]).and_then(|()| code(&said, "vlan")),
    );
    let said = s
        .send(
            Method::PUT,
            "/v1/networks/check-c",
            Some(("check.net.c", 1)),
            net(4002, "no-such-uplink"),
        )
        .await;
    s.note(
        "an uplink that is not there is refused",
        answered(&said, &[409]).and_then(|()| code(&said, "uplink")),
    );
    let said = s
        .send(
            Method::DELETE,
            "/v1/networks/check-a",
            Some(("check.net.d", 2)),
            None,
        )
        .await;
    s.note("a network is taken off", answered(&said, &[200]));
    let state = s.send(Method::GET, "/v1/state", None, None).await;
    let gone = state
        .as_ref()
        .is_ok_and(|a| a.1.pointer("/networks/check-a").is_none());
    s.note(
        "it is gone from the state",
        if gone {
            Ok(())
        } else {
            Err("it is still told".into())
        },
    );
}

async fn greeting(s: &mut Suite) -> bool {
    let said = s.send(Method::GET, "/v1/greeting", None, None).await;
    let fields = [
        "/protocol",
        "/name",
        "/hardware/serial",
        "/hardware/memory_bytes",
        "/hardware/cpu/level",
        "/software",
    ];
    let fine = s.note(
        "the greeting says who the host is, to anybody",
        answered(&said, &[200]).and_then(|()| has(&said, &fields)),
    );
    let said = s.send(Method::GET, "/v1/state", None, None).await;
    s.note(
        "the state is refused to those without a key",
        answered(&said, &[401]),
    ) && fine
}

async fn claim(s: &mut Suite, password: &str) -> bool {
    let id = Uuid::new_v4().to_string();
    let body = |p: &str| Some(json!({"installation": id, "name": "agent check", "password": p}));
    let said = s
        .send(
            Method::POST,
            "/v1/claim",
            Some(("check.wrong", 1)),
            body("surely not this one"),
        )
        .await;
    s.note(
        "a wrong password is refused in words",
        answered(&said, &[401]).and_then(|()| code(&said, "password")),
    );
    let key = format!("check.claim.{id}");
    let first = s
        .send(Method::POST, "/v1/claim", Some((&key, 1)), body(password))
        .await;
    let fine = s.note(
        "the right password claims the host and answers a key",
        answered(&first, &[200]).and_then(|()| has(&first, &["/key", "/state/boot", "/state/seq"])),
    );
    if !fine {
        return false;
    }
    let again = s
        .send(Method::POST, "/v1/claim", Some((&key, 1)), body(password))
        .await;
    let same = again.as_ref().ok().map(|a| &a.1["key"]) == first.as_ref().ok().map(|a| &a.1["key"]);
    s.note(
        "the same step key gets the same answer",
        if same {
            Ok(())
        } else {
            Err("another key came".into())
        },
    );
    let thief = s
        .send(
            Method::POST,
            "/v1/claim",
            Some((&key, 1)),
            body("surely not this one"),
        )
        .await;
    s.note(
        "the kept answer is not told to whoever has another password",
        answered(&thief, &[401]),
    );
    let other = s
        .send(
            Method::POST,
            "/v1/claim",
            Some(("check.other", 1)),
            body(password),
        )
        .await;
    s.note(
        "a claimed host is not claimed twice",
        answered(&other, &[409]),
    );
    s.key = first
        .ok()
        .and_then(|(_, b)| b["key"].as_str().map(str::to_owned))
        .unwrap_or_default();
    let said = s.send(Method::GET, "/v1/state", None, None).await;
    s.note(
        "the state is told to the owner",
        answered(&said, &[200]).and_then(|()| has(&said, &["/machines", "/volumes", "/load"])),
    );
    let said = s.send(Method::GET, "/v1/clock", None, None).await;
    s.note(
        "the clock is told",
        answered(&said, &[200]).and_then(|()| has(&said, &["/unix_ms"])),
    );
    true
}

/// What stands there is what is expected.
fn is(said: &Said, at: &str, expected: &Value) -> Result<(), String> {
    let (_, body) = said.as_ref().map_err(Clone::clone)?;
    match body.pointer(at) {
        Some(found) if found == expected => Ok(()),
        found => Err(format!("{at} is {found:?}, not {expected}")),
    }
}

async fn machine(s: &mut Suite, volume: &str) {
    let said = s
        .send(
            Method::PUT,
            "/v1/cluster",
            Some(("check.join", 2)),
            Some(json!({"name": "check", "volume": volume})),
        )
        .await;
    s.note(
        "the host joins a cluster and mounts its volume",
        answered(&said, &[200]),
    );
    let uuid = Uuid::new_v4();
    let path = format!("/v1/machines/{uuid}");
    let body = json!({"volume": volume, "name": "agent-check", "vcpus": 1, "memory": {"kept": 1u64 << 30, "size": 1u64 << 30, "max": 1u64 << 30},
        "video": 16 << 20, "disks": [{"size": 1u64 << 30, "thick": false}], "nics": [{"mac": "02:5a:00:00:00:01"}], "virtual_hardware": 1,
        "seed": first_boot::seed(uuid)});
    let said = s.send(Method::PUT, &path, None, Some(body.clone())).await;
    s.note(
        "a change without key and fence is refused",
        answered(&said, &[400]),
    );
    let made = s
        .send(
            Method::PUT,
            &path,
            Some(("check.create", 10)),
            Some(body.clone()),
        )
        .await;
    s.note(
        "a machine is made, with a guest key of its own",
        answered(&made, &[200]).and_then(|()| has(&made, &["/guest_key"])),
    );
    let again = s
        .send(
            Method::PUT,
            &path,
            Some(("check.create", 10)),
            Some(body.clone()),
        )
        .await;
    let same = again == made;
    s.note(
        "making it again with the same key changes nothing",
        if same {
            Ok(())
        } else {
            Err("another answer came".into())
        },
    );
    let said = s
        .send(Method::PUT, &path, Some(("check.create.2", 10)), Some(body))
        .await;
    s.note(
        "making it again with another key is refused",
        answered(&said, &[409]),
    );
    sharing::sharing(s, &path, volume).await;
    running(s, &path).await;
    snapshots::snapshots(s, &path).await;
    hardware::hardware(s, &path, volume).await;
    records::records(s, &uuid.to_string(), volume).await;
    templates::templates(s, uuid, volume).await;
    keepers::keepers(s, volume).await;
    delivering::delivered(s, &path, volume).await;
    histories(s, &path).await;
    removed(s, &path, volume).await;
}

/// The history number that the checks begin with, and a later one.
const FIRST: u64 = 5;

fn epoch(number: u64, history: u128) -> String {
    format!("{number}.{}", Uuid::from_u128(history).simple())
}

/// Orders of an older history, and of a copy of this one.
async fn histories(s: &mut Suite, path: &str) {
    let power = format!("{path}/power");
    let off = || Some(json!({"act": "off"}));
    let ours = s.epoch.clone();
    s.epoch = epoch(FIRST - 1, 1);
    let said = s
        .send(Method::POST, &power, Some(("check.older", 99)), off())
        .await;
    s.note(
        "orders of an older history are refused",
        answered(&said, &[412]).and_then(|()| code(&said, "old_epoch")),
    );
    s.epoch = epoch(FIRST, 2);
    let said = s
        .send(Method::POST, &power, Some(("check.copy", 99)), off())
        .await;
    s.note(
        "orders of another history of the same number are refused",
        answered(&said, &[409]).and_then(|()| code(&said, "other_history")),
    );
    let said = s
        .send(Method::PUT, "/v1/history", Some(("check.met", 0)), None)
        .await;
    s.note(
        "another history of the same number is not met either",
        answered(&said, &[409]).and_then(|()| code(&said, "other_history")),
    );
    s.epoch = ours;
    let said = s
        .send(Method::PUT, "/v1/history", Some(("check.met", 0)), None)
        .await;
    s.note(
        "a history is met without anything else being done",
        answered(&said, &[204]),
    );
    let said = s.send(Method::GET, "/v1/state", None, None).await;
    s.note(
        "the state says whose orders were obeyed last, and up to which fence",
        answered(&said, &[200])
            .and_then(|()| has(&said, &["/seen/epoch", "/seen/history", "/seen/fence"])),
    );
}

/// Leases and fences of a machine that is powered on.
async fn running(s: &mut Suite, path: &str) {
    let on = |generation: u64| Some(json!({"act": "on", "generation": generation}));
    let power = format!("{path}/power");
    let said = s
        .send(Method::POST, &power, Some(("check.stale", 9)), on(1))
        .await;
    s.note(
        "an older fence is refused",
        answered(&said, &[412]).and_then(|()| code(&said, "stale_fence")),
    );
    let said = s
        .send(Method::POST, &power, Some(("check.on", 11)), on(1))
        .await;
    s.note(
        "it is powered on under a new generation",
        answered(&said, &[200]),
    );
    let said = s
        .send(Method::POST, &power, Some(("check.on.2", 12)), on(1))
        .await;
    s.note(
        "a running machine is not started twice",
        answered(&said, &[409]).and_then(|()| code(&said, "lease")),
    );
    let boot = s.send(Method::GET, path, None, None).await;
    let boot = boot.ok().map(|a| a.1["as_of"]["boot"].clone());
    let end = json!({"act": "end", "generation": 1, "boot": boot});
    let said = s
        .send(Method::POST, &power, Some(("check.end", 12)), Some(end))
        .await;
    s.note(
        "a machine that reaches its volume is not ended",
        answered(&said, &[409]).and_then(|()| code(&said, "runs")),
    );
    let up = reaches(s, path, |b| b["guest_answers"] == true).await;
    s.check("the guest agent answers within a minute", async { up })
        .await;
    let told = reaches(s, path, |b| first_boot::told(b, path)).await;
    s.note(
        "a guest that was given a seed says what came of its first boot",
        told,
    );
    questions::asked(s, path).await;
    let said = s
        .send(Method::DELETE, path, Some(("check.remove.early", 13)), None)
        .await;
    s.note("a running machine is not removed", answered(&said, &[409]));
}

/// Stopping, deleting and removing it.
async fn removed(s: &mut Suite, path: &str, volume: &str) {
    let power = format!("{path}/power");
    let said = s
        .send(
            Method::POST,
            &power,
            Some(("check.stop", 14)),
            Some(json!({"act": "stop"})),
        )
        .await;
    s.note("the guest is asked to stop", answered(&said, &[200]));
    let off = reaches(s, path, |b| b["power"] == "off").await;
    questions::off(s, path).await;
    s.check("it stops within a minute", async { off }).await;
    delivering::followed(s, path, volume).await;
    let said = s
        .send(
            Method::PATCH,
            path,
            Some(("check.delete", 15)),
            Some(json!({"deleted": true})),
        )
        .await;
    s.note("it is deleted, and kept", answered(&said, &[200]));
    let said = s
        .send(Method::DELETE, path, Some(("check.remove", 16)), None)
        .await;
    s.note(
        "a deleted machine is removed for good",
        answered(&said, &[200]),
    );
    let said = s.send(Method::GET, path, None, None).await;
    s.note("then it is gone", answered(&said, &[404]));
}

async fn reaches(s: &Suite, path: &str, fine: impl Fn(&Value) -> bool) -> Result<(), String> {
    let mut last = Value::Null;
    for _ in 0..240 {
        if let Ok((_, body)) = s.send(Method::GET, path, None, None).await {
            if fine(&body) {
                return Ok(());
            }
            last = body;
        }
        tokio::time::sleep(Duration::from_millis(250)).await;
    }
    Err(format!("it is still {} / {}", last["power"], last["phase"]))
}

async fn release(s: &mut Suite) {
    let said = s
        .send(
            Method::DELETE,
            "/v1/cluster",
            Some(("check.leave", 20)),
            None,
        )
        .await;
    s.note("the host leaves its cluster", answered(&said, &[200]));
    let said = s
        .send(
            Method::POST,
            "/v1/release",
            Some(("check.release", 21)),
            Some(json!({})),
        )
        .await;
    s.note("the host is handed back", answered(&said, &[200]));
    let said = s.send(Method::GET, "/v1/state", None, None).await;
    s.note("then the key opens nothing", answered(&said, &[401]));
}

/// The status that a bare call gets, without key and body; 0 for none.
pub async fn status(address: &str, method: &str, path: &str) -> u16 {
    let (Ok(client), Ok(method)) = (Http::for_check(), Method::from_bytes(method.as_bytes()))
    else {
        return 0;
    };
    let request = client
        .request(method, format!("https://{address}{path}"))
        .timeout(Duration::from_secs(5));
    request
        .send()
        .await
        .map_or(0, |answer| answer.status().as_u16())
}
