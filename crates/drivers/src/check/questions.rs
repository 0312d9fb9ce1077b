//! What a host promises of questions that are asked inside a guest.

use super::{Suite, answered, is};
use reqwest::Method;
use serde_json::{Value, json};

/// A port on which nobody listens.
const NOBODY: u16 = 1;

/// A guest that is up is asked, answers what it can, and says why where it can't.
pub(super) async fn asked(s: &mut Suite, path: &str) {
    let at = format!("{path}/questions");
    let closed = json!({"kind": "tcp", "port": NOBODY});
    let said = s.send(Method::POST, &at, None, Some(closed)).await;
    s.note(
        "a port on which nobody listens is told so",
        answered(&said, &[200]).and_then(|()| match &said {
            Ok((_, body)) if body["open"] != true && body["why"].is_string() => Ok(()),
            other => Err(format!("{other:?}")),
        }),
    );
    let fails = json!({"kind": "run", "command": "false"});
    let said = s.send(Method::POST, &at, None, Some(fails)).await;
    s.note(
        "a command is told by its exit code",
        is(&said, "/exit", &json!(1)),
    );
    let strange: Value = json!({"kind": "dream"});
    let said = s.send(Method::POST, &at, None, Some(strange)).await;
    s.note(
        "a question of no known kind is refused",
        answered(&said, &[400, 422]),
    );
}

/// One that is off answers nothing.
pub(super) async fn off(s: &mut Suite, path: &str) {
    let body = json!({"kind": "run", "command": "true"});
    let said = s
        .send(Method::POST, &format!("{path}/questions"), None, Some(body))
        .await;
    s.note(
        "a machine that is off is not asked",
        answered(&said, &[409]),
    );
}
