//! What is done at arrays that are connected.

use super::Event;
use crate::{
    estate::{Controller, Estate, Snaps},
    finding::{Finding, Rule},
    ids::{ArrayId, SecretRef, VolumeId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Sign in the new way; only if the same array answers, it is how it is reached from then on.
    Try {
        array: ArrayId,
        controllers: Vec<Controller>,
        user: String,
        key: Option<SecretRef>,
    },
    /// No device: nothing is known of it any more.
    Forget { array: ArrayId },
    Withdraw {
        array: ArrayId,
        lun: String,
        initiator: String,
    },
    /// Looks afterwards whether it does.
    SetBack {
        array: ArrayId,
        volume: VolumeId,
        snaps: Snaps,
    },
    /// Looks first: the same LUN, reached by nobody.
    Delete {
        array: ArrayId,
        lun: String,
        uid: String,
    },
}

impl Step {
    pub fn array(&self) -> ArrayId {
        match self {
            Step::Try { array, .. }
            | Step::Forget { array }
            | Step::Withdraw { array, .. }
            | Step::SetBack { array, .. }
            | Step::Delete { array, .. } => *array,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Try { .. } => "sign in the new way",
            Step::Forget { .. } => "forget the array",
            Step::Withdraw { .. } => "take reach away",
            Step::SetBack { .. } => "set snapshots back",
            Step::Delete { .. } => "delete the LUN",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Forget { .. } => Length::Computed(Span(0)),
            Step::Try { .. } | Step::Withdraw { .. } | Step::SetBack { .. } | Step::Delete { .. } => Length::Call(Span::secs(1)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    /// A new way is tried although the old one is silent: that is what it is for.
    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::Try { .. } | Step::Forget { .. } => None,
            Step::Withdraw { array, .. } | Step::SetBack { array, .. } | Step::Delete { array, .. } => Some(Object::Array(*array)),
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        vec![Object::Array(self.array())]
    }

    fn locks(&self) -> Vec<Lock> {
        let array = Object::Array(self.array());
        match self {
            Step::Try { .. } | Step::Forget { .. } => vec![Lock::exclusive(array)],
            Step::Withdraw { .. } | Step::SetBack { .. } | Step::Delete { .. } => vec![Lock::shared(array)],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        let there = Premise::exist(view, &self.about());
        let on_it = |lun: Option<&String>| {
            let mut all = view.estate.volumes_on(self.array());
            all.find(|(_, b)| lun.is_none_or(|lun| b.lun == *lun))
                .map(|(v, _)| v)
        };
        let used = match self {
            Step::Try { .. } | Step::SetBack { .. } => None,
            Step::Forget { .. } => on_it(None),
            Step::Withdraw { lun, .. } | Step::Delete { lun, .. } => on_it(Some(lun)),
        };
        match used {
            Some(volume) => {
                let text = format!("{} lies on it now.", volume.name);
                there.and(|| Finding::stop(Rule::State, &volume.name, text).into())
            }
            None => there,
        }
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Forget { array } => Some(Event::Removed { array: *array }),
            Step::Try { .. } | Step::Withdraw { .. } | Step::SetBack { .. } | Step::Delete { .. } => None,
        }
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}
