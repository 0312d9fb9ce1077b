//! What went wrong on the wire, in words with a remedy.

use crate::said;
use serde::Deserialize;
use zastrugi_core::runs::{Fault, FaultKind};

/// Device words are strings from outside: limited, and without control characters.
pub(crate) fn words(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(300).collect()
}

#[derive(Deserialize)]
struct Refusal {
    error: Said,
}
#[derive(Deserialize)]
struct Said {
    #[serde(default)]
    code: String,
    #[serde(default)]
    message: String,
}

/// A call that got no answer at all.
pub(crate) fn unanswered(who: &str, error: &reqwest::Error) -> Fault {
    let chain = format!("{error:?}");
    if chain.contains("ApplicationVerificationFailure") {
        return Fault::new(
            FaultKind::Stranger,
            format!("{who} shows another certificate than the pinned one."),
            "Find out why on the host's own screen. If it was installed anew, hand it back and claim it again.",
        );
    }
    if error.is_timeout() {
        return Fault::new(
            FaultKind::TimedOut,
            format!("{who} took the call and did not answer in time."),
            "Look whether the host is overloaded or hung; then retry. A step is safe to repeat.",
        );
    }
    if error.is_connect() {
        return Fault::new(
            FaultKind::Unreachable,
            format!("{who} can't be reached."),
            "Check that the host is on and that the management network reaches it; then retry.",
        );
    }
    Fault::new(
        FaultKind::Garbled,
        format!("The connection to {who} broke in the middle of an answer."),
        "Retry. A step is safe to repeat: the device keeps its answer.",
    )
}

/// An answer that can't be read.
pub(crate) fn garbled(who: &str, why: &str) -> Fault {
    Fault::new(
        FaultKind::Garbled,
        format!("{who} gave an answer that makes no sense ({}).", words(why)),
        "Look whether the host's agent has a version that Zastrugi knows; then retry.",
    )
}

/// The device said no: its own words are kept.
pub(crate) fn refused(status: u16, body: &[u8]) -> Fault {
    let said = said::read::<Refusal>(body)
        .map(|r| r.error)
        .unwrap_or(Said {
            code: String::new(),
            message: format!("status {status}"),
        });
    let (kind, remedy) = match said.code.as_str() {
        "stale_fence" => (
            FaultKind::Stale,
            "A later run has taken this object. Cancel this one.",
        ),
        "old_epoch" => (
            FaultKind::Stale,
            "This installation was restored, or another took over. An admin must look under Settings, History.",
        ),
        "other_history" => (
            FaultKind::Stale,
            "A copy of this installation gives orders there. Stop one of the two; then begin a new history under Settings.",
        ),
        "password" => (
            FaultKind::Password,
            "Type the password again; mind the tries that are left.",
        ),
        "locked" => (
            FaultKind::Password,
            "Unlock the host at its own screen first.",
        ),
        "full" => (
            FaultKind::Refused,
            "Free room on the volume, or make the disks smaller, then retry.",
        ),
        "lease" => (
            FaultKind::Refused,
            "The machine runs elsewhere. Look at it there before doing anything.",
        ),
        "key" | "unclaimed" => (
            FaultKind::Refused,
            "The host no longer knows our key. Hand it back and claim it again.",
        ),
        _ => (
            FaultKind::Refused,
            "Do what the device asks for, then retry; or cancel the run.",
        ),
    };
    Fault::new(kind, words(&said.message), remedy)
}
