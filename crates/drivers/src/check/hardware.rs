//! What a host promises of disks and cards.

use super::{Said, Suite, answered, is};
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;

/// A disk is added to a machine that is on, detached with what is on it, attached again, deleted and removed; a card comes.
pub(super) async fn hardware(s: &mut Suite, path: &str, volume: &str) {
    let key = Uuid::new_v4();
    let one = format!("{path}/disks/{key}");
    let size = 64u64 << 20;
    let ask = || Some(json!({"size": size, "thick": false}));
    let said = s
        .send(Method::PUT, &one, Some(("check.disk", 13)), ask())
        .await;
    let there =
        answered(&said, &[200]).and_then(|()| is(&said, "/machine/disks/1/key", &json!(key)));
    s.note("a disk is added while the machine is on", there);
    let call = async |method, path: &str, id: &str, body: Option<Value>| -> Said {
        s.send(method, path, Some((id, 13)), body).await
    };
    let cards = format!("{path}/cards");
    let macs = ["02:5a:00:00:00:01", "02:5a:00:00:00:02"]
        .map(|mac| json!({"mac": mac, "addresses": ["192.0.2.9"]}));
    let carded = call(
        Method::PUT,
        &cards,
        "check.disk.cards",
        Some(json!({"cards": macs})),
    )
    .await;
    let first = call(Method::GET, path, "", None).await;
    let first = text(&first, "/disks/0/key");
    let from = format!("{path}/disks/{first}/detach");
    let running = call(Method::POST, &from, "check.disk.first", Some(json!({}))).await;
    let out = format!("{one}/detach");
    let detached = call(Method::POST, &out, "check.disk.detach", Some(json!({}))).await;
    let of_volume = format!("/v1/volumes/{volume}/disks/{key}");
    let early = call(Method::DELETE, &of_volume, "check.disk.early", None).await;
    let back = format!("{one}/attach");
    let attached = call(Method::POST, &back, "check.disk.attach", Some(json!({}))).await;
    let again = call(
        Method::POST,
        &out,
        "check.disk.delete",
        Some(json!({"delete": true})),
    )
    .await;
    let deleted = call(Method::POST, &back, "check.disk.attach.2", Some(json!({}))).await;
    let ask = Some(json!({"deleted": false}));
    let kept = call(Method::PATCH, &of_volume, "check.disk.mark", ask).await;
    let ask = Some(json!({"deleted": true}));
    let marked = call(Method::PATCH, &of_volume, "check.disk.mark.2", ask).await;
    let gone = call(Method::DELETE, &of_volume, "check.disk.purge", None).await;

    copies(s, path, &first, size).await;

    let both = is(&carded, "/machine/nics/1/mac", &json!("02:5a:00:00:00:02"))
        .and_then(|()| is(&carded, "/machine/nics/1/addresses/0", &json!("192.0.2.9")));
    s.note(
        "a card is added while the machine is on, with the address that its guest has",
        both,
    );
    let refused = answered(&running, &[409]).and_then(|()| answered(&early, &[409]));
    s.note(
        "the disk that it runs from stays, and so does one that is not deleted",
        refused,
    );
    let at = format!("/unattached/disks/{key}/had");
    let had = is(&detached, &at, &json!("agent-check"));
    let had = had.and_then(|()| is(&attached, "/machine/disks/1/key", &json!(key)));
    s.note("a detached disk says who had it, and comes back", had);
    let refused = answered(&again, &[200]).and_then(|()| answered(&deleted, &[404]));
    s.note("nobody is given a disk that was deleted", refused);
    let at = format!("/unattached/disks/{key}/deleted_ms");
    let restored = is(&kept, &at, &Value::Null).and_then(|()| answered(&marked, &[200]));
    s.note("a deleted disk is brought back", restored);
    s.note(
        "a deleted disk is removed for good",
        is(&gone, "/unattached/disks", &json!({})),
    );
}

/// Of a disk that is not there nothing is copied, and nothing over one that a guest writes to.
async fn copies(s: &mut Suite, path: &str, first: &str, size: u64) {
    let call = async |method, path: &str, id: &str, body: Option<Value>| -> Said {
        s.send(method, path, Some((id, 13)), body).await
    };
    let from = json!({"machine": path.rsplit('/').next()});
    let copy = format!("{path}/disks/{}/copy", Uuid::new_v4());
    let body = json!({"from": from, "disk": 9, "size": size, "new": true});
    let nothing = call(Method::PUT, &copy, "check.disk.copy", Some(body)).await;
    let over = format!("{path}/disks/{first}/copy");
    let body = json!({"from": from, "disk": 0, "size": size});
    let writes = call(Method::PUT, &over, "check.disk.over", Some(body)).await;
    let ended = call(Method::DELETE, &copy, "check.disk.copy.end", None).await;
    let fine = answered(&nothing, &[404])
        .and_then(|()| answered(&writes, &[409]))
        .and_then(|()| answered(&ended, &[200]));
    s.note(
        "no disk is copied from what is not there, or over one that a guest writes to",
        fine,
    );
}

fn text(said: &Said, at: &str) -> String {
    let found = said.as_ref().ok().and_then(|(_, body)| body.pointer(at));
    found.and_then(Value::as_str).unwrap_or_default().to_owned()
}
