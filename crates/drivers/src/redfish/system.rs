//! The system that a host is, among those behind its controller; its power, and how it is switched.

use super::{
    Controller,
    sign::{ROOT, local, path},
    wire::{Action, ActionInfo, Collection, ComputerSystem, Root},
};
use crate::fault::words;
use serde_json::json;
use zastrugi_core::runs::{Fault, FaultKind};

/// Systems of one service that are looked at, and pages of them.
const SYSTEMS: usize = 256;
const PAGES: usize = 8;

/// What a controller says of its system.
#[derive(Debug)]
pub(crate) struct System {
    /// `On`, `Off`, or what else it says; empty where it says nothing.
    pub(crate) power_state: String,
    pub(crate) serial_number: String,
}

/// What a host's power is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Switch {
    On,
    Off,
}

impl Switch {
    /// `ResetType` of the standard that does it, best first. Off is off at once: whoever is asked nicely may not.
    fn kinds(self) -> &'static [&'static str] {
        match self {
            Switch::On => &["On", "ForceOn"],
            Switch::Off => &["ForceOff"],
        }
    }
    fn words(self) -> &'static str {
        match self {
            Switch::On => "on",
            Switch::Off => "off at once",
        }
    }
}

/// A system with where it stands.
pub(super) struct Found {
    pub(super) path: String,
    serial: String,
    power: String,
    reset: Option<Action>,
}

impl Found {
    fn of(path: String, read: ComputerSystem) -> Found {
        Found {
            path,
            serial: words(&read.serial_number.unwrap_or_default()),
            power: words(&read.power_state.unwrap_or_default()),
            reset: read.actions.reset,
        }
    }
}

impl Controller<'_> {
    pub(crate) async fn system(&self) -> Result<System, Fault> {
        let found = self.found().await?;
        Ok(System {
            power_state: found.power,
            serial_number: found.serial,
        })
    }

    /// Where it stood last, else looked for among all.
    pub(super) async fn found(&self) -> Result<Found, Fault> {
        if let Some(path) = self.ways.of(self.address).system {
            let read = self.get::<ComputerSystem>(&path).await;
            // What is there no longer, or has become another, is looked for anew.
            match read.map(|read| Found::of(path, read)) {
                Ok(found) if found.serial == self.serial => return Ok(found),
                Err(fault) if fault.kind != FaultKind::Refused => return Err(fault),
                Ok(_) | Err(_) => self.ways.set(self.address, |way| way.system = None),
            }
        }
        let found = self.look_for().await?;
        if found.serial == self.serial {
            let path = found.path.clone();
            self.ways.set(self.address, |way| way.system = Some(path));
        }
        Ok(found)
    }

    /// The one with the serial that is meant; where none has it, one that has another, so that it can be said.
    async fn look_for(&self) -> Result<Found, Fault> {
        let root: Root = self.get(ROOT).await?;
        let no = |said: String| Fault::new(FaultKind::Refused, said, "Look at the controller.");
        let systems = root
            .systems
            .ok_or_else(|| no(format!("{} knows no systems.", self.who())))?;
        let mut page = Some(local(&self.who(), &systems)?);
        let (mut other, mut silent) = (None, None);
        let mut left = SYSTEMS;
        for _ in 0..PAGES {
            let Some(at) = page.take() else { break };
            let collection: Collection = self.get(&at).await?;
            for member in collection.members.iter().take(left) {
                let path = local(&self.who(), member)?;
                // A link may lead nowhere: the others are still there.
                match self.get::<ComputerSystem>(&path).await {
                    Ok(read) => {
                        let found = Found::of(path, read);
                        if found.serial == self.serial {
                            return Ok(found);
                        }
                        other.get_or_insert(found);
                    }
                    Err(fault) => silent = Some(fault),
                }
            }
            left = left.saturating_sub(collection.members.len());
            page = collection
                .next
                .map(|next| path(&self.who(), &next))
                .transpose()?;
        }
        match (other, silent) {
            // Perhaps it is behind the one that gave no answer.
            (_, Some(fault)) if fault.kind != FaultKind::Refused => Err(fault),
            (Some(other), _) => Ok(other),
            (None, Some(fault)) => Err(fault),
            (None, None) => Err(no(format!("{} knows no systems.", self.who()))),
        }
    }

    /// Off and on again, as one order.
    ///
    /// # Errors
    /// As [`Controller::reset`].
    pub(crate) async fn restart(&self) -> Result<(), Fault> {
        self.told(&["ForceRestart", "PowerCycle"], "off and on again")
            .await
    }

    /// Tells the system of the pinned serial, once; whether it did is read.
    ///
    /// # Errors
    /// [`Fault`] where it is another system, offers no such reset, refuses, or gives no answer.
    pub(crate) async fn reset(&self, switch: Switch) -> Result<(), Fault> {
        self.told(switch.kinds(), switch.words()).await
    }

    async fn told(&self, kinds: &[&str], words: &str) -> Result<(), Fault> {
        let found = self.found().await?;
        let refuse = |said: String, remedy: &str| Fault::new(FaultKind::Refused, said, remedy);
        if found.serial != self.serial {
            let said = format!(
                "{} shows the serial {}, not {}.",
                self.who(),
                found.serial,
                self.serial
            );
            return Err(refuse(
                said,
                "It is another host's: nothing is switched by it. Look at the address of the controller.",
            ));
        }
        let by_hand = "Update the controller, or switch the host by hand.";
        let Some(action) = found.reset.filter(|a| !a.target.is_empty()) else {
            let said = format!("{} offers no way to switch the host.", self.who());
            return Err(refuse(said, by_hand));
        };
        let allowed = self.allowed(&action).await?;
        // One that doesn't say what it takes is told the usual.
        let kind = match allowed.as_slice() {
            [] => kinds.first(),
            some => kinds.iter().find(|k| some.iter().any(|a| a == *k)),
        };
        let Some(kind) = kind else {
            let said = format!(
                "{} offers to switch the host by {}; none of that switches it {}.",
                self.who(),
                allowed.join(", "),
                words
            );
            return Err(refuse(said, by_hand));
        };
        let target = path(&self.who(), &action.target)?;
        self.post(&target, json!({"ResetType": kind})).await
    }

    /// The values that a reset takes, from the action or from where it says that they stand.
    async fn allowed(&self, action: &Action) -> Result<Vec<String>, Fault> {
        let few = |all: Vec<String>| all.into_iter().take(32).map(|v| words(&v)).collect();
        let Some(info) = action.info.as_ref().filter(|_| action.allowed.is_empty()) else {
            return Ok(few(action.allowed.clone()));
        };
        let at = path(&self.who(), info)?;
        match self.get::<ActionInfo>(&at).await {
            Ok(info) => {
                let reset = info.parameters.into_iter().find(|p| p.name == "ResetType");
                Ok(few(reset.map(|p| p.allowable_values).unwrap_or_default()))
            }
            // A link that leads nowhere says nothing.
            Err(fault) if fault.kind == FaultKind::Refused => Ok(vec![]),
            Err(fault) => Err(fault),
        }
    }
}
