//! Opening consoles: a ticket first, which counts once, for half a minute, for one session and one console.

use super::{Desk, Viewer};
use crate::{
    consoles::{Look, look},
    scribe::{Decision, Guard, Refusal, Sight},
};
use sha2::{Digest, Sha256};
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::rooms::consoles;
use zastrugi_core::{
    ids::{MachineId, PersonId},
    limits,
    permits::Act,
    rooms::Event,
    rooms::consoles::ConsoleOf,
};
use zastrugi_drivers::Screen;
use zastrugi_store::{Picture, Pictures, StoreError};

/// Keyboards that a guest may have: code and name.
pub const KEYBOARDS: [(&str, &str); 4] = [
    ("us", "US English"),
    ("de", "German"),
    ("fr", "French"),
    ("se", "Swedish"),
];
/// How long a ticket counts.
const LASTS: Duration = Duration::from_secs(30);

/// A word that opens one console once.
pub type Ticket = String;

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum ConsoleError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error("this is gone")]
    Gone,
    #[error("the machine is off, or its host does not answer")]
    Off,
    #[error("its console has a password")]
    Locked,
    #[error("that is not the password of this console")]
    Wrong,
    #[error("too many wrong passwords; wait a few minutes")]
    Waits,
    #[error("the ticket is used up or too old; open the console again")]
    Ticket,
    #[error("too many consoles are being opened; try again in a moment")]
    Busy,
    #[error("the opening could not be recorded: {0}")]
    Unavailable(String),
}

/// Which console of a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    Text,
    /// Its graphical screen.
    Screen,
}

struct Issued {
    person: PersonId,
    of: ConsoleOf,
    way: Way,
    session: [u8; 32],
    at: Instant,
}

#[derive(Default)]
pub(crate) struct Tickets(Mutex<HashMap<String, Issued>>, Mutex<Wrongs>);

/// Wrong passwords of late, by who typed them and for which machine.
type Wrongs = HashMap<(PersonId, MachineId), Vec<Instant>>;

/// So many wrong passwords are taken within this time.
const TRIES: usize = 5;
const WITHIN: Duration = Duration::from_mins(5);

fn hash(text: &str) -> [u8; 32] {
    Sha256::digest(text.as_bytes()).into()
}

impl Tickets {
    /// Whether this person may try once more.
    fn may_try(&self, person: PersonId, machine: MachineId) -> bool {
        let mut all = self.1.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, tries| {
            tries.retain(|at| at.elapsed() < WITHIN);
            !tries.is_empty()
        });
        all.get(&(person, machine)).map_or(0, Vec::len) < TRIES
    }

    fn tried(&self, person: PersonId, machine: MachineId) {
        let mut all = self.1.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry((person, machine))
            .or_default()
            .push(Instant::now());
    }

    /// Who knows it is not counted: their console opens anew by itself when its machine moves.
    fn knows(&self, person: PersonId, machine: MachineId) {
        let mut all = self.1.lock().unwrap_or_else(PoisonError::into_inner);
        all.remove(&(person, machine));
    }

    /// None when this person has too many out; nobody else's count.
    fn issue(&self, person: PersonId, of: ConsoleOf, way: Way, session: &str) -> Option<Ticket> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, issued| issued.at.elapsed() < LASTS);
        let theirs = all.values().filter(|i| i.person == person).count();
        if theirs >= limits::TICKETS.most {
            return None;
        }
        let ticket = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
        let issued = Issued {
            person,
            of,
            way,
            session: hash(session),
            at: Instant::now(),
        };
        all.insert(ticket.clone(), issued);
        Some(ticket)
    }
    /// Uses a ticket up.
    fn punch(&self, ticket: &str, of: ConsoleOf, way: Way, session: &str) -> bool {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.remove(ticket).is_some_and(|issued| {
            issued.of == of
                && issued.way == way
                && issued.session == hash(session)
                && issued.at.elapsed() < LASTS
        })
    }
}

