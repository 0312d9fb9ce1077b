//! What happens to jobs.

use crate::{
    estate::{Estate, Job, Pen},
    ids::JobId,
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Kept(Box<Job>),
    Paused {
        job: JobId,
        paused: bool,
        next: Option<Moment>,
    },
    /// A run of it was begun.
    Begun {
        job: JobId,
        at: Moment,
        next: Option<Moment>,
    },
    /// It was due while a run of it still went on.
    Skipped {
        job: JobId,
        due: Moment,
        next: Option<Moment>,
    },
    Removed {
        job: JobId,
        name: String,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Kept(job) => match pen.estate().jobs.contains_key(&job.id) {
                true => pen.job(job.id, |j| j.clone_from(job)),
                false => pen.add_job(job),
            },
            Event::Paused { job, paused, next } => pen.job(*job, |j| {
                j.paused = *paused;
                j.next = *next;
            }),
            Event::Begun { job, at, next } => pen.job(*job, |j| {
                j.last = Some(*at);
                j.next = *next;
            }),
            Event::Skipped { job, next, .. } => pen.job(*job, |j| j.next = *next),
            Event::Removed { job, .. } => pen.drop_job(*job),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let name = |id: &JobId| Object::Job(*id).name(estate);
        let (id, text) = match self {
            Event::Kept(j) => {
                let (to, who) = (j.to.name(estate), String::from(j.who.clone()));
                let verb = if j.to.store().is_some() { "backs up" } else { "replicates" };
                (j.id, format!("Job {} {verb} machines with {who} to {to}", j.name))
            }
            Event::Paused { job, paused: true, .. } => (*job, format!("Job {} is paused", name(job))),
            Event::Paused { job, paused: false, .. } => (*job, format!("Job {} goes on", name(job))),
            Event::Begun { .. } => return None,
            Event::Skipped { job, due, .. } => {
                let text = format!("Job {} was skipped at {} UTC: the run before still goes on", name(job), due.stamp());
                (*job, text)
            }
            Event::Removed { job, name } => (*job, format!("Job {name} was removed; its points stay")),
        };
        Some(Entry::new("machine", text, vec![id.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
