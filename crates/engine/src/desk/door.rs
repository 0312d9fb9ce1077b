//! Signing in and out, and sessions.

use super::{Desk, PasswordProblem, Viewer, people::ONE_TIME};
use crate::{guard::Try, passwords::verify, shared::now};
use base64::{Engine, prelude::BASE64_URL_SAFE_NO_PAD};
use sha2::{Digest, Sha256};
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
    time::Duration,
};
use tokio::time::{Instant, sleep, timeout_at};
use zastrugi_core::{
    limits,
    moment::{Moment, Span},
    permits::Who,
    rooms::people::Event,
    text,
};
use zastrugi_store::{Person, StoreError};

/// A session just opened: the cookies' values are shown once and never kept.
#[derive(Debug, Clone)]
pub struct SignIn {
    pub cookie: String,
    /// By which this browser is known the next time.
    pub browser: String,
    pub person: Person,
}

/// Who asks to be let in.
#[derive(Clone, Copy)]
pub struct Asking<'a> {
    pub name: &'a str,
    pub password: &'a str,
    /// The address.
    pub source: &'a str,
    /// What the browser kept of having signed in before; empty for nothing.
    pub browser: &'a str,
    /// The password of their own that they choose in place of one that was drawn for them; empty for none.
    pub fresh: &'a str,
}

#[derive(Debug, thiserror::Error)]
pub enum SignInError {
    #[error("name or password is wrong")]
    Wrong,
    #[error("too many wrong attempts; wait {0}")]
    Wait(Span),
    #[error("too many people sign in just now; try again in a moment")]
    Busy,
    /// Their password was drawn for them; with what is wrong with the one that they chose, if they did.
    #[error("an admin gave you this password for once: choose your own")]
    ChooseOwn(Option<String>),
    #[error(
        "this password was given to you for {ONE_TIME} hours, which are over; ask an admin for another"
    )]
    Lapsed,
    #[error(
        "this manager stands by and changes nothing: choose a password of your own at the manager"
    )]
    StandsBy,
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// How long a try is kept waiting before it is told to come again.
const PATIENCE: Duration = Duration::from_secs(20);

fn draw() -> String {
    BASE64_URL_SAFE_NO_PAD.encode(rand::random::<[u8; 32]>())
}
fn token(cookie: &str) -> Vec<u8> {
    Sha256::digest(cookie.as_bytes()).to_vec()
}

impl Desk {
    /// Lets somebody in. Tries after wrong ones are kept waiting, also the right one, for up to 20 s.
    ///
    /// # Errors
    /// [`SignInError`]; wrong names take as long as wrong passwords.
    pub async fn sign_in(&self, asking: Asking<'_>) -> Result<SignIn, SignInError> {
        let mut person = self.prove(asking).await?;
        if self.stands_by() {
            return self.sit_down(person, asking);
        }
        if let Some(until) = person.one_time_until {
            person = self.with_own(person, until, asking).await?;
        }
        let from = asking.source.to_owned();
        let who = Who {
            person: Some(person.id),
            name: person.name.clone(),
        };
        let signed = Event::SignedIn {
            person: person.id,
            from,
        };
        self.tell(who, signed).await?;
        let cookie = draw();
        self.people
            .open_session(&token(&cookie), person.id, &draw())
            .await?;
        let browser = self.browsers.word(person.id, &person.password);
        Ok(SignIn {
            cookie,
            browser,
            person,
        })
    }

    /// Lets somebody in where nothing can be written.
    fn sit_down(&self, person: Person, asking: Asking<'_>) -> Result<SignIn, SignInError> {
        if person.one_time_until.is_some() {
            return Err(SignInError::StandsBy);
        }
        tracing::info!(who = %person.name, from = %asking.source, "signed in at this stand-by");
        let cookie = draw();
        self.seats.open(token(&cookie), person.id, draw());
        Ok(SignIn {
            cookie,
            browser: self.browsers.word(person.id, &person.password),
            person,
        })
    }

    /// Whoever came in by a password that was drawn for them goes on with their own.
    async fn with_own(
        &self,
        person: Person,
        until: Moment,
        asking: Asking<'_>,
    ) -> Result<Person, SignInError> {
        if now() > until {
            return Err(SignInError::Lapsed);
        }
        if asking.fresh.is_empty() {
            return Err(SignInError::ChooseOwn(None));
        }
        if asking.fresh == asking.password {
            let words = "Choose another than the one that was given to you.";
            return Err(SignInError::ChooseOwn(Some(words.into())));
        }
        let who = Who {
            person: Some(person.id),
            name: person.name.clone(),
        };
        match self.set_own(who, person.id, asking.fresh).await {
            Ok(()) => {}
            Err(PasswordProblem::Store(error)) => return Err(error.into()),
            Err(other) => return Err(SignInError::ChooseOwn(Some(other.to_string()))),
        }
        let named = self.people.named(&person.name).await?;
        named.ok_or(SignInError::Wrong)
    }

