//! People, their passwords, and where calls may go: kept as belongings, told in the Logbook.

use super::{Asking, Desk, SignInError, Viewer};
use crate::{
    passwords::hash,
    scribe::{Decision, Guard, Refusal},
    settings::{MACS, NETWORKS},
};
use std::sync::Arc;
use zastrugi_core::{
    ids::PersonId,
    limits,
    macs::MacRange,
    permits::{Role, Who},
    rooms::people::Event,
    text,
};
use zastrugi_drivers::Networks;
use zastrugi_store::{Person, StoreError};

#[derive(Debug, thiserror::Error)]
pub enum PasswordProblem {
    #[error("A password has at least 10 characters.")]
    Short,
    #[error("A password has at most {} characters.", limits::PASSWORD.most)]
    Long,
    #[error("This password is guessed soon. {0}")]
    Weak(String),
    #[error("{0}")]
    Name(String),
    #[error("The current password is wrong.")]
    Current,
    #[error("{0}")]
    Later(String),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("The password can't be hashed now; try again.")]
    Busy,
}

/// Hours for which a password that was drawn for somebody is good.
pub(super) const ONE_TIME: i32 = 24;

/// Sixteen characters that nobody mistakes for others when they are read out: 78 bits.
fn draw() -> String {
    const SIGNS: &[u8] = b"abcdefghjkmnpqrstuvwxyz23456789";
    let sign = || SIGNS.get(rand::random_range(0..SIGNS.len())).copied();
    let group = || {
        let signs = std::iter::repeat_with(sign).take(4).flatten();
        signs.map(char::from).collect::<String>()
    };
    let groups: Vec<String> = std::iter::repeat_with(group).take(4).collect();
    groups.join("-")
}

/// Why a password is guessed soon; none where it isn't.
fn weak(password: &str, name: &str) -> Option<String> {
    let parts = name.split(['.', '-', '_', '@']).chain([name, "zastrugi"]);
    let own: Vec<&str> = parts.filter(|p| p.len() > 2).collect();
    // Judged by its beginning: what comes behind a hundred characters makes it no weaker.
    let head: String = password.chars().take(100).collect();
    let found = zxcvbn::zxcvbn(&head, &own);
    if u8::from(found.score()) >= 2 {
        return None;
    }
    let words = found
        .feedback()
        .and_then(|f| f.warning())
        .map(|w| w.to_string());
    Some(words.unwrap_or_else(|| "It is among the first that anybody would try.".into()))
}

