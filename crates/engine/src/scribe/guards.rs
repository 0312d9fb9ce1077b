//! What must still hold, looked up for a whole batch at once where many appends ask the same kind of thing.

use super::{Append, By, Guard, Refusal};
use std::collections::BTreeSet;
use uuid::Uuid;
use zastrugi_core::ids::RunId;
use zastrugi_store::{Batch, Held, StoreError};

/// What the database says of the guards of one batch.
pub(super) struct Guards {
    orders: BTreeSet<Uuid>,
    leaders: Vec<(Held, bool)>,
}

impl Guards {
    /// Looks up, and locks until the end of the batch, the orders that these appends answer, in one statement.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub(super) async fn look(batch: &mut Batch, appends: &[Append]) -> Result<Self, StoreError> {
        let answered = appends.iter().filter_map(|a| match a.guard {
            Guard::Order { run, step, token } => Some((run, step, token)),
            Guard::None | Guard::Leader(_) | Guard::Request { .. } | Guard::Person(..) => None,
        });
        let answered: Vec<_> = answered.collect();
        let orders = if answered.is_empty() {
            BTreeSet::new()
        } else {
            batch.held_of(&answered).await?
        };
        Ok(Guards {
            orders,
            leaders: vec![],
        })
    }

    /// Why the guard forbids it, if it does. `made`: requests for which this batch makes a run.
    pub(super) async fn forbids(
        &mut self,
        batch: &mut Batch,
        guard: Guard,
        made: &[(Uuid, RunId)],
    ) -> Result<Option<Refusal>, StoreError> {
        let ours = match guard {
            Guard::None => true,
            Guard::Order { token, .. } => self.orders.contains(&token),
            Guard::Leader(held) => self.leads(batch, held).await?,
            Guard::Person(person, role) => {
                let now = batch.role_of(person).await?;
                return Ok((now != Some(role)).then_some(Refusal::NotAllowed));
            }
            Guard::Request { id, by } => {
                let earlier = made.iter().find(|(r, _)| *r == id).map(|r| r.1);
                if let Some(run) = earlier.or(batch.run_of(id).await?) {
                    return Ok(Some(Refusal::Known(run)));
                }
                if let Some(why) = &batch.head().held {
                    return Ok(Some(Refusal::Held(why.clone())));
                }
                match by {
                    By::Person(person, role) if batch.role_of(person).await? != Some(role) => {
                        return Ok(Some(Refusal::NotAllowed));
                    }
                    By::Itself if batch.head().automation.is_some() => {
                        let why = batch.head().automation.clone();
                        return Ok(why.map(Refusal::Held));
                    }
                    By::Person(..) | By::Itself | By::Consequence => true,
                }
            }
        };
        Ok((!ours).then_some(Refusal::NotOurs))
    }

    /// Asked once in a batch: within it nobody else can take the lead over unnoticed.
    async fn leads(&mut self, batch: &mut Batch, held: Held) -> Result<bool, StoreError> {
        if let Some((_, leads)) = self.leaders.iter().find(|known| known.0 == held) {
            return Ok(*leads);
        }
        let leads = batch.leads(held.holder, held.term).await?;
        self.leaders.push((held, leads));
        Ok(leads)
    }
}
