//! What happens at consoles and screens.

use crate::{
    estate::{Estate, Pen},
    ids::{HostId, MachineId, NotAnId},
    permits::Act,
    road::{Entry, Tale},
};
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Somebody looks at a console.
    Opened {
        of: ConsoleOf,
        /// Also to type into it.
        writes: bool,
        /// Its graphical screen, not its text console.
        screen: bool,
    },
    /// Somebody typed a password that does not open it.
    Refused { of: ConsoleOf },
    /// A picture of its screen was kept, from before something ended what it showed.
    ScreenKept {
        machine: MachineId,
        picture: uuid::Uuid,
        why: String,
    },
}

impl Tale for Event {
    fn absorb(&self, _pen: &mut Pen<'_>) {
        match self {
            // Who looked is told and changes nothing; pictures are kept beside the journal.
            Event::Opened { .. } | Event::Refused { .. } | Event::ScreenKept { .. } => {}
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let (text, about) = match self {
            Event::Opened { of, writes, screen } => {
                let what = if *screen { "screen" } else { "console" };
                let how = if *writes { "" } else { ", to look at" };
                let text = format!("The {what} of {} was opened{how}", of.name(estate));
                (text, vec![of.to_string()])
            }
            Event::Refused { of } => {
                let text = format!("A wrong password was typed for the console of {}", of.name(estate));
                (text, vec![of.to_string()])
            }
            Event::ScreenKept {
                machine,
                picture,
                why,
            } => {
                let of = ConsoleOf::Machine(*machine).name(estate);
                let text = format!("A picture of the screen of {of} was kept: {why}");
                (text, vec![machine.to_string(), format!("picture-{picture}")])
            }
        };
        Some(Entry::new("console", text, about))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

/// Whose console it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ConsoleOf {
    Machine(MachineId),
    Host(HostId),
}

impl ConsoleOf {
    pub fn name(self, estate: &Estate) -> String {
        match self {
            ConsoleOf::Machine(id) => estate.machines.get(&id).map(|m| m.name.clone()),
            ConsoleOf::Host(id) => estate.hosts.get(&id).map(|h| h.name.clone()),
        }
        .unwrap_or_else(|| self.to_string())
    }
    pub fn exists(self, estate: &Estate) -> bool {
        match self {
            ConsoleOf::Machine(id) => estate.machines.contains_key(&id),
            ConsoleOf::Host(id) => estate.hosts.contains_key(&id),
        }
    }
    /// What somebody must be allowed to do to type there.
    pub fn act(self) -> Act {
        match self {
            ConsoleOf::Machine(_) => Act::Machines,
            ConsoleOf::Host(_) => Act::Hosts,
        }
    }
}

impl FromStr for ConsoleOf {
    type Err = NotAnId;
    fn from_str(text: &str) -> Result<Self, NotAnId> {
        match text.starts_with("host-") {
            true => text.parse().map(ConsoleOf::Host),
            false => text.parse().map(ConsoleOf::Machine),
        }
    }
}

impl fmt::Display for ConsoleOf {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ConsoleOf::Machine(id) => id.fmt(f),
            ConsoleOf::Host(id) => id.fmt(f),
        }
    }
}
