//! What a host promises of disks that several machines have.

use super::{Said, Suite, answered, code, is};
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;

/// One is made, given to a machine, refused at a place that is taken, taken from it, and left unattached.
pub(super) async fn sharing(s: &mut Suite, path: &str, volume: &str) {
    let (one, two) = (Uuid::new_v4(), Uuid::new_v4());
    let call = async |method, path: &str, id: &str, body: Option<Value>| -> Said {
        s.send(method, path, Some((id, 10)), body).await
    };
    let of_volume = |key: &Uuid| format!("/v1/volumes/{volume}/shared/{key}");
    let of_machine = |key: &Uuid| format!("{path}/shared/{key}");
    let disk = |name: &str| {
        Some(
            json!({"name": name, "size": 64u64 << 20, "thick": false, "controller": 1, "unit": 0, "kept": false}),
        )
    };
    let place = || Some(json!({"volume": volume, "controller": 1, "unit": 0}));
    let early = call(
        Method::PUT,
        &of_machine(&one),
        "check.shared.early",
        place(),
    )
    .await;
    let made = call(
        Method::PUT,
        &of_volume(&one),
        "check.shared",
        disk("check-one"),
    )
    .await;
    let other = call(
        Method::PUT,
        &of_volume(&two),
        "check.shared.2",
        disk("check-two"),
    )
    .await;
    let given = call(Method::PUT, &of_machine(&one), "check.shared.give", place()).await;
    let taken = call(
        Method::PUT,
        &of_machine(&two),
        "check.shared.give.2",
        place(),
    )
    .await;
    let used = call(Method::DELETE, &of_volume(&one), "check.shared.used", None).await;
    let out = call(Method::DELETE, &of_machine(&one), "check.shared.take", None).await;
    let ended = call(Method::DELETE, &of_volume(&one), "check.shared.end", None).await;
    let gone = call(Method::DELETE, &of_volume(&two), "check.shared.end.2", None).await;
    let mut spare = Vec::new();
    for (n, key) in [one, two].iter().enumerate() {
        let path = format!("/v1/volumes/{volume}/disks/{key}");
        let mark = Some(json!({"deleted": true}));
        spare.push(
            call(
                Method::PATCH,
                &path,
                &format!("check.shared.mark.{n}"),
                mark,
            )
            .await,
        );
        spare.push(
            call(
                Method::DELETE,
                &path,
                &format!("check.shared.purge.{n}"),
                None,
            )
            .await,
        );
    }

    let there = format!("/shared/disks/{one}/name");
    let fine = is(&made, &there, &json!("check-one")).and_then(|()| answered(&other, &[200]));
    s.note("a disk for several machines is made", fine);
    let fine = answered(&early, &[404])
        .and_then(|()| is(&given, "/machine/shares/0/disk", &json!(one)))
        .and_then(|()| is(&given, "/machine/shares/0/mode", &json!("reservations")));
    s.note("a machine has it with persistent reservations", fine);
    let fine = answered(&taken, &[409]).and_then(|()| code(&taken, "slot"));
    s.note("no machine has two disks at one place", fine);
    let fine = answered(&used, &[409])
        .and_then(|()| code(&used, "used"))
        .and_then(|()| is(&out, "/machine/shares", &json!([])));
    s.note(
        "a disk that a machine shares stays until it is taken from it",
        fine,
    );
    let fine = is(
        &ended,
        &format!("/unattached/disks/{one}/had"),
        &json!("check-one"),
    )
    .and_then(|()| answered(&gone, &[200]));
    s.note("what nobody shares any more is kept unattached", fine);
    let wrong = spare.iter().find_map(|said| answered(said, &[200]).err());
    s.note(
        "and is deleted as any other disk",
        wrong.map_or(Ok(()), Err),
    );
}
