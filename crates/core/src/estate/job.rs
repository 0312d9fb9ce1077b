//! Jobs: whose machines are backed up, where to, when, and how many points stay.

use super::{Estate, Machine, Series, StoredPoint};
use crate::{
    expression::Expression,
    ids::{JobId, StoreId},
    moment::{Moment, Span},
    recurrence::Recurrence,
    retention::Keeps,
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Job {
    pub id: JobId,
    pub name: String,
    /// Whoever has these labels when it is due.
    pub who: Expression,
    pub store: StoreId,
    pub when: Recurrence,
    pub keeps: Keeps,
    /// File systems stand still for the mark where guests can do that.
    pub quiet: bool,
    /// So often the newest point of each machine is proven by itself; none: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proves: Option<Span>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub paused: bool,
    /// When it is due next; none: never again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<Moment>,
    /// When it was last begun.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<Moment>,
}

impl Job {
    pub fn is_due(&self, now: Moment) -> bool {
        !self.paused && self.next.is_some_and(|next| next <= now)
    }
    /// Whether it is about this machine now.
    pub fn covers(&self, machine: &Machine) -> bool {
        machine.deleted.is_none() && machine.proves.is_none() && self.who.fits(&machine.labels)
    }
}

impl Estate {
    /// The machines that a job is about now, by number.
    pub fn in_job(&self, job: &Job) -> Vec<&Arc<Machine>> {
        self.machines.values().filter(|m| job.covers(m)).collect()
    }
    /// Jobs that copy into a store.
    pub fn jobs_into(&self, store: StoreId) -> impl Iterator<Item = &Arc<Job>> {
        self.jobs.values().filter(move |j| j.store == store)
    }
    /// Points that a job made and does not keep; the newest of each machine is never one, nor the newest that is proven.
    pub fn expired(&self, job: &Job) -> Vec<(&Arc<Series>, &StoredPoint)> {
        let mut gone = Vec::new();
        for series in self.series_in(job.store) {
            let own = series.points.iter().filter(|p| p.job == Some(job.id));
            let own: Vec<&StoredPoint> = own.collect();
            let times: Vec<Moment> = own.iter().map(|p| p.taken).collect();
            let stay = job.keeps.stay(&times, &job.when.zone);
            let proven = series.proven().map(|p| p.session);
            let out = own
                .into_iter()
                .enumerate()
                .filter(|(n, p)| !stay.contains(n) && proven != Some(p.session));
            gone.extend(out.map(|(_, p)| (series, p)));
        }
        gone
    }
}
