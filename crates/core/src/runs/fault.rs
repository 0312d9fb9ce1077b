//! Why a step failed.

use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FaultKind {
    Unreachable,
    TimedOut,
    /// The device said no.
    Refused,
    /// A later run has taken the object.
    Stale,
    /// The answer made no sense.
    Garbled,
    Password,
    /// Another certificate than the pinned one.
    Stranger,
    /// It no longer fits, seen at its turn.
    Premise,
    /// The journal went back while it was under way: what became of it is not known.
    History,
    /// Our own database or disk failed: says nothing about the device.
    Ours,
}

/// Why a step failed: the device's words, the sheet's field it comes from, what to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fault {
    pub kind: FaultKind,
    pub said: String,
    pub field: Option<String>,
    pub remedy: String,
    /// An attempt before it had no answer, and this one says nothing of that.
    #[serde(default)]
    pub open: bool,
}

impl Fault {
    pub fn new(kind: FaultKind, said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Fault {
            kind,
            said: said.into(),
            field: None,
            remedy: remedy.into(),
            open: false,
        }
    }
    /// Worth trying again without asking anybody.
    pub fn passing(&self) -> bool {
        matches!(
            self.kind,
            FaultKind::Unreachable | FaultKind::TimedOut | FaultKind::Garbled | FaultKind::Ours
        )
    }
    /// Whether it leaves open what the device did: the call, or one before it, may have had its effect.
    pub fn leaves_open(&self) -> bool {
        let unanswered = matches!(
            self.kind,
            FaultKind::TimedOut | FaultKind::Garbled | FaultKind::History
        );
        unanswered || self.open
    }
    /// The same after an earlier fault: only the device's own no settles what an unanswered call left open.
    pub fn after(mut self, earlier: Option<&Fault>) -> Self {
        let settled = self.kind == FaultKind::Refused || self.leaves_open();
        self.open = !settled && earlier.is_some_and(Fault::leaves_open);
        self
    }
}
