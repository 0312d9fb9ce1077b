//! What a host promises of versions and copies.

use super::{Said, Suite, answered, is, packages::packages};
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;
use tokio::time::sleep;
use uuid::Uuid;

/// How often it is looked whether a copy is over, each a second apart.
const LOOKS: usize = 60;

/// A version is made of a machine, another lies on it and is made whole, and it is removed.
pub(super) async fn templates(s: &mut Suite, machine: Uuid, volume: &str) {
    let version = Uuid::new_v4();
    let at = format!("/v1/volumes/{volume}/templates/{version}");
    let body = json!({"name": "agent-check 1", "from": {"machine": machine}, "seal": true});
    let made = until_done(s, Method::PUT, &at, "check.version", body).await;
    s.note(
        "a version is made of a machine within a minute",
        is_done(&made),
    );

    let twin = Uuid::new_v4();
    let path = format!("/v1/machines/{twin}");
    let from = json!({"volume": volume, "template": version});
    let gib = 1u64 << 30;
    let order = |dependent: bool| {
        json!({"volume": volume, "name": "agent-check-twin", "vcpus": 1, "memory": {"kept": gib, "size": gib, "max": gib}, "video": 16 << 20,
            "disks": [{"size": gib, "thick": false}], "nics": [{"mac": "02:5a:00:00:00:07"}], "virtual_hardware": 1,
            "copy": {"from": from, "dependent": dependent, "seal": false}})
    };
    let copy = format!("{path}/copy");
    let lies = until_done(s, Method::PUT, &copy, "check.lies", order(true)).await;
    let key = lies.as_ref().ok().and_then(|(_, b)| b.get("guest_key"));
    let key = key.and_then(Value::as_str).is_some_and(|k| !k.is_empty());
    let said = is_done(&lies).and_then(|()| {
        if key {
            Ok(())
        } else {
            Err("it has no key of its own".into())
        }
    });
    s.note("a machine is made whose disks lie on it", said);
    let held = s
        .send(Method::DELETE, &at, Some(("check.version.held", 13)), None)
        .await;
    s.note(
        "a version on which disks lie is not removed",
        answered(&held, &[409]),
    );
    let whole = format!("{path}/whole");
    let made = until_done(
        s,
        Method::POST,
        &whole,
        "check.whole",
        json!({"wanted": true}),
    )
    .await;
    s.note(
        "the machine gets disks of its own within a minute",
        is_done(&made),
    );
    packages(s, twin, volume).await;
    let gone = s
        .send(Method::DELETE, &at, Some(("check.version.gone", 13)), None)
        .await;
    s.note("then the version is removed", answered(&gone, &[200]));
    let ended = s
        .send(Method::DELETE, &copy, Some(("check.copy.end", 13)), None)
        .await;
    let left = s.send(Method::GET, &path, None, None).await;
    s.note(
        "a copy that nobody wants leaves no machine",
        answered(&ended, &[200]).and_then(|()| answered(&left, &[404])),
    );
}

pub(super) fn is_done(said: &Said) -> Result<(), String> {
    answered(said, &[200]).and_then(|()| is(said, "/stage", &json!("done")))
}

/// Asked again until it is over.
pub(super) async fn until_done(
    s: &Suite,
    method: Method,
    at: &str,
    key: &str,
    body: Value,
) -> Said {
    let mut said = s
        .send(method.clone(), at, Some((key, 13)), Some(body.clone()))
        .await;
    for _ in 0..LOOKS {
        if is(&said, "/stage", &json!("running")).is_err() {
            return said;
        }
        sleep(Duration::from_secs(1)).await;
        said = s
            .send(method.clone(), at, Some((key, 13)), Some(body.clone()))
            .await;
    }
    said
}
