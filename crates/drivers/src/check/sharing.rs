//! What a host promises of disks that several machines have.

use super::{Said, Suite, answered, code, is};
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;

/// Where everything is asked for.
struct At<'a> {
    path: &'a str,
    volume: &'a str,
}

impl At<'_> {
    fn of_volume(&self, key: &Uuid) -> String {
        format!("/v1/volumes/{}/shared/{key}", self.volume)
    }
    fn of_machine(&self, key: &Uuid) -> String {
        format!("{}/shared/{key}", self.path)
    }
    /// The place that is asked for.
    fn place(&self) -> Value {
        json!({"volume": self.volume, "controller": 1, "unit": 0})
    }
}

fn disk(name: &str) -> Value {
    json!({"name": name, "size": 64u64 << 20, "thick": false, "controller": 1, "unit": 0, "kept": false})
}

async fn call(s: &Suite, method: Method, path: &str, id: &str, body: Option<Value>) -> Said {
    s.send(method, path, Some((id, 10)), body).await
}

/// One is made, given to a machine, refused at a place that is taken, taken from it, and left unattached.
pub(super) async fn sharing(s: &mut Suite, path: &str, volume: &str) {
    let at = At { path, volume };
    let (one, two) = (Uuid::new_v4(), Uuid::new_v4());
    given(s, &at, &one, &two).await;
    ended(s, &at, &one, &two).await;
}

async fn given(s: &mut Suite, at: &At<'_>, one: &Uuid, two: &Uuid) {
    let (of_one, of_two) = (at.of_machine(one), at.of_machine(two));
    let early = call(
        s,
        Method::PUT,
        &of_one,
        "check.shared.early",
        Some(at.place()),
    )
    .await;
    let made = call(
        s,
        Method::PUT,
        &at.of_volume(one),
        "check.shared",
        Some(disk("check-one")),
    )
    .await;
    let other = call(
        s,
        Method::PUT,
        &at.of_volume(two),
        "check.shared.2",
        Some(disk("check-two")),
    )
    .await;
    let given = call(
        s,
        Method::PUT,
        &of_one,
        "check.shared.give",
        Some(at.place()),
    )
    .await;
    let taken = call(
        s,
        Method::PUT,
        &of_two,
        "check.shared.give.2",
        Some(at.place()),
    )
    .await;
    let there = format!("/shared/disks/{one}/name");
    let fine = is(&made, &there, &json!("check-one")).and_then(|()| answered(&other, &[200]));
    s.note("a disk for several machines is made", fine);
    let fine = answered(&early, &[404])
        .and_then(|()| is(&given, "/machine/shares/0/disk", &json!(one)))
        .and_then(|()| is(&given, "/machine/shares/0/mode", &json!("reservations")));
    s.note("a machine has it with persistent reservations", fine);
    let fine = answered(&taken, &[409]).and_then(|()| code(&taken, "slot"));
    s.note("no machine has two disks at one place", fine);
}

async fn ended(s: &mut Suite, at: &At<'_>, one: &Uuid, two: &Uuid) {
    let used = call(
        s,
        Method::DELETE,
        &at.of_volume(one),
        "check.shared.used",
        None,
    )
    .await;
    let out = call(
        s,
        Method::DELETE,
        &at.of_machine(one),
        "check.shared.take",
        None,
    )
    .await;
    let ended = call(
        s,
        Method::DELETE,
        &at.of_volume(one),
        "check.shared.end",
        None,
    )
    .await;
    let gone = call(
        s,
        Method::DELETE,
        &at.of_volume(two),
        "check.shared.end.2",
        None,
    )
    .await;
    let mut spare = Vec::new();
    for (n, key) in [one, two].iter().enumerate() {
        let path = format!("/v1/volumes/{}/disks/{key}", at.volume);
        let mark = Some(json!({"deleted": true}));
        spare.push(
            call(
                s,
                Method::PATCH,
                &path,
                &format!("check.shared.mark.{n}"),
                mark,
            )
            .await,
        );
        spare.push(
            call(
                s,
                Method::DELETE,
                &path,
                &format!("check.shared.purge.{n}"),
                None,
            )
            .await,
        );
    }
    let fine = answered(&used, &[409])
        .and_then(|()| code(&used, "used"))
        .and_then(|()| is(&out, "/machine/shares", &json!([])));
    s.note(
        "a disk that a machine shares stays until it is taken from it",
        fine,
    );
    let had = format!("/unattached/disks/{one}/had");
    let fine = is(&ended, &had, &json!("check-one")).and_then(|()| answered(&gone, &[200]));
    s.note("what nobody shares any more is kept unattached", fine);
    let wrong = spare.iter().find_map(|said| answered(said, &[200]).err());
    s.note(
        "and is deleted as any other disk",
        wrong.map_or(Ok(()), Err),
    );
}
