//! Signing in, sessions, people and settings.

use super::{Desk, Viewer};
use crate::{
    passwords::{hash, verify},
    settings::NETWORKS,
    shared::now,
};
use base64::{Engine, prelude::BASE64_URL_SAFE_NO_PAD};
use sha2::{Digest, Sha256};
use zastrugi_core::{ids::PersonId, moment::Span, permits::Role};
use zastrugi_drivers::Networks;
use zastrugi_store::{Person, StoreError};

/// A session just opened: the cookie's value is shown once and never kept.
#[derive(Debug, Clone)]
pub struct SignIn {
    pub cookie: String,
    pub person: Person,
}

#[derive(Debug, thiserror::Error)]
pub enum SignInError {
    #[error("name or password is wrong")]
    Wrong,
    #[error("too many wrong attempts; wait {0}")]
    Wait(Span),
    #[error(transparent)]
    Store(#[from] StoreError),
}

#[derive(Debug, thiserror::Error)]
pub enum PasswordProblem {
    #[error("A password has at least 10 characters.")]
    Short,
    #[error("A password has at most 200 characters.")]
    Long,
    #[error("{0}")]
    Name(String),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("The password can't be hashed now; try again.")]
    Busy,
}

fn draw() -> String {
    BASE64_URL_SAFE_NO_PAD.encode(rand::random::<[u8; 32]>())
}
fn token(cookie: &str) -> Vec<u8> {
    Sha256::digest(cookie.as_bytes()).to_vec()
}

impl Desk {
    /// # Errors
    /// [`SignInError`]; wrong names take as long as wrong passwords.
    pub async fn sign_in(
        &self,
        name: &str,
        password: &str,
        source: &str,
    ) -> Result<SignIn, SignInError> {
        if let Some(wait) = self.softlock.wait(name, source, now()) {
            return Err(SignInError::Wait(wait));
        }
        let person = self.people.named(name).await?.filter(|p| p.active);
        let right = verify(
            password.to_owned(),
            person.as_ref().map(|p| p.password.clone()),
        )
        .await;
        self.softlock.note(name, source, right, now());
        let person = person.filter(|_| right).ok_or(SignInError::Wrong)?;
        let cookie = draw();
        self.people
            .open_session(&token(&cookie), person.id, &draw())
            .await?;
        Ok(SignIn { cookie, person })
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
        let found = self.people.session(&token(cookie), extend).await?;
        Ok(found.map(|s| {
            let viewer = Viewer {
                id: s.person.id,
                name: s.person.name,
                role: s.person.role,
            };
            (viewer, s.csrf, s.person.theme)
        }))
    }
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn sign_out(&self, cookie: &str) -> Result<(), StoreError> {
        self.people.close_session(&token(cookie)).await
    }

    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn people(&self) -> Result<Vec<Person>, StoreError> {
        self.people.all().await
    }

    /// Adds somebody who may sign in.
    ///
    /// # Errors
    /// [`PasswordProblem`] with words for the field.
    pub async fn add_person(
        &self,
        name: &str,
        role: Role,
        password: &str,
    ) -> Result<PersonId, PasswordProblem> {
        let name = name.trim();
        let fine = |c: char| c.is_alphanumeric() || ".-_@".contains(c);
        if name.is_empty() || name.chars().count() > 60 || !name.chars().all(fine) {
            return Err(PasswordProblem::Name(
                "A name has 1 to 60 letters, digits, dots or hyphens.".into(),
            ));
        }
        let hashed = self.checked_hash(password).await?;
        self.people
            .add(name, role, &hashed)
            .await
            .map_err(|e| match e {
                StoreError::Taken(_) => {
                    PasswordProblem::Name(format!("There is a person {name} already."))
                }
                other => other.into(),
            })
    }

    async fn checked_hash(&self, password: &str) -> Result<String, PasswordProblem> {
        match password.chars().count() {
            0..10 => Err(PasswordProblem::Short),
            201.. => Err(PasswordProblem::Long),
            _ => hash(password.to_owned()).await.ok_or(PasswordProblem::Busy),
        }
    }

    /// Changes role and standing; their sessions end.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when no admin would be left.
    pub async fn change_person(
        &self,
        id: PersonId,
        role: Role,
        active: bool,
    ) -> Result<(), StoreError> {
        self.people.change(id, role, active).await
    }
    /// # Errors
    /// [`PasswordProblem`] with words for the field.
    pub async fn set_password(&self, id: PersonId, password: &str) -> Result<(), PasswordProblem> {
        let hashed = self.checked_hash(password).await?;
        Ok(self.people.set_password(id, &hashed).await?)
    }
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn set_theme(&self, viewer: &Viewer, theme: &str) -> Result<(), StoreError> {
        self.people
            .set_theme(viewer.id, if theme == "night" { "night" } else { "day" })
            .await
    }

    pub fn networks(&self) -> Networks {
        self.shared.drivers.networks()
    }
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn set_networks(&self, networks: Networks) -> Result<(), StoreError> {
        let text = networks
            .0
            .iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join(", ");
        self.settings.set(NETWORKS, &text).await?;
        self.shared.drivers.allow(networks);
        Ok(())
    }
}