impl Desk {
    /// Records what happened to people.
    ///
    /// # Errors
    /// [`StoreError`] when it could not be recorded.
    pub(crate) async fn tell(&self, who: Who, event: Event) -> Result<(), StoreError> {
        let decide = move |_: crate::scribe::Sight<'_>| {
            Ok(Decision {
                events: vec![event.clone().into()],
                ..Decision::nothing(who.clone())
            })
        };
        match self.scribe.append(Guard::None, decide).await {
            Ok(_) => Ok(()),
            Err(Refusal::Unavailable(why)) => Err(StoreError::NotWritten(why)),
            Err(_) => Err(StoreError::Replaced),
        }
    }

    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn people(&self) -> Result<Vec<Person>, StoreError> {
        self.people.all().await
    }

    /// Adds somebody who may sign in, for whoever sets the place up.
    ///
    /// # Errors
    /// [`PasswordProblem`] with words for the field.
    pub async fn add_person(
        &self,
        name: &str,
        role: Role,
        password: &str,
    ) -> Result<PersonId, PasswordProblem> {
        self.add_person_by(Who::itself(), name, role, password)
            .await
    }

    /// Adds somebody who may sign in.
    ///
    /// # Errors
    /// [`PasswordProblem`] with words for the field.
    pub async fn add_person_by(
        &self,
        by: Who,
        name: &str,
        role: Role,
        password: &str,
    ) -> Result<PersonId, PasswordProblem> {
        let name = name.trim();
        self.check_name(name).await?;
        let hashed = self.checked_hash(password, name).await?;
        let taken = |error| match error {
            StoreError::Taken(_) => {
                PasswordProblem::Name(format!("There is a person {name} already."))
            }
            other => other.into(),
        };
        let person = self.people.add(name, role, &hashed).await.map_err(taken)?;
        let name = name.to_owned();
        self.tell(by, Event::Added { person, name, role }).await?;
        Ok(person)
    }

    /// A name that can be read, and that nobody takes for another's.
    async fn check_name(&self, name: &str) -> Result<(), PasswordProblem> {
        let fine = |c: char| c.is_alphanumeric() || ".-_@".contains(c);
        let long = limits::PERSON.check(name.chars().count()).is_err();
        if name.is_empty() || long || !name.chars().all(fine) {
            let most = limits::PERSON.most;
            return Err(PasswordProblem::Name(format!(
                "A name has 1 to {most} letters, digits, dots or hyphens."
            )));
        }
        if text::looks_like(name, &Who::itself().name) {
            let words = "This name is taken for Zastrugi itself in the Logbook; choose another.";
            return Err(PasswordProblem::Name(words.into()));
        }
        let all = self.people.all().await?;
        if let Some(other) = all.iter().find(|p| text::looks_like(&p.name, name)) {
            let other = &other.name;
            let words = if other.eq_ignore_ascii_case(name) {
                format!("There is a person {other} already.")
            } else {
                format!("This name is taken for that of {other}; choose another.")
            };
            return Err(PasswordProblem::Name(words));
        }
        Ok(())
    }

    async fn checked_hash(&self, password: &str, name: &str) -> Result<String, PasswordProblem> {
        let length = password.chars().count();
        if length < 10 {
            return Err(PasswordProblem::Short);
        }
        if limits::PASSWORD.check(length).is_err() {
            return Err(PasswordProblem::Long);
        }
        if let Some(why) = weak(password, name) {
            return Err(PasswordProblem::Weak(why));
        }
        hash(password.to_owned()).await.ok_or(PasswordProblem::Busy)
    }

    /// Changes role and standing; their sessions end.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when no admin would be left.
    pub async fn change_person(
        &self,
        by: &Viewer,
        person: PersonId,
        role: Role,
        active: bool,
    ) -> Result<(), StoreError> {
        self.people.change(person, role, active).await?;
        let name = self.name_of(person).await?;
        let changed = Event::Changed {
            person,
            name,
            role,
            active,
        };
        self.tell(by.who(), changed).await
    }

    async fn name_of(&self, person: PersonId) -> Result<String, StoreError> {
        let all = self.people.all().await?;
        let found = all.into_iter().find(|p| p.id == person);
        Ok(found.map_or_else(|| person.to_string(), |p| p.name))
    }

    /// Changes one's own password; all one's sessions end.
    ///
    /// # Errors
    /// [`PasswordProblem`] with words for the field.
    pub async fn change_password(
        &self,
        viewer: &Viewer,
        current: &str,
        fresh: &str,
        source: &str,
    ) -> Result<(), PasswordProblem> {
        if self.stands_by() {
            let words = "This manager stands by: passwords are changed at the manager.";
            return Err(PasswordProblem::Later(words.into()));
        }
        let asking = Asking {
            name: &viewer.name,
            password: current,
            source,
            browser: "",
            fresh: "",
        };
        self.prove(asking).await.map_err(|error| match error {
            SignInError::Wrong => PasswordProblem::Current,
            SignInError::Store(error) => error.into(),
            SignInError::Wait(_)
            | SignInError::Busy
            | SignInError::ChooseOwn(_)
            | SignInError::StandsBy
            | SignInError::Lapsed => {
                PasswordProblem::Later(format!("Nothing was changed: {error}."))
            }
        })?;
        self.set_own(viewer.who(), viewer.id, fresh).await
    }

    /// A password of their own for somebody who has shown who they are.
    pub(crate) async fn set_own(
        &self,
        who: Who,
        person: PersonId,
        fresh: &str,
    ) -> Result<(), PasswordProblem> {
        let name = who.name.clone();
        let hashed = self.checked_hash(fresh, &name).await?;
        self.people.set_password(person, &hashed, None).await?;
        Ok(self.tell(who, Event::PasswordSet { person, name }).await?)
    }

    /// Draws a password for somebody who has lost theirs: good for [`ONE_TIME`] hours, to choose their own by. Their sessions
    /// end. It is answered once and kept nowhere.
    ///
    /// # Errors
    /// [`PasswordProblem`] with words.
    pub async fn reset_password(
        &self,
        by: &Viewer,
        person: PersonId,
    ) -> Result<(String, String), PasswordProblem> {
        if by.id == person {
            let words = "Change your own under Settings, by the one that you have.";
            return Err(PasswordProblem::Name(words.into()));
        }
        let all = self.people.all().await?;
        let Some(name) = all.into_iter().find(|p| p.id == person).map(|p| p.name) else {
            return Err(PasswordProblem::Name("There is no such person.".into()));
        };
        let drawn = draw();
        let hashed = hash(drawn.clone()).await.ok_or(PasswordProblem::Busy)?;
        let set = self.people.set_password(person, &hashed, Some(ONE_TIME));
        set.await?;
        let told = Event::PasswordDrawn {
            person,
            name: name.clone(),
        };
        self.tell(by.who(), told).await?;
        Ok((name, drawn))
    }

    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn set_theme(&self, viewer: &Viewer, theme: &str) -> Result<(), StoreError> {
        if self.stands_by() {
            // The browser remembers it.
            return Ok(());
        }
        let theme = match theme {
            "night" | "day" => theme,
            _ => "system",
        };
        self.people.set_theme(viewer.id, theme).await
    }

    pub fn networks(&self) -> Networks {
        self.shared.drivers.networks()
    }

    /// Where addresses of new cards come from.
    pub fn macs(&self) -> MacRange {
        self.look().macs
    }

    /// New machines get their MAC addresses from it, in every process; those that are there keep theirs.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn set_macs(&self, by: &Viewer, range: MacRange) -> Result<(), StoreError> {
        if range == self.macs() {
            return Ok(());
        }
        self.settings.set(MACS, &range.to_string()).await?;
        self.shared.macs.store(Arc::new(range));
        let range = range.to_string();
        self.tell(by.who(), Event::Macs { range }).await
    }

    /// Calls go there and nowhere else, from every process.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn set_networks(&self, by: &Viewer, networks: Networks) -> Result<(), StoreError> {
        let words = |n: &Networks| n.0.iter().map(ToString::to_string).collect::<Vec<_>>();
        let (was, is) = (words(&self.networks()), words(&networks));
        self.settings.set(NETWORKS, &is.join(", ")).await?;
        self.shared.drivers.allow(networks);
        let without = |all: &[String], of: &[String]| {
            let rest = all.iter().filter(|n| !of.contains(n));
            rest.cloned().collect::<Vec<_>>()
        };
        let (added, removed) = (without(&is, &was), without(&was, &is));
        if added.is_empty() && removed.is_empty() {
            return Ok(());
        }
        self.tell(by.who(), Event::Networks { added, removed })
            .await
    }
}

#[cfg(test)]
mod tests {
    use super::weak;

    #[test]
    fn what_everybody_tries_first_and_ones_own_name_are_no_passwords() {
        for bad in [
            "password12",
            "1234567890",
            "qwertyuiop",
            "duty.admin.",
            "dutyadmin1",
            "zastrugi!!",
            "aaaaaaaaaaaa",
        ] {
            assert!(weak(bad, "duty.admin").is_some(), "{bad}");
        }
        for good in [
            "harbour-lights",
            "mooring-lines",
            "spyglass-only",
            "tide and time",
            "correct horse battery",
        ] {
            assert_eq!(weak(good, "duty.admin"), None, "{good}");
        }
    }
}
