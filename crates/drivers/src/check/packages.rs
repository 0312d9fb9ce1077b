//! What a host promises of files of disks.

use super::{Suite, answered, is, templates::is_done, templates::until_done};
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;

/// The disk of a machine that is off is packed, read back in pieces, and written from the file again.
pub(super) async fn packages(s: &mut Suite, machine: Uuid, volume: &str) {
    let path = format!("/v1/machines/{machine}");
    let now = s.send(Method::GET, &path, None, None).await;
    let disk = now
        .as_ref()
        .ok()
        .map(|(_, b)| b["disks"][0].clone())
        .unwrap_or_default();
    let (key, size) = (
        disk["key"].as_str().unwrap_or_default().to_owned(),
        disk["size"].clone(),
    );
    let file = Uuid::new_v4();
    let at = format!("/v1/volumes/{volume}/images/{file}");
    let body = json!({"name": "agent-check.raw.gz", "from": {"machine": machine}, "disks": [{"key": key, "name": "agent-check.raw.gz", "gzip": true}]});
    let packed = until_done(s, Method::PUT, &format!("{at}/pack"), "check.pack", body).await;
    s.note(
        "a disk is packed into a file within a minute",
        is_done(&packed),
    );
    let said = packed.ok().map(|(_, b)| b).unwrap_or_default();
    let seen = s.send(Method::GET, &at, None, None).await;
    let same =
        is(&seen, "/sha256", &said["sha256"]).and_then(|()| is(&seen, "/received", &said["size"]));
    s.note(
        "the file is as large, and has the sum, that packing it came to",
        same,
    );
    let part = |sum: &Value| json!({"volume": volume, "image": file, "parts": [{"name": "agent-check.raw.gz", "at": 0, "length": said["size"], "gzip": true, "sha256": sum, "size": size}]});
    let fill = format!("{path}/disks/{key}/fill");
    let wrong = part(&json!("00".repeat(32)));
    let refused = until_done(s, Method::PUT, &fill, "check.fill.wrong", wrong).await;
    s.note(
        "a file with another sum is not written to a disk",
        is(&refused, "/stage", &json!("failed")),
    );
    let written = until_done(s, Method::PUT, &fill, "check.fill", part(&said["sha256"])).await;
    s.note(
        "a disk is written from the file within a minute",
        is_done(&written),
    );
    let gone = s
        .send(Method::DELETE, &at, Some(("check.pack.gone", 13)), None)
        .await;
    s.note("then the file is removed", answered(&gone, &[200]));
}
