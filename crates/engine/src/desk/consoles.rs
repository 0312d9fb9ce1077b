//! Opening consoles: a ticket first, which counts once, for half a minute, for one session and one console.

use super::{Desk, Viewer};
use crate::{
    consoles::{Look, look},
    scribe::{Decision, Guard, Refusal},
};
use sha2::{Digest, Sha256};
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::{
    event::{ConsoleOf, Event},
    permits::Act,
};

/// How long a ticket counts.
const LASTS: Duration = Duration::from_secs(30);
/// Tickets that may be out at once in this process.
const MOST: usize = 1000;

/// A word that opens one console once.
pub type Ticket = String;

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum ConsoleError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error("this is gone")]
    Gone,
    #[error("the ticket is used up or too old; open the console again")]
    Ticket,
    #[error("the opening could not be recorded: {0}")]
    Unavailable(String),
}

struct Issued {
    of: ConsoleOf,
    session: [u8; 32],
    at: Instant,
}

#[derive(Default)]
pub(crate) struct Tickets(Mutex<HashMap<String, Issued>>);

fn hash(text: &str) -> [u8; 32] {
    Sha256::digest(text.as_bytes()).into()
}

impl Tickets {
    fn issue(&self, of: ConsoleOf, session: &str) -> Ticket {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, issued| issued.at.elapsed() < LASTS);
        if all.len() >= MOST {
            all.clear();
        }
        let ticket = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
        let issued = Issued {
            of,
            session: hash(session),
            at: Instant::now(),
        };
        all.insert(ticket.clone(), issued);
        ticket
    }
    /// Uses a ticket up.
    fn punch(&self, ticket: &str, of: ConsoleOf, session: &str) -> bool {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.remove(ticket).is_some_and(|issued| {
            issued.of == of && issued.session == hash(session) && issued.at.elapsed() < LASTS
        })
    }
}

impl Desk {
    /// A ticket for this session to look at a console; the opening is recorded.
    ///
    /// # Errors
    /// [`ConsoleError`]; nothing was opened.
    pub async fn console_ticket(
        &self,
        viewer: &Viewer,
        of: ConsoleOf,
        session: &str,
    ) -> Result<Ticket, ConsoleError> {
        if !viewer.permits().allow(Act::Look) {
            return Err(ConsoleError::NotAllowed);
        }
        let (who, writes) = (viewer.who(), viewer.permits().allow(of.act()));
        let recorded = self.scribe.append(Guard::None, move |view, _| {
            if !of.exists(&view.estate) {
                return Err(Refusal::NotOurs);
            }
            Ok(Decision {
                events: vec![Event::ConsoleOpened { of, writes }],
                who,
                run: None,
                request: None,
            })
        });
        match recorded.await {
            Ok(_) => Ok(self.tickets.issue(of, session)),
            Err(Refusal::NotOurs) => Err(ConsoleError::Gone),
            Err(Refusal::Unavailable(why)) => Err(ConsoleError::Unavailable(why)),
            Err(_) => Err(ConsoleError::Unavailable(
                "something else was in the way".into(),
            )),
        }
    }

    /// Opens the console that the ticket was issued for. Whoever may type there does, if nobody else does.
    ///
    /// # Errors
    /// [`ConsoleError::Ticket`] when the ticket doesn't fit.
    pub fn console(
        &self,
        viewer: &Viewer,
        of: ConsoleOf,
        session: &str,
        ticket: &str,
    ) -> Result<Look, ConsoleError> {
        if !self.tickets.punch(ticket, of, session) {
            return Err(ConsoleError::Ticket);
        }
        let writes = viewer.permits().allow(of.act());
        Ok(look(&self.shared, of, &viewer.name, writes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::ids::{HostId, MachineId};

    #[test]
    fn a_ticket_counts_once_for_its_session_and_machine() {
        let tickets = Tickets::default();
        let (seven, eight) = (ConsoleOf::Machine(MachineId(7)), ConsoleOf::Host(HostId(7)));
        let one = tickets.issue(seven, "a");
        assert!(!tickets.punch(&one, eight, "a"), "another console");
        assert!(!tickets.punch(&one, seven, "a"), "a wrong try uses it up");
        let two = tickets.issue(seven, "a");
        assert!(!tickets.punch(&two, seven, "b"), "another session");
        let three = tickets.issue(seven, "a");
        assert!(tickets.punch(&three, seven, "a"));
        assert!(!tickets.punch(&three, seven, "a"), "once");
    }
}