    /// Whether somebody is who they say.
    ///
    /// # Errors
    /// [`SignInError`], as at the door.
    pub(crate) async fn prove(&self, asking: Asking<'_>) -> Result<Person, SignInError> {
        // What nobody can have as a name is not looked for, and nothing is kept of it; it takes as long.
        let possible = text::check(asking.name, &limits::PERSON, false).is_ok();
        let name = if possible { asking.name } else { "" };
        let person = match name {
            "" => None,
            name => self.people.named(name).await?.filter(|p| p.active),
        };
        let known = person
            .as_ref()
            .and_then(|p| self.browsers.known(asking.browser, p.id, &p.password));
        let tried = self.turn(name, asking.source, known).await?;
        let kept = person.as_ref().map(|p| p.password.clone());
        let too_long = limits::PASSWORD
            .check(asking.password.chars().count())
            .is_err();
        let password = if too_long { "" } else { asking.password };
        let right = verify(password.to_owned(), kept, known.is_some()).await;
        match (right, person) {
            (Some(true), Some(person)) => {
                self.guard.right(&tried);
                Ok(person)
            }
            (None, _) => Err(SignInError::Busy),
            (_, person) => {
                self.tell_refused(person, asking.source, tried.times).await;
                Err(SignInError::Wrong)
            }
        }
    }

    /// Waits until a try may begin.
    async fn turn(
        &self,
        name: &str,
        source: &str,
        browser: Option<[u8; 16]>,
    ) -> Result<Try, SignInError> {
        let until = Instant::now() + PATIENCE;
        loop {
            match self.guard.begin(name, source, browser, now()) {
                Ok(tried) => return Ok(tried),
                Err(wait) => {
                    // Whoever waits for the same moment has the same chance.
                    let drawn = rand::random_range(0..200);
                    let slept = sleep(Duration::from_millis(wait.0 + drawn));
                    if timeout_at(until, slept).await.is_err() {
                        return Err(SignInError::Wait(wait));
                    }
                }
            }
        }
    }

    /// The first wrong try is told, then the third, the tenth, the thirtieth …: a Logbook full of guesses tells nothing.
    async fn tell_refused(&self, person: Option<Person>, source: &str, times: u32) {
        if ![1, 3, 10, 30, 100, 300, 1000].contains(&times) && !times.is_multiple_of(3000) {
            return;
        }
        let refused = Event::Refused {
            name: person.map(|p| p.name),
            from: source.to_owned(),
            times,
        };
        if let Err(error) = self.tell(Who::itself(), refused).await {
            tracing::warn!(%error, "a refused sign-in was not recorded");
        }
    }

    /// The viewer behind a cookie with the session's CSRF token and theme. `extend` for a request by a person.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn session(
        &self,
        cookie: &str,
        extend: bool,
    ) -> Result<Option<(Viewer, String, String)>, StoreError> {
        let token = token(cookie);
        if self.stands_by() {
            return self.seats.who(&self.people, &token, extend).await;
        }
        let found = match self.people.session(&token, extend).await {
            Ok(found) => found,
            // Nothing can be changed without the database; what was on the screen may still be looked at.
            Err(error) => return self.remembered.lately(&token).map(Some).ok_or(error),
        };
        let found = found.map(|s| {
            let viewer = Viewer {
                id: s.person.id,
                name: s.person.name,
                role: s.person.role,
            };
            (viewer, s.csrf, s.person.theme)
        });
        self.remembered.note(token, found.as_ref());
        Ok(found)
    }
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn sign_out(&self, cookie: &str) -> Result<(), StoreError> {
        let token = token(cookie);
        self.remembered.note(token.clone(), None);
        if self.stands_by() {
            self.seats.close(&token);
            return Ok(());
        }
        self.people.close_session(&token).await
    }
}

type Session = (Viewer, String, String);

/// Sessions that the database confirmed a moment ago: they outlast its absence for so long, and no longer.
#[derive(Default)]
pub(crate) struct Remembered(Mutex<HashMap<Vec<u8>, (Session, Instant)>>);

impl Remembered {
    const LONGEST: Duration = Duration::from_mins(2);
    const MOST: usize = 4096;

    fn note(&self, token: Vec<u8>, session: Option<&Session>) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(session) = session else {
            all.remove(&token);
            return;
        };
        if all.len() >= Self::MOST {
            all.retain(|_, (_, at)| at.elapsed() < Self::LONGEST);
        }
        if all.len() < Self::MOST {
            all.insert(token, (session.clone(), Instant::now()));
        }
    }

    fn lately(&self, token: &[u8]) -> Option<Session> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let (session, at) = all.get(token)?;
        (at.elapsed() < Self::LONGEST).then(|| session.clone())
    }
}
