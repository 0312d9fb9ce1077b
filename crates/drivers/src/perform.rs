//! What every step's call has in common: who we are, which attempt it is, and what comes of it. The key is the same on every
//! attempt; the device answers a repetition with what it kept. The calls themselves are in `rooms`.

use crate::{
    Drivers,
    agent::{Agent, Stamp},
    networks::NotAllowed,
};
use futures::future::BoxFuture;
use zastrugi_core::{
    epoch::Epoch,
    estate::{Estate, Host},
    ids::{HostId, Revision, SecretRef},
    moment::{Moment, Span},
    rooms::Event,
    runs::{Fault, FaultKind},
};

/// Who we are to a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Installation {
    pub id: String,
    pub name: String,
}

/// Where secrets are sealed and opened.
pub trait Secrets: Send + Sync {
    /// Opens a secret for one call.
    fn open(&self, secret: SecretRef) -> BoxFuture<'_, Result<String, Fault>>;
    /// Seals one that a device gave us. One that nothing names any more is forgotten later, never in the middle of a step.
    fn keep(&self, plain: String) -> BoxFuture<'_, Result<SecretRef, Fault>>;
}

/// What came of a step.
#[derive(Debug, Clone, PartialEq)]
pub enum Outcome {
    Done {
        events: Vec<Event>,
        said: String,
    },
    /// It takes longer; ask again.
    NotYet {
        said: String,
    },
    /// Somebody gave it up, and the device can't say yet how it ended; ask again, nothing is written.
    Unsettled,
}

/// One attempt at a step.
#[derive(Debug, Clone, Copy)]
pub struct Turn<'a> {
    pub key: &'a str,
    pub epoch: Epoch,
    pub fence: Revision,
    /// Since the step began.
    pub waited: Span,
    pub now: Moment,
    /// How many other processes carry bytes from or to the same sites now.
    pub beside: u32,
}

pub(crate) fn done(events: Vec<Event>, said: impl Into<String>) -> Outcome {
    Outcome::Done {
        events,
        said: said.into(),
    }
}

impl From<NotAllowed> for Fault {
    fn from(why: NotAllowed) -> Fault {
        Fault::new(
            FaultKind::Refused,
            format!("{why}."),
            "Add the network under Settings, or correct the address.",
        )
    }
}

impl Drivers {
    pub(crate) fn allowed(&self, address: &str) -> Result<(), Fault> {
        self.networks().check(address)?;
        Ok(())
    }

    /// The opened key of a claimed host.
    pub(crate) async fn key_of(&self, host: &Host) -> Result<String, Fault> {
        self.allowed(&host.access.address)?;
        match host.access.key {
            Some(secret) => self.secrets.open(secret).await,
            None => Err(Fault::new(
                FaultKind::Refused,
                "The host is not claimed.",
                "Claim it first.",
            )),
        }
    }

    /// Follows what a host reports, until it falls silent.
    ///
    /// # Errors
    /// [`Fault`] when the host can't be reached or refuses.
    pub async fn watch(&self, host: &Host) -> Result<crate::Watch, Fault> {
        let key = self.key_of(host).await?;
        self.agent(host, &key).watch().await
    }

    /// Whether a host answers what it is asked: the cheapest question there is.
    ///
    /// # Errors
    /// [`Fault`] when it gives no answer in time, or none that makes sense.
    pub async fn ping(&self, host: &Host) -> Result<(), Fault> {
        let key = self.key_of(host).await?;
        self.agent(host, &key).ping().await
    }

    /// Tells a host which history is the newest: it obeys no older one from now on, whoever asks it. Safe to repeat.
    ///
    /// # Errors
    /// [`Fault`] when it was not reached, or knows a newer one.
    pub async fn meet(&self, host: &Host, epoch: Epoch) -> Result<(), Fault> {
        self.allowed(&host.access.address)?;
        let key = self.key_of(host).await?;
        let name = format!("history.{epoch}");
        let stamp = Stamp {
            key: &name,
            epoch,
            // Nothing of it was ordered yet.
            fence: Revision(0),
        };
        self.agent(host, &key).meet(stamp).await
    }

    pub(crate) fn agent<'a>(&'a self, host: &'a Host, key: &'a str) -> Agent<'a> {
        Agent {
            name: &host.name,
            http: &self.http,
            address: &host.access.address,
            pin: &host.access.pin,
            key,
        }
    }

    /// A host that a step names.
    pub(crate) fn host_of<'a>(&self, estate: &'a Estate, id: HostId) -> Result<&'a Host, Fault> {
        let host = estate
            .hosts
            .get(&id)
            .ok_or_else(|| premise("The host is gone."))?;
        self.allowed(&host.access.address)?;
        Ok(host)
    }
}

pub(crate) fn premise(said: &str) -> Fault {
    Fault::new(FaultKind::Premise, said, "Cancel the run.")
}

pub(crate) fn stamp(turn: Turn<'_>) -> Stamp<'_> {
    Stamp {
        key: turn.key,
        epoch: turn.epoch,
        fence: turn.fence,
    }
}
