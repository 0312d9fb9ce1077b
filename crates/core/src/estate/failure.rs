//! One failure of a host, from the last that was heard of it to the last machine that is back.

use crate::{
    ids::{ClusterId, FailureId, HostId, MachineId},
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};

/// What is done to prove that a host runs nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Act {
    /// Its controller says that it is off.
    Prove,
    /// It has power: its controller is told to switch it off.
    SwitchOff,
    /// Its controller is no help: its arrays let it reach nothing any more.
    Withdraw,
    /// It is cut off and so are its guests: it is told through its lease to end them.
    Tell,
    /// Nobody can tell it anything: its watchdog resets it when its lease has run out.
    AwaitWatchdog,
    /// None of that can be had.
    AskPerson,
}

/// How far it is with a failure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FailureStage {
    /// Its agent is not heard, and its lease is renewed: its machines go on.
    CutOff,
    /// It is alive, and machines on it lack what they need: they leave it, or start elsewhere.
    Ails,
    /// The verdict is told; it is being fenced.
    Judged(Act),
    /// Nothing goes on without a person, for this reason.
    Waits(String),
    /// It is proved that it runs nothing.
    Fenced,
    /// Its machines run, or it was heard again before it was fenced.
    Over,
}

/// What a line of a story is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sort {
    Signal,
    Verdict,
    Fencing,
    Restart,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoryLine {
    pub at: Moment,
    pub sort: Sort,
    pub text: String,
}

/// A machine that it takes down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Restarted {
    pub machine: MachineId,
    pub name: String,
    pub tier: u8,
    pub to: Option<HostId>,
    /// When it was started, and when it was up.
    pub started: Option<Moment>,
    pub up: Option<Moment>,
    /// Why it isn't; empty where nothing is wrong.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failure {
    pub id: FailureId,
    pub cluster: ClusterId,
    pub host: HostId,
    /// The host's name, as it was.
    pub name: String,
    /// When it was last heard.
    pub since: Moment,
    pub stage: FailureStage,
    pub lines: Vec<StoryLine>,
    pub machines: Vec<Restarted>,
    /// From the last that was heard to the last machine up, as the failure matrix had it.
    pub foretold: Option<Span>,
    /// It was alive all the time: machines on it lacked what they need.
    #[serde(default)]
    pub ailed: bool,
    /// When its controller was last told to switch it off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub switched: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fenced: Option<Moment>,
    /// Whether nothing but its controller proved it.
    #[serde(default)]
    pub on_word: bool,
    pub ended: Option<Moment>,
}

impl Failure {
    /// Lines that are kept of one.
    pub const LINES: usize = 80;

    pub fn is_open(&self) -> bool {
        self.ended.is_none()
    }
    /// What a person must do something about; none where nobody need.
    pub fn waits(&self) -> Option<&str> {
        match &self.stage {
            FailureStage::Waits(why) if self.is_open() => Some(why),
            FailureStage::CutOff
            | FailureStage::Ails
            | FailureStage::Judged(_)
            | FailureStage::Waits(_)
            | FailureStage::Fenced
            | FailureStage::Over => None,
        }
    }
    /// Machines that are not up, and why where that is known.
    pub fn left(&self) -> impl Iterator<Item = &Restarted> {
        self.machines.iter().filter(|m| m.up.is_none())
    }
    /// From the last that was heard to the first and to the last machine up.
    pub fn took(&self) -> Option<(Span, Span)> {
        let ups = || self.machines.iter().filter_map(|m| m.up);
        let (first, last) = (ups().min()?, ups().max()?);
        Some((first.since(self.since), last.since(self.since)))
    }
    /// It is proved to run nothing, whoever proved it.
    pub fn is_fenced(&mut self, at: Moment, proof: &str) {
        if self.stage != FailureStage::Fenced {
            self.stage = FailureStage::Fenced;
            self.line(at, Sort::Fencing, format!("runs nothing any more: {proof}"));
        }
        self.fenced.get_or_insert(at);
    }
    pub fn line(&mut self, at: Moment, sort: Sort, text: String) {
        if self.lines.len() < Self::LINES {
            self.lines.push(StoryLine { at, sort, text });
        }
    }
}
