//! What hosts and volumes promise to keepers.

use super::{Suite, answered, code, has};
use reqwest::Method;
use serde_json::json;

/// A keeper is given and taken away, and what keepers agree by on a volume keeps two from deciding.
pub(super) async fn keepers(s: &mut Suite, volume: &str) {
    let path = "/v1/keepers/check";
    // Nobody can open it: what a keeper makes of it is not looked at here.
    let body = || Some(json!({"sealed": "AAAA", "key": "AAAA"}));
    let said = s
        .send(Method::PUT, path, Some(("check.keeper", 20)), body())
        .await;
    s.note(
        "a host takes what a keeper is given",
        answered(&said, &[204]),
    );
    let said = s
        .send(Method::PUT, path, Some(("check.keeper.old", 19)), body())
        .await;
    s.note(
        "an older one never takes the place of a newer",
        answered(&said, &[412]).and_then(|()| code(&said, "stale_fence")),
    );
    let said = s.send(Method::GET, path, None, None).await;
    let secret = said
        .as_ref()
        .is_ok_and(|(_, body)| body.get("key").is_some());
    s.note(
        "what it was given is told of, and not given back",
        answered(&said, &[200])
            .and_then(|()| has(&said, &["/epoch", "/revision", "/runs", "/keeps"]))
            .and_then(|()| {
                if secret {
                    Err("its key is in the answer".into())
                } else {
                    Ok(())
                }
            }),
    );
    agree(s, volume).await;
    let said = s
        .send(Method::DELETE, path, Some(("check.keeper.gone", 21)), None)
        .await;
    s.note("it is taken away", answered(&said, &[204]));
    let said = s.send(Method::GET, path, None, None).await;
    s.note("and forgotten", answered(&said, &[404]));
}

async fn agree(s: &mut Suite, volume: &str) {
    let path = format!("/v1/volumes/{volume}/agreement");
    let members = format!("{path}/members");
    let named = |who: &[&str]| Some(json!({"members": who}));
    let said = s
        .send(
            Method::PUT,
            &members,
            Some(("check.named", 20)),
            named(&["a", "b"]),
        )
        .await;
    s.note(
        "who may decide is written on the volume",
        answered(&said, &[200])
            .and_then(|()| has(&said, &["/members/1", "/token", "/counter", "/last"])),
    );
    let figure = |name: &str| {
        said.as_ref()
            .map_or(0, |(_, b)| b[name].as_u64().unwrap_or(0))
    };
    let (token, counter, last) = (figure("token"), figure("counter"), figure("last"));
    let take = |who: &str, token: u64, to: u64| {
        Some(
            json!({"token": token, "counter": counter, "to": {"token": to, "holder": who, "counter": counter + 1, "hears": 1}}),
        )
    };
    let first = s
        .send(Method::PATCH, &path, None, take("a", token, token + 1))
        .await;
    let second = s
        .send(Method::PATCH, &path, None, take("b", token, token + 1))
        .await;
    s.note(
        "of two who take the lease at once one has it",
        answered(&first, &[200]).and_then(|()| answered(&second, &[409])),
    );
    let said = s
        .send(Method::PATCH, &path, None, take("c", token + 1, token + 2))
        .await;
    s.note("nobody takes it who is not named", answered(&said, &[403]));
    beside(s, volume).await;
    journal(s, volume, (token, last)).await;
    let said = s
        .send(
            Method::PUT,
            &members,
            Some(("check.unnamed", 21)),
            named(&[]),
        )
        .await;
    let free = said.as_ref().is_ok_and(|(_, b)| b["holder"].is_null());
    s.note(
        "who is not named any more does not decide",
        if free {
            Ok(())
        } else {
            Err("it holds on".into())
        },
    );
}

/// What is written beside the lease of a host that isn't there.
async fn beside(s: &mut Suite, volume: &str) {
    let path = format!("/v1/volumes/{volume}/leases/check-nobody");
    let end = |number: u64| Some(json!({"end": number}));
    let said = s.send(Method::PUT, &path, None, end(2)).await;
    let older = s.send(Method::PUT, &path, None, end(1)).await;
    s.note(
        "what another host shall end is written beside its lease",
        answered(&said, &[204]).and_then(|()| answered(&older, &[204])),
    );
}

/// The journal beside the lease, which "a" has under the token after `token`.
async fn journal(s: &mut Suite, volume: &str, (token, last): (u64, u64)) {
    let line = |n: u64, who: &str, token: u64| {
        Some(json!({"token": token, "holder": who, "line": {"index": n, "told": "check"}}))
    };
    let at = |n: u64| format!("/v1/volumes/{volume}/journal/{n}");
    let added = s
        .send(
            Method::PUT,
            &at(last + 1),
            None,
            line(last + 1, "a", token + 1),
        )
        .await;
    let again = s
        .send(
            Method::PUT,
            &at(last + 1),
            None,
            line(last + 1, "a", token + 1),
        )
        .await;
    s.note(
        "a line is added to the journal, and once",
        answered(&added, &[204]).and_then(|()| answered(&again, &[204])),
    );
    let gap = s
        .send(
            Method::PUT,
            &at(last + 3),
            None,
            line(last + 3, "a", token + 1),
        )
        .await;
    let old = s
        .send(Method::PUT, &at(last + 2), None, line(last + 2, "b", token))
        .await;
    s.note(
        "none out of turn, and none of who does not decide",
        answered(&gap, &[409]).and_then(|()| answered(&old, &[409])),
    );
    let said = s
        .send(
            Method::GET,
            &format!("/v1/volumes/{volume}/journal?after={last}"),
            None,
            None,
        )
        .await;
    s.note(
        "lines are read in their order",
        has(&said, &["/lines/0/index"]),
    );
}
