//! What a host promises of disks that are brought to it.

use super::{Suite, answered, is};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::Method;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::time::Duration;
use uuid::Uuid;

const PIECE: usize = 1 << 20;

/// A delivery is begun, a piece with a wrong digest refused and one with the right one taken, and its disk becomes one of the machine.
pub(super) async fn delivered(s: &mut Suite, path: &str, volume: &str) {
    let (id, from, onto) = (Uuid::new_v4(), Uuid::new_v4(), Uuid::new_v4());
    let at = format!("/v1/volumes/{volume}/deliveries/{id}");
    let body = json!({"disks": [{"key": from, "size": 2 * PIECE}], "bytes": PIECE});
    let said = s
        .send(Method::PUT, &at, Some(("check.delivery", 13)), Some(body))
        .await;
    s.note("a delivery is begun", answered(&said, &[200]));
    let piece = vec![7; PIECE];
    let put = format!("{at}/disks/{from}/bytes?from=0");
    let wrong = s.bring(&put, &piece, b"something else").await;
    s.note(
        "a piece that is not what its digest says is refused",
        match wrong {
            Ok(400) => Ok(()),
            other => Err(format!("{other:?}")),
        },
    );
    let right = s.bring(&put, &piece, &piece).await;
    s.note(
        "a piece is taken",
        match right {
            Ok(200) => Ok(()),
            other => Err(format!("{other:?}")),
        },
    );
    let there = s.send(Method::GET, &at, None, None).await;
    s.note(
        "what was brought is told by the disk's key",
        is(&there, "/disks/0/key", &json!(from)),
    );
    let disk = json!({"from": from, "onto": onto, "new": true, "size": 2 * PIECE});
    let body = json!({"volume": volume, "delivery": id, "disks": [disk]});
    let placed = s
        .send(
            Method::PUT,
            &format!("{path}/delivered"),
            Some(("check.delivered", 13)),
            Some(body),
        )
        .await;
    s.note(
        "it becomes a disk of the machine",
        answered(&placed, &[200]),
    );
    let machine = s.send(Method::GET, path, None, None).await;
    let has = machine.is_ok_and(|(_, b)| {
        let disks = b["disks"].as_array().cloned().unwrap_or_default();
        disks.iter().any(|d| d["key"] == json!(onto))
    });
    s.note(
        "the machine has that disk",
        has.then_some(())
            .ok_or_else(|| "it has none with its key".into()),
    );
    let gone = s.send(Method::GET, &at, None, None).await;
    s.note("then the delivery is over", answered(&gone, &[404]));
}

/// A machine that is off holds what was brought, and has a snapshot of it; where it stands on another one than is said, nothing is done.
pub(super) async fn followed(s: &mut Suite, path: &str, volume: &str) {
    let machine = s.send(Method::GET, path, None, None).await;
    let onto = machine
        .ok()
        .and_then(|(_, b)| Some(b["disks"].as_array()?.first()?["key"].clone()))
        .unwrap_or_default();
    let (id, from, point) = (Uuid::new_v4(), Uuid::new_v4(), Uuid::new_v4());
    let at = format!("/v1/volumes/{volume}/deliveries/{id}");
    let body = json!({"disks": [{"key": from, "size": PIECE}], "bytes": PIECE});
    drop(
        s.send(Method::PUT, &at, Some(("check.following", 14)), Some(body))
            .await,
    );
    let put = format!("{at}/disks/{from}/bytes?from=0");
    let piece = vec![9; PIECE];
    drop(s.bring(&put, &piece, &piece).await);
    let ask = |base: Option<Uuid>| {
        let disk = json!({"from": from, "onto": onto, "size": PIECE});
        let mut body = json!({"volume": volume, "delivery": id, "point": point, "name": "there", "taken_ms": 5, "disks": [disk]});
        if let Some(base) = base {
            body["base"] = json!(base);
        }
        body
    };
    let to = format!("{path}/followed");
    let wrong = s
        .send(
            Method::PUT,
            &to,
            Some(("check.followed.wrong", 14)),
            Some(ask(Some(Uuid::new_v4()))),
        )
        .await;
    s.note(
        "what stands on another point than is said is left alone",
        answered(&wrong, &[409]),
    );
    let right = s
        .send(
            Method::PUT,
            &to,
            Some(("check.followed", 14)),
            Some(ask(None)),
        )
        .await;
    s.note(
        "a machine that is off is brought up to date",
        answered(&right, &[200]),
    );
    let all = s
        .send(Method::GET, &format!("{path}/snapshots"), None, None)
        .await;
    s.note(
        "it has a snapshot of that",
        is(&all, "/rests_on", &json!(point)),
    );
    let digests = format!(
        "{path}/marks/{point}/digests?disk={}&from=0&count=1",
        onto.as_str().unwrap_or_default()
    );
    let said = s.send(Method::GET, &digests, None, None).await;
    s.note("digests of its extents are told", answered(&said, &[200]));
    let gone = json!({"snapshots": [point]});
    let gone = s
        .send(
            Method::POST,
            &format!("{path}/forget"),
            Some(("check.followed.forget", 14)),
            Some(gone),
        )
        .await;
    s.note("the snapshot goes again", answered(&gone, &[200]));
}

impl Suite {
    /// Puts bytes, with the digest of `said`; the status of the answer.
    async fn bring(&self, path: &str, bytes: &[u8], said: &[u8]) -> Result<u16, String> {
        let digest = BASE64_STANDARD.encode(Sha256::digest(said));
        let asked = self
            .client
            .put(format!("{}{path}", self.base))
            .timeout(Duration::from_secs(5))
            .bearer_auth(&self.key)
            .header("content-digest", format!("sha-256=:{digest}:"))
            .body(bytes.to_vec());
        let answer = asked.send().await.map_err(|e| format!("no answer: {e}"))?;
        Ok(answer.status().as_u16())
    }
}