impl Desk {
    /// Whether the password opens a console that has one.
    async fn opens(
        &self,
        viewer: &Viewer,
        of: ConsoleOf,
        password: &str,
    ) -> Result<(), ConsoleError> {
        let ConsoleOf::Machine(id) = of else {
            return Ok(());
        };
        let estate = self.shared.estate();
        let Some(lock) = estate.machines.get(&id).and_then(|m| m.console_lock) else {
            return Ok(());
        };
        if password.is_empty() {
            return Err(ConsoleError::Locked);
        }
        if !self.tickets.may_try(viewer.id, id) {
            return Err(ConsoleError::Waits);
        }
        // Counted before it is looked at: many at once are no way around.
        self.tickets.tried(viewer.id, id);
        let unavailable = |e: &dyn std::fmt::Display| ConsoleError::Unavailable(e.to_string());
        let hash = self
            .shared
            .vault
            .open(lock)
            .await
            .map_err(|e| unavailable(&e))?;
        let typed = zeroize::Zeroizing::new(password.to_owned());
        let fits = tokio::task::spawn_blocking(move || super::hosts::fits(typed.as_bytes(), &hash));
        if fits.await.map_err(|e| unavailable(&e))? {
            self.tickets.knows(viewer.id, id);
            return Ok(());
        }
        let who = viewer.who();
        let told = self.scribe.append(Guard::None, move |_: Sight<'_>| {
            Ok(Decision {
                events: vec![Event::Consoles(consoles::Event::Refused { of })],
                who: who.clone(),
                run: None,
                request: None,
            })
        });
        if let Err(error) = told.await {
            tracing::warn!(?error, "a wrong password at a console was not recorded");
        }
        Err(ConsoleError::Wrong)
    }

    /// A ticket for this session to look at a console; the opening is recorded. `password`: what opens it, where it has one.
    ///
    /// # Errors
    /// [`ConsoleError`]; nothing was opened.
    pub async fn console_ticket(
        &self,
        viewer: &Viewer,
        of: ConsoleOf,
        way: Way,
        session: &str,
        password: &str,
    ) -> Result<Ticket, ConsoleError> {
        if !viewer.permits().allow(Act::Look) {
            return Err(ConsoleError::NotAllowed);
        }
        self.opens(viewer, of, password).await?;
        let (who, writes) = (viewer.who(), viewer.permits().allow(of.act()));
        let screen = way == Way::Screen;
        let recorded = self.scribe.append(Guard::None, move |sight: Sight<'_>| {
            let view = sight.view;
            if !of.exists(&view.estate) {
                return Err(Refusal::NotOurs);
            }
            Ok(Decision {
                events: vec![Event::Consoles(consoles::Event::Opened {
                    of,
                    writes,
                    screen,
                })],
                who: who.clone(),
                run: None,
                request: None,
            })
        });
        match recorded.await {
            Ok(_) => self
                .tickets
                .issue(viewer.id, of, way, session)
                .ok_or(ConsoleError::Busy),
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
        if !self.tickets.punch(ticket, of, Way::Text, session) {
            return Err(ConsoleError::Ticket);
        }
        let writes = viewer.permits().allow(of.act());
        Ok(look(&self.shared, of, &viewer.name, writes))
    }

    /// Opens the graphical screen that the ticket was issued for, on the host where the machine is just now; it ends when
    /// the machine leaves that host.
    ///
    /// # Errors
    /// [`ConsoleError::Ticket`] when the ticket doesn't fit, [`ConsoleError::Off`] when no host shows it.
    pub async fn screen(
        &self,
        viewer: &Viewer,
        machine: MachineId,
        session: &str,
        ticket: &str,
        keyboard: &str,
    ) -> Result<Screen, ConsoleError> {
        let of = ConsoleOf::Machine(machine);
        if !self.tickets.punch(ticket, of, Way::Screen, session) {
            return Err(ConsoleError::Ticket);
        }
        let known = KEYBOARDS.iter().any(|(code, _)| *code == keyboard);
        let keyboard = if known { keyboard } else { KEYBOARDS[0].0 };
        let types = viewer.permits().allow(of.act());
        let (estate, drivers) = (self.shared.estate(), &self.shared.drivers);
        let machine = estate.machines.get(&machine).ok_or(ConsoleError::Gone)?;
        // In the middle of a move the machine may be at either end.
        for host in machine.host.into_iter().chain(machine.arriving) {
            if let Some(host) = estate.hosts.get(&host)
                && let Ok(screen) = drivers.screen(host, &machine.uuid, keyboard, types).await
            {
                return Ok(screen);
            }
        }
        Err(ConsoleError::Off)
    }

    /// A picture of what a machine's screen shows now, as a PNG file.
    ///
    /// # Errors
    /// [`ConsoleError::Off`] when no host shows it.
    pub async fn picture_now(&self, machine: MachineId) -> Result<Vec<u8>, ConsoleError> {
        let (estate, drivers) = (self.shared.estate(), &self.shared.drivers);
        let machine = estate.machines.get(&machine).ok_or(ConsoleError::Gone)?;
        if machine.console_lock.is_some() {
            return Err(ConsoleError::Locked);
        }
        for host in machine.host.into_iter().chain(machine.arriving) {
            if let Some(host) = estate.hosts.get(&host)
                && let Ok(png) = drivers.picture(host, &machine.uuid, None).await
            {
                return Ok(png);
            }
        }
        Err(ConsoleError::Off)
    }

    /// The newest picture that was kept of a machine's screen.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn kept_picture(&self, machine: MachineId) -> Result<Option<Picture>, StoreError> {
        Pictures::new(self.shared.pool.clone())
            .newest(machine)
            .await
    }

    /// A kept picture as a PNG file.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn kept_bytes(&self, picture: Uuid) -> Result<Option<Vec<u8>>, StoreError> {
        Pictures::new(self.shared.pool.clone()).bytes(picture).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::ids::{HostId, MachineId};
    const ME: PersonId = PersonId(1);

    #[test]
    fn one_person_cannot_use_up_the_tickets_of_all() {
        let tickets = Tickets::default();
        let seven = ConsoleOf::Machine(MachineId(7));
        let mine = (0..1000).filter_map(|_| tickets.issue(ME, seven, Way::Text, "a"));
        assert_eq!(mine.count(), limits::TICKETS.most);
        assert!(tickets.issue(PersonId(2), seven, Way::Text, "b").is_some());
    }

    #[test]
    fn a_ticket_counts_once_for_its_session_and_machine() {
        let tickets = Tickets::default();
        let (seven, eight) = (ConsoleOf::Machine(MachineId(7)), ConsoleOf::Host(HostId(7)));
        let one = tickets.issue(ME, seven, Way::Text, "a").unwrap();
        assert!(
            !tickets.punch(&one, eight, Way::Text, "a"),
            "another console"
        );
        assert!(
            !tickets.punch(&one, seven, Way::Text, "a"),
            "a wrong try uses it up"
        );
        let two = tickets.issue(ME, seven, Way::Text, "a").unwrap();
        assert!(
            !tickets.punch(&two, seven, Way::Text, "b"),
            "another session"
        );
        let three = tickets.issue(ME, seven, Way::Text, "a").unwrap();
        assert!(tickets.punch(&three, seven, Way::Text, "a"));
        assert!(!tickets.punch(&three, seven, Way::Text, "a"), "once");
        let four = tickets.issue(ME, seven, Way::Text, "a").unwrap();
        assert!(
            !tickets.punch(&four, seven, Way::Screen, "a"),
            "for text only"
        );
    }
}
