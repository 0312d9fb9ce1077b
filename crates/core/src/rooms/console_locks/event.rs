//! What happens to the passwords of consoles.

use crate::{
    estate::{Estate, Pen},
    ids::{MachineId, SecretRef},
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Locked {
        machine: MachineId,
        /// Where the hash of the password is kept; none: it has none any more.
        password: Option<SecretRef>,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let Event::Locked { machine, password } = self;
        pen.machine(*machine, |m| m.console_lock = *password);
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let Event::Locked { machine, password } = self;
        let name = Object::Machine(*machine).name(estate);
        let text = match password {
            Some(_) => format!("The console of {name} has a password now"),
            None => format!("The console of {name} has no password any more"),
        };
        Some(Entry::new("console", text, vec![machine.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
