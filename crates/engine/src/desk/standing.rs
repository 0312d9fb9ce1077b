//! Standing by, taking over, and letting go afterwards what is begun by itself.

use super::{Desk, Viewer};
use crate::{
    scribe::history::{self, How},
    standing::Standing,
};
use std::{sync::Arc, time::Duration};
use zastrugi_core::{
    epoch::Epoch,
    ids::Revision,
    permits::{Act, Permits},
};
use zastrugi_store::{Head, StoreError, promote};

/// Why this manager did not take over.
#[derive(Debug, thiserror::Error)]
pub enum TakeOverError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error("this manager does not stand by")]
    Leads,
    #[error("type the name of the installation, {0}, as it stands there")]
    Typed(String),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Where the history came from in which orders are given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Begun {
    pub epoch: Epoch,
    /// The revision that its past had reached here; 0 where it is the first.
    pub at: Revision,
}

impl Desk {
    /// Whether this process stands by: it shows what it has received, and gives no orders.
    pub fn stands_by(&self) -> bool {
        self.shared.stands_by
    }
    /// Comes back when this process stood by and the database leads now: the process is to begin anew, as a manager.
    pub async fn turned(&self) {
        let mut turned = self.shared.turned.subscribe();
        // The other end is this process's own.
        drop(turned.wait_for(|t| *t).await);
    }
    /// What is known of managers that stand by; no query.
    pub fn standing(&self) -> Arc<Standing> {
        self.shared.standing.load_full()
    }
    pub fn installation(&self) -> String {
        self.shared.drivers.installation().name.clone()
    }
    /// Why nothing is begun by itself, if nothing is.
    pub fn automation_held(&self) -> Option<String> {
        self.shared.snapshot().head.automation.clone()
    }
    pub fn begun(&self) -> Begun {
        let now = self.shared.snapshot();
        let Head { epoch, began, .. } = now.head;
        Begun { epoch, at: began }
    }

    /// Whether somebody who looks at a stand-by may make it take over: there, everybody else only looks.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn may_take_over(&self, viewer: &Viewer) -> Result<bool, StoreError> {
        let person = self.people.active(viewer.id).await?;
        Ok(person.is_some_and(|p| Permits::of(p.role).allow(Act::Settings)))
    }

    /// Makes the database here lead, and begins a new history in it: devices that meet it refuse the manager that was before.
    /// What was under way waits for a person, no host counts as heard, and nothing is begun by itself until it is let go. The
    /// process is then to begin anew.
    ///
    /// # Errors
    /// [`TakeOverError`]. Where the database was promoted and the history not begun, orders are held at the next start.
    pub async fn take_over(&self, viewer: &Viewer, typed: &str) -> Result<(), TakeOverError> {
        if !self.stands_by() {
            return Err(TakeOverError::Leads);
        }
        if !self.may_take_over(viewer).await? {
            return Err(TakeOverError::NotAllowed);
        }
        let name = self.installation();
        if typed.trim() != name {
            return Err(TakeOverError::Typed(name));
        }
        // It is carried through, also where whoever asked goes away in the middle.
        let (desk, viewer) = (self.clone(), viewer.clone());
        match tokio::spawn(async move { desk.leads_from_now_on(&viewer).await }).await {
            Ok(done) => Ok(done?),
            Err(error) => {
                Err(StoreError::NotWritten(format!("it failed in itself: {error}")).into())
            }
        }
    }

    async fn leads_from_now_on(&self, viewer: &Viewer) -> Result<(), StoreError> {
        // Whoever presses twice finds that it is done.
        let mut taken = self.shared.taking_over.lock().await;
        if *taken {
            return Ok(());
        }
        tracing::warn!(by = %viewer.name, "this manager takes over");
        promote(&self.shared.pool).await?;
        let (epoch, _) = history::begin(&self.shared, viewer.who(), How::TakenOver).await?;
        *taken = true;
        tracing::warn!(%epoch, "this manager has taken over");
        for (token, person, csrf) in self.seats.all() {
            if let Err(error) = self.people.open_session(&token, person, &csrf).await {
                tracing::warn!(%error, "somebody has to sign in again");
            }
        }
        self.shared.turned.send_replace(true);
        Ok(())
    }

    /// What is begun by itself is begun again.
    ///
    /// # Errors
    /// [`super::HistoryError`] when the viewer may not, or the database does not answer.
    pub async fn let_go(&self, viewer: &Viewer) -> Result<(), super::HistoryError> {
        if !viewer.permits().allow(Act::Settings) {
            return Err(super::HistoryError::NotAllowed);
        }
        let revision = history::let_go(&self.shared, viewer.who()).await?;
        let mut revisions = self.revisions();
        let there = revisions.wait_for(|r| *r >= revision);
        drop(tokio::time::timeout(Duration::from_secs(5), there).await);
        Ok(())
    }
}
