//! What is done to make a cluster.

use super::Event;
use crate::{
    estate::Estate,
    finding::{Finding, Rule},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    ids::{ClusterId, HostId},
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Reads clock and management controller; and, where another site has hosts of the same cluster, how far that is.
    Verify {
        host: HostId,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        near: Option<HostId>,
    },
    /// Its clock is right: it was told whom to ask, and was told so.
    Clock { host: HostId },
    Join {
        host: HostId,
        cluster: ClusterId,
        /// A volume to mount on the way.
        volume: Option<String>,
    },
    /// No device: the cluster is complete.
    Ready { cluster: ClusterId },
    /// No device: nobody is in it any more.
    Dissolve { cluster: ClusterId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Verify { .. } => "check clock and controller",
            Step::Clock { .. } => "check that its clock is right",
            Step::Join {
                volume: Some(_), ..
            } => "mount the volume, join",
            Step::Join { volume: None, .. } => "join",
            Step::Ready { .. } => "open the cluster",
            Step::Dissolve { .. } => "dissolve the cluster",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Verify { .. } | Step::Clock { .. } => Length::Call(Span::secs(1)),
            Step::Join { .. } => Length::Call(Span::secs(2)),
            Step::Ready { .. } | Step::Dissolve { .. } => Length::Computed(Span(0)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::Verify { host, .. } | Step::Clock { host } | Step::Join { host, .. } => Some(Object::Host(*host)),
            Step::Ready { .. } | Step::Dissolve { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Verify { host, .. } | Step::Clock { host } => vec![Object::Host(*host)],
            Step::Join { host, cluster, .. } => vec![Object::Host(*host), Object::Cluster(*cluster)],
            Step::Ready { cluster } | Step::Dissolve { cluster } => vec![Object::Cluster(*cluster)],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Verify { host, .. } | Step::Clock { host } => vec![Lock::shared(Object::Host(*host))],
            Step::Join { host, cluster, .. } => vec![
                Lock::exclusive(Object::Host(*host)),
                Lock::shared(Object::Cluster(*cluster)),
            ],
            Step::Ready { cluster } | Step::Dissolve { cluster } => {
                vec![Lock::exclusive(Object::Cluster(*cluster))]
            }
        }
    }

    fn premise(&self, view: &View) -> Premise {
        match self {
            Step::Join { host, cluster, .. } => Premise::exist(view, &self.about()).and(|| like_the_others(view, *host, *cluster)),
            Step::Dissolve { cluster } => Premise::exist(view, &self.about()).and(|| nobody_in(view, *cluster)),
            Step::Verify { .. } | Step::Clock { .. } | Step::Ready { .. } => Premise::exist(view, &self.about()),
        }
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Ready { cluster } => Some(Event::Ready { cluster: *cluster }),
            Step::Dissolve { cluster } => Some(Event::Dissolved { cluster: *cluster }),
            Step::Verify { .. } | Step::Clock { .. } | Step::Join { .. } => None,
        }
    }

    fn undo(&self, estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::Ready { cluster } => Some(match estate.hosts_in(*cluster).next() {
                None => Event::Dropped { cluster: *cluster },
                Some(_) => Event::Ready { cluster: *cluster },
            }),
            Step::Verify { .. } | Step::Clock { .. } | Step::Join { .. } | Step::Dissolve { .. } => None,
        }
    }
}

fn nobody_in(view: &View, cluster: ClusterId) -> Premise {
    let (hosts, machines) = (view.estate.hosts_in(cluster).count(), view.estate.count_in(cluster));
    let Some(found) = view.estate.clusters.get(&cluster).filter(|_| hosts + machines > 0) else {
        return Premise::Holds;
    };
    let text = format!("{} has {hosts} hosts and {machines} machines.", found.name);
    Finding::stop(Rule::State, &found.name, text).into()
}

/// What was foretold of its CPU before anything was installed on it is so.
fn like_the_others(view: &View, host: HostId, cluster: ClusterId) -> Premise {
    let Some((host, cluster)) = view.estate.hosts.get(&host).zip(view.estate.clusters.get(&cluster)) else {
        return Premise::Holds;
    };
    let cpu = &host.hardware.cpu;
    let text = if cpu.level < cluster.cpu_level {
        format!("{} has CPU level {}; {} asks for {}.", host.name, cpu.level, cluster.name, cluster.cpu_level)
    } else if !cluster.cpu_maker.is_empty() && cpu.maker != cluster.cpu_maker {
        format!("The CPU of {} is from {}, those of {} from {}.", host.name, cpu.maker, cluster.name, cluster.cpu_maker)
    } else {
        return Premise::Holds;
    };
    Finding::stop(Rule::CpuLevel, &host.name, text).into()
}
