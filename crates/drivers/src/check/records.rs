//! What a host promises of the records on its volumes.

use super::{Said, Suite, answered, has, is};
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;

async fn call(s: &Suite, method: Method, path: &str, id: &str, body: Option<Value>) -> Said {
    s.send(method, path, Some((id, 15)), body).await
}

/// Another word for a volume's records once one came; one that is on stays; what is taken away leaves its disks.
pub(super) async fn records(s: &mut Suite, on: &str, volume: &str) {
    let before = word(s, volume).await;
    let (uuid, disk) = (Uuid::new_v4(), Uuid::new_v4());
    let gib = 1u64 << 30;
    let body = json!({"volume": volume, "name": "check-left", "vcpus": 1, "memory": {"kept": gib, "size": gib, "max": gib},
        "video": 16 << 20, "disks": [{"key": disk, "size": 64u64 << 20, "thick": false}], "nics": [], "virtual_hardware": 1});
    let path = format!("/v1/machines/{uuid}");
    let made = call(s, Method::PUT, &path, "check.left", Some(body)).await;
    let after = word(s, volume).await;
    let running = format!("/v1/volumes/{volume}/records/{on}");
    let refused = call(s, Method::DELETE, &running, "check.left.on", None).await;
    let record = format!("/v1/volumes/{volume}/records/{uuid}");
    let gone = call(s, Method::DELETE, &record, "check.left.gone", None).await;
    let again = call(s, Method::DELETE, &record, "check.left.gone", None).await;
    let there = word(s, volume).await;

    let told = match (before, &after, there) {
        (Some(a), Some(b), Some(c)) if a != *b && a == c => Ok(()),
        _ => Err(
            "the word is not another one after a record came, and the same after it went".into(),
        ),
    };
    s.note(
        "a volume says when a record comes or goes",
        answered(&made, &[200]).and(told),
    );
    s.note(
        "the record of a machine that is on stays",
        answered(&refused, &[409]),
    );
    let at = format!("/unattached/disks/{disk}/had");
    let left = answered(&gone, &[200]).and_then(|()| is(&gone, &at, &json!("check-left")));
    s.note(
        "a record that is taken away leaves its disks unattached",
        left,
    );
    s.note(
        "taking it away again changes nothing",
        if again == gone {
            Ok(())
        } else {
            Err("another answer came".into())
        },
    );
    let of_disk = format!("/v1/volumes/{volume}/disks/{disk}");
    let mark = Some(json!({"deleted": true}));
    let marked = call(s, Method::PATCH, &of_disk, "check.left.mark", mark).await;
    let removed = call(s, Method::DELETE, &of_disk, "check.left.purge", None).await;
    s.note(
        "and they can be removed for good",
        answered(&marked, &[200]).and_then(|()| has(&removed, &["/unattached"])),
    );
}

/// What the volume says of its records.
async fn word(s: &Suite, volume: &str) -> Option<String> {
    let (_, said) = s.send(Method::GET, "/v1/state", None, None).await.ok()?;
    let all = said["volumes"].as_array()?;
    let found = all.iter().find(|v| v["uid"] == volume)?;
    Some(found["records"].as_str()?.to_owned())
}
