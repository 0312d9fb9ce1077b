//! What a host promises of snapshots.

use super::{Said, Suite, answered, is};
use crate::agent::{Blocks, WireBlocks, wire_layers};
use reqwest::Method;
use serde_json::json;
use std::time::Duration;
use tokio::time::sleep;
use uuid::Uuid;

/// How often it is looked whether a fold is over, each a second apart.
const LOOKS: usize = 60;

/// One is taken of a machine that is on, found again, gone back to, and folded away.
pub(super) async fn snapshots(s: &mut Suite, path: &str) {
    let id = Uuid::new_v4();
    let one = format!("{path}/snapshots/{id}");
    let ask = || Some(json!({"name": "agent-check", "quiet": true, "memory": false}));
    let said = s
        .send(Method::PUT, &one, Some(("check.snapshot", 13)), ask())
        .await;
    let taken = answered(&said, &[200]).and_then(|()| is(&said, "/stage", &json!("done")));
    s.note("a snapshot is taken while the guest runs", taken);
    let again = s
        .send(Method::PUT, &one, Some(("check.snapshot", 13)), ask())
        .await;
    let same = taken_at(&said).is_some() && taken_at(&said) == taken_at(&again);
    s.note(
        "taking it again with the same identifier takes no other",
        match same {
            true => Ok(()),
            false => Err("another answer came".into()),
        },
    );
    let all = s
        .send(Method::GET, &format!("{path}/snapshots"), None, None)
        .await;
    let rests =
        is(&all, "/rests_on", &json!(id)).and_then(|()| is(&all, "/snapshots/0/id", &json!(id)));
    s.note("the machine stands on it", rests);
    let layers = s
        .send(Method::GET, &format!("{path}/layers"), None, None)
        .await;
    s.note("its layers tell which blocks they hold", lie(&layers, id));
    marked(s, path, id).await;
    let before = generation(s, path).await;
    let back = format!("{one}/back");
    let said = s
        .send(
            Method::POST,
            &back,
            Some(("check.back", 13)),
            Some(json!({})),
        )
        .await;
    s.note("the machine goes back to it", answered(&said, &[200]));
    let after = generation(s, path).await;
    let anew = match before.is_some() && before != after && after.is_some() {
        true => Ok(()),
        false => Err(format!("{before:?}, then {after:?}")),
    };
    s.note("its guest has another generation id then", anew);
    still(s, path).await;
    let gone = folded(s, path, id).await;
    s.check("it is folded away within a minute", async { gone })
        .await;
}

/// What snapshots of one instant rest on: file systems that stand still until they may go on, and nobody else's.
async fn still(s: &mut Suite, path: &str) {
    let (own, other) = (Uuid::new_v4(), Uuid::new_v4());
    let at = |id: Uuid| format!("{path}/freezes/{id}");
    let ask = || Some(json!({"for_ms": 20_000}));
    // It boots anew where it went back.
    let mut said = Err("nobody asked".to_owned());
    for _ in 0..LOOKS {
        said = s
            .send(Method::PUT, &at(own), Some(("check.freeze", 13)), ask())
            .await;
        if is(&said, "/stage", &json!("still")).is_ok() {
            break;
        }
        sleep(Duration::from_secs(1)).await;
    }
    s.note(
        "its file systems stand still",
        answered(&said, &[200]).and_then(|()| is(&said, "/stage", &json!("still"))),
    );
    let said = s
        .send(
            Method::PUT,
            &at(other),
            Some(("check.freeze-other", 13)),
            ask(),
        )
        .await;
    s.note(
        "they stand still for nobody else then",
        answered(&said, &[409]),
    );
    let said = s
        .send(Method::DELETE, &at(own), Some(("check.thaw", 13)), None)
        .await;
    s.note(
        "they held until they may go on",
        is(&said, "/held", &json!(true)),
    );
    let said = s
        .send(
            Method::DELETE,
            &at(own),
            Some(("check.thaw-again", 13)),
            None,
        )
        .await;
    s.note(
        "afterwards it is not said that they still do",
        is(&said, "/held", &json!(false)),
    );
}

