//! What happens to load balancers and fronts.

use crate::{
    estate::{Balancer, Estate, Front, MemberState, Pen, Seen},
    ids::{BalancerId, FrontId},
    road::{Entry, Tale},
    runs::Object,
};
use std::collections::BTreeMap;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name is held; the first reading runs.
    Connecting(Box<Balancer>),
    BalancerSeen {
        balancer: Box<Balancer>,
        turn: Option<Turn>,
    },
    Dropped {
        balancer: BalancerId,
    },
    Planned(Box<Front>),
    /// From now on it shall be so.
    Changed(Box<Front>),
    Ready {
        front: FrontId,
    },
    Gone {
        front: FrontId,
        removed: bool,
    },
    /// What its balancer says of it; none: it has no such front.
    Seen {
        front: FrontId,
        members: Option<BTreeMap<String, Seen>>,
        /// Members that began or ceased to serve, in words.
        news: Vec<String>,
    },
}

/// A turn in whether a balancer can be reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Turn {
    Connected,
    Silent,
    Answers,
}

impl Turn {
    pub fn between(before: &Balancer, now: &Balancer) -> Option<Self> {
        match (before.known, before.answers(), now.answers()) {
            (false, _, true) => Some(Turn::Connected),
            (true, true, false) => Some(Turn::Silent),
            (true, false, true) => Some(Turn::Answers),
            (false, _, false) | (true, true, true) | (true, false, false) => None,
        }
    }
}

impl Event {
    /// What a balancer says of a front now, with what is new of its members.
    pub fn seen(front: &Front, members: Option<BTreeMap<String, Seen>>, name: impl Fn(&str) -> String) -> Self {
        let before = front.seen.clone().unwrap_or_default();
        let serves = |s: Option<&Seen>| s.is_some_and(|s| s.state == MemberState::Serves);
        let news = members.iter().flatten().filter_map(|(at, seen)| {
            let was = before.get(at)?;
            match (serves(Some(was)), &seen.state) {
                (true, MemberState::Fails(why)) => Some(format!("{} does not serve {}: {why}", name(at), front.name)),
                (false, MemberState::Serves) => Some(format!("{} serves {}", name(at), front.name)),
                (_, MemberState::Serves | MemberState::Fails(_) | MemberState::Drains | MemberState::Out) => None,
            }
        });
        Event::Seen {
            front: front.id,
            news: news.collect(),
            members,
        }
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Connecting(balancer) => pen.add_balancer(balancer),
            Event::BalancerSeen { balancer, .. } => pen.balancer(balancer.id, |b| b.clone_from(balancer)),
            Event::Dropped { balancer } => pen.drop_balancer(*balancer),
            Event::Planned(front) => pen.add_front(front),
            Event::Changed(front) => pen.front(front.id, |f| {
                let seen = f.seen.take();
                f.clone_from(front);
                f.seen = seen;
            }),
            Event::Ready { front } => pen.front(*front, |f| f.ready = true),
            Event::Gone { front, .. } => pen.drop_front(*front),
            Event::Seen { front, members, .. } => pen.front(*front, |f| f.seen.clone_from(members)),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let line = |id: String, text: String| Some(Entry::new("network", text, vec![id]));
        let name = |id: &FrontId| Object::Front(*id).name(estate);
        match self {
            Event::BalancerSeen { balancer, turn } => {
                let words = match turn.as_ref()? {
                    Turn::Connected => "was connected".to_owned(),
                    Turn::Answers => "answers again".into(),
                    Turn::Silent => format!("does not answer: {}", balancer.access.silent.clone().unwrap_or_default()),
                };
                line(balancer.id.to_string(), format!("{} {words}", balancer.name))
            }
            Event::Dropped { balancer } => line(balancer.to_string(), format!("{} is known here no more", Object::Balancer(*balancer).name(estate))),
            Event::Planned(f) => line(f.id.to_string(), format!("Front {} at {} is being made", f.name, std::net::SocketAddr::new(f.address, f.port))),
            Event::Changed(f) => line(f.id.to_string(), format!("{} shall be otherwise: {}", f.name, f.manner.sentence())),
            Event::Ready { front } => line(front.to_string(), format!("{} is ready", name(front))),
            Event::Gone { front, removed } => {
                let what = if *removed { "was removed" } else { "was not made" };
                line(front.to_string(), format!("{} {what}", name(front)))
            }
            Event::Seen { front, news, .. } => (!news.is_empty()).then(|| Entry::new("network", news.join("; "), vec![front.to_string()])),
            Event::Connecting(_) => None,
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
