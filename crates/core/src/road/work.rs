//! What a step must answer. Nothing here has a default but what may be corrected and where bytes are carried: whoever
//! adds a step decides each of these.

use super::{Given, Length, Tale, Typed};
use crate::{
    estate::Estate,
    finding::{Finding, Rule},
    ids::{HostId, MachineId, SiteId},
    moment::{Moment, Span},
    placement::{self, Ledger, obstacles},
    runs::{Lock, Needs, Object},
    view::View,
};
use std::{collections::BTreeSet, fmt::Debug};

/// Whose calls go first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Urgency {
    /// Machines are down until it is done.
    Availability,
    Maintenance,
    Ordinary,
}

/// What a step rests on, looked at again at its turn: things may have changed while it waited.
#[derive(Debug, Clone, PartialEq)]
pub enum Premise {
    Holds,
    /// What it would bring about is so already, in words; no device is told anything.
    Reached(String),
    /// It makes no sense any more; no device is told anything.
    Broken(Box<Finding>),
}

impl From<Finding> for Premise {
    fn from(finding: Finding) -> Self {
        Premise::Broken(Box::new(finding))
    }
}

impl Premise {
    /// Everything that a step names is there.
    pub fn exist(view: &View, objects: &[Object]) -> Premise {
        match objects.iter().find(|o| !o.exists(&view.estate)) {
            Some(gone) => {
                let text = format!("{gone} is gone.");
                Finding::stop(Rule::Exists, gone.to_string(), text).into()
            }
            None => Premise::Holds,
        }
    }
    /// The machine is there, and not deleted.
    pub fn live(view: &View, machine: MachineId) -> Premise {
        match view.estate.machines.get(&machine) {
            Some(m) if m.deleted.is_some() => {
                let text = format!("{} was deleted.", m.name);
                Finding::stop(Rule::Deleted, &m.name, text).into()
            }
            Some(_) => Premise::Holds,
            None => Premise::exist(view, &[Object::Machine(machine)]),
        }
    }
    /// The machine fits on the host: the same *Fit* that chose it.
    pub fn fits(view: &View, machine: MachineId, host: HostId) -> Premise {
        let estate = &view.estate;
        let found = estate.machines.get(&machine).and_then(|machine| {
            let cluster = machine.cluster.and_then(|c| estate.clusters.get(&c))?;
            let own = BTreeSet::from([machine.id]);
            let ledger = Ledger::of(view, estate.hosts.get(&host).cloned(), &own);
            let row = ledger.row(host)?;
            let found = obstacles(placement::Ask {
                machine,
                row,
                cluster: Some(cluster),
                estate,
            });
            let stop = found.iter().find(|o| o.stops())?;
            Some(stop.finding(&machine.name, &row.host.name))
        });
        found.map_or(Premise::Holds, Premise::from)
    }
    /// This, and if it holds, the other.
    pub fn and(self, other: impl FnOnce() -> Premise) -> Premise {
        match self {
            Premise::Holds => other(),
            settled => settled,
        }
    }
}

/// How a step is left that is not done when its run ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Left {
    /// No device did it; with what one said when it refused.
    Undone { said: Option<String> },
    /// Its answer was lost: a device may have done it.
    Open { at: Moment },
}

/// What a device must do.
pub trait Work: Debug + Clone + PartialEq {
    type Event: Tale;

    /// What it does, as a group in the plan's picture.
    fn group(&self) -> &'static str;
    /// How long it takes, for the plan's time line.
    fn length(&self) -> Length;
    /// Whether a person may go on without it: nothing that comes later rests on what it brings about.
    fn may_be_left(&self) -> bool {
        false
    }
    /// How long until what takes longer is looked at again.
    fn pause(&self) -> Span;
    /// Whether the device goes on with it by itself, for as long as it takes: then silence is not its end, and what it
    /// holds stays held until the device has said that it stopped.
    fn goes_on(&self) -> bool;
    /// The sites at which a process of its own may carry it: what it does is moving bytes. Empty: any process does it.
    fn carried_at(&self, estate: &Estate) -> Vec<SiteId> {
        let _ = estate;
        Vec::new()
    }
    /// Which device is spoken to; none for a step without one.
    fn device(&self, estate: &Estate) -> Option<Object>;
    /// Whose calls go first where a device has its hands full.
    fn urgency(&self) -> Urgency;
    /// What it has to do with, whether it takes it or not.
    fn about(&self) -> Vec<Object>;
    /// What it takes for the time it changes something.
    fn locks(&self) -> Vec<Lock>;
    /// What it rests on.
    fn premise(&self, view: &View) -> Premise;
    /// What a step without a device writes down at once.
    fn record(&self) -> Option<Self::Event>;
    /// What was only held for it is given back; what may be there after all is not called gone.
    fn undo(&self, estate: &Estate, left: Left) -> Option<Self::Event>;
    /// What it was given by its sheet and what a person may correct once it has failed. Most were given nothing that is still
    /// open when they are done.
    fn given(&self, _estate: &Estate) -> Vec<Given> {
        Vec::new()
    }
    /// What is so from now on, with what was `typed` in place of what it was given.
    ///
    /// # Errors
    /// What is wrong with it, each with its field.
    fn correct(
        &self,
        _view: &View,
        _now: Moment,
        _typed: &Typed,
    ) -> Result<Self::Event, Vec<Finding>> {
        Err(Vec::new())
    }
    /// Whether it must be done again once `correction` has happened.
    fn rests_on(&self, _correction: &Self::Event) -> bool {
        false
    }

    fn needs(&self) -> Needs {
        let locks = self.locks();
        let mut about = self.about();
        about.retain(|o| !locks.iter().any(|l| l.object == *o));
        Needs {
            locks,
            about,
            followers: Vec::new(),
        }
    }
}
