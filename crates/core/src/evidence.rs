//! Answers to read-only probes, with the time they were taken and the time they expire.

use crate::{
    estate::Hardware,
    ids::HostId,
    moment::{Moment, Span},
    units::Bytes,
};
use imbl::OrdMap;
use serde::{Deserialize, Serialize};

/// A question that changes nothing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Probe {
    /// Who is at this address (`ip:port`)?
    Greeting(String),
    /// How far is this host's clock from ours?
    Clock(HostId),
    /// Does the management controller of this host answer, and for the pinned serial?
    Bmc(HostId),
    /// Which volumes and machine records does this host see?
    Sight(HostId),
}

/// What a host says of itself to anybody.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Greeting {
    pub name: String,
    /// SHA-256 of the SubjectPublicKeyInfo, lower-case hex.
    pub pin: String,
    pub hardware: Hardware,
    pub software: String,
    /// The installation that owns it, if any: its identifier and name.
    pub owner: Option<(String, String)>,
    /// Machines that run on it now.
    pub machines: Vec<String>,
    pub bmc: Option<String>,
}

/// A volume as one host sees it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenVolume {
    pub uid: String,
    pub name: String,
    pub capacity: Bytes,
    pub used: Bytes,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answer {
    Greeting(Box<Greeting>),
    /// Host minus manager, in milliseconds, at the middle of the exchange.
    Clock {
        offset_ms: i64,
    },
    Bmc {
        power: String,
        serial: String,
    },
    Sight {
        volumes: Vec<SeenVolume>,
    },
    /// It was asked and didn't give a usable answer.
    Silent {
        why: String,
    },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Evidence {
    pub answer: Answer,
    pub taken: Moment,
    pub expires: Moment,
}

/// How long an answer may be rested on.
pub fn lifetime(probe: &Probe) -> Span {
    match probe {
        Probe::Greeting(_) => Span::mins(30),
        Probe::Clock(_) | Probe::Bmc(_) | Probe::Sight(_) => Span::mins(5),
    }
}

/// Everything that was asked lately.
#[derive(Debug, Clone, Default)]
pub struct EvidenceBook {
    pub answers: OrdMap<Probe, Evidence>,
}

impl EvidenceBook {
    /// The answer, if there is one that hasn't expired.
    pub fn fresh(&self, probe: &Probe, now: Moment) -> Option<&Answer> {
        self.answers
            .get(probe)
            .filter(|e| e.expires > now)
            .map(|e| &e.answer)
    }
    pub fn put(&mut self, probe: Probe, answer: Answer, now: Moment) {
        let expires = now.plus(lifetime(&probe));
        self.answers.insert(
            probe,
            Evidence {
                answer,
                taken: now,
                expires,
            },
        );
    }
}