/// What movers rest on: a mark on the snapshot, no change since itself, and the bytes of its first block.
async fn marked(s: &mut Suite, path: &str, id: Uuid) {
    let mark = format!("{path}/marks/{id}");
    let set = s
        .send(
            Method::PUT,
            &mark,
            Some(("check.mark", 13)),
            Some(json!({})),
        )
        .await;
    s.note("a snapshot is marked", answered(&set, &[200]));
    let said = s
        .send(
            Method::GET,
            &format!("{mark}/blocks?since={id}"),
            None,
            None,
        )
        .await;
    let blocks = wire_blocks(&said);
    let same = blocks.as_ref().map_err(Clone::clone).and_then(|all| {
        match all
            .iter()
            .all(|b| b.changed.as_ref().is_some_and(|c| c.is_empty()))
        {
            true => Ok(()),
            false => Err("it says that something changed since the same moment".into()),
        }
    });
    s.note("nothing changed since the mark itself", same);
    let unknown = s
        .send(
            Method::GET,
            &format!("{mark}/blocks?since={}", Uuid::new_v4()),
            None,
            None,
        )
        .await;
    let honest =
        wire_blocks(&unknown).and_then(|all| match all.iter().all(|b| b.changed.is_none()) {
            true => Ok(()),
            false => Err("it says what changed since a mark that it never had".into()),
        });
    s.note("what changed since an unknown mark it does not say", honest);
    let disk = blocks.ok().and_then(|all| all.first().map(|b| b.key));
    let at = format!(
        "{mark}/bytes?disk={}&from=0&length=65536",
        disk.unwrap_or_default()
    );
    let read = s.fetch(&at).await;
    s.note(
        "the bytes of a block are read",
        match read {
            Ok(65536) => Ok(()),
            Ok(n) => Err(format!("{n} bytes came, not 65536")),
            Err(why) => Err(why),
        },
    );
    let gone = s
        .send(Method::DELETE, &mark, Some(("check.release", 13)), None)
        .await;
    s.note("a mark is released", answered(&gone, &[200]));
    let said = s
        .send(
            Method::GET,
            &format!("{mark}/blocks?since={id}"),
            None,
            None,
        )
        .await;
    let forgotten =
        wire_blocks(&said).and_then(|all| match all.iter().all(|b| b.changed.is_none()) {
            true => Ok(()),
            false => Err("it still says what changed since then".into()),
        });
    s.note("then it does not say what changed since", forgotten);
}

fn wire_blocks(said: &Said) -> Result<Vec<Blocks>, String> {
    let (_, body) = said.as_ref().map_err(Clone::clone)?;
    let read: WireBlocks = serde_json::from_value(body.clone()).map_err(|e| e.to_string())?;
    read.read()
}

async fn generation(s: &Suite, path: &str) -> Option<String> {
    let said = s.send(Method::GET, path, None, None).await;
    let (_, body) = said.ok()?;
    Some(body.get("generation_id")?.as_str()?.to_owned())
}

fn taken_at(said: &Said) -> Option<i64> {
    let (_, body) = said.as_ref().ok()?;
    body.get("taken_ms")?.as_i64()
}

/// The current layer lies on the one that the snapshot froze.
fn lie(said: &Said, id: Uuid) -> Result<(), String> {
    let (_, body) = said.as_ref().map_err(Clone::clone)?;
    let chain = wire_layers(body.clone())?;
    let frozen = chain.of(id).ok_or("no layer has its name")?;
    let current = chain.layers.get(&chain.current);
    match current.is_some_and(|l| l.parent == Some(frozen)) {
        true => Ok(()),
        false => Err("what is written now does not lie on it".into()),
    }
}

async fn folded(s: &Suite, path: &str, id: Uuid) -> Result<(), String> {
    let at = format!("{path}/forget");
    for _ in 0..LOOKS {
        let ask = Some(json!({"snapshots": [id]}));
        let said = s
            .send(Method::POST, &at, Some(("check.forget", 13)), ask)
            .await;
        answered(&said, &[200])?;
        if is(&said, "/stage", &json!("done")).is_ok() {
            let all = s
                .send(Method::GET, &format!("{path}/snapshots"), None, None)
                .await;
            return is(&all, "/snapshots", &json!([]));
        }
        sleep(Duration::from_secs(1)).await;
    }
    Err("it was not over after a minute".into())
}
