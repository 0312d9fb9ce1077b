//! A replica as the machine that it is: what it holds, and the three ways to go on from it.

use super::{
    prove::{Proven, proven},
    replica_point,
};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
    time,
};
use askama::Template;
use zastrugi_core::{
    estate::{Estate, Machine},
    ids::MachineId,
    rooms::{
        Proposal, replicas,
        replicating::{self, Force},
    },
    runs::Object,
    view::View,
};

/// A point of it.
pub(crate) struct PointOf {
    pub(crate) at: String,
    /// Where it can be looked at.
    pub(crate) to: String,
    pub(crate) proven: Proven,
    pub(crate) how: &'static str,
    pub(crate) read: String,
    pub(crate) line: String,
    pub(crate) took: String,
    /// Where a machine is made of it.
    pub(crate) copy: String,
    /// Where it is let go.
    pub(crate) gone: String,
}

/// What its page says of a replica.
#[derive(Template)]
#[template(path = "places/protect/replica.html")]
pub(crate) struct ReplicaOf {
    id: u64,
    /// Its number, where it is still there.
    original: Option<u64>,
    of: String,
    pair: (u64, String),
    /// It stands on its newest point.
    follows: bool,
    /// It was superseded, and is kept aside.
    astray: bool,
    /// How the newest is unlike those before it.
    unusual: String,
    points: Vec<PointOf>,
    more: usize,
    may: bool,
}

/// More of them are counted.
const SHOWN: usize = 24;

impl ReplicaOf {
    /// None: it is none.
    pub(crate) fn of(estate: &Estate, m: &Machine, may: bool) -> Option<ReplicaOf> {
        let replica = m.replica.as_ref()?;
        let points = m.replicated().rev().take(SHOWN).map(|p| PointOf {
            at: time(p.taken),
            to: replica_point::path(m.id, p.session),
            proven: proven(p.proof.as_deref()),
            how: p.consistent.word(),
            read: p.read.to_string(),
            line: p.stored.to_string(),
            took: p.took.to_string(),
            copy: format!("/sheet/new-machines?from=machine-{}:{}", m.id.0, p.session),
            gone: format!(
                "/sheet/delete-snapshots?ids={}&snapshots={}",
                m.id.0, p.session
            ),
        });
        Some(ReplicaOf {
            id: m.id.0,
            original: estate.original_of(replica).map(|o| o.id.0),
            of: replica.name.clone(),
            pair: (replica.pair.0, Object::Pair(replica.pair).name(estate)),
            follows: m.follows().is_some(),
            astray: replica.astray,
            unusual: estate
                .unusual_replica(m)
                .map_or_else(String::new, |u| u.words()),
            points: points.collect(),
            more: m.replicated().count().saturating_sub(SHOWN),
            may: may && m.deleted.is_none(),
        })
    }
}

#[derive(Template)]
#[template(path = "places/protect/typed_name.html")]
struct Typed {
    id: u64,
    name: String,
    typed: String,
}

fn chosen(view: &View, fields: &Fields) -> (MachineId, String, String) {
    let id = fields.get("id").parse().map_or(MachineId(0), MachineId);
    let machine = view.estate.machines.get(&id);
    let name = machine.map_or_else(|| "a replica".to_owned(), |m| m.name.clone());
    (id, name, fields.get("typed").to_owned())
}

fn filled(
    (id, name, typed): (MachineId, String, String),
    (title, lead, run): (&str, &str, &str),
    ask: Proposal,
) -> Filled {
    Filled {
        title: title.replace("{}", &name),
        lead: lead.into(),
        run: run.into(),
        danger: true,
        back: format!("/machines/{}", id.0),
        fields: render(&Typed {
            id: id.0,
            name,
            typed,
        }),
        ask,
        wrong: vec![],
    }
}

pub(crate) fn start(view: &View, fields: &Fields) -> Filled {
    let who = chosen(view, fields);
    let words = (
        "Start replica {} by force",
        "It is powered on with what it holds, and follows its original no more.",
        "Run: start it by force",
    );
    let ask = Force {
        machine: who.0,
        host: None,
        typed: who.2.as_str().into(),
    };
    filled(
        who,
        words,
        Proposal::Replicating(replicating::Ask::Start(ask)),
    )
}

pub(crate) fn free(view: &View, fields: &Fields) -> Filled {
    let who = chosen(view, fields);
    let words = (
        "Make {} a machine of its own",
        "It stays off with what it holds, and follows its original no more.",
        "Run: make it so",
    );
    let ask = replicas::Ask::Free {
        machine: who.0,
        typed: who.2.as_str().into(),
    };
    filled(who, words, Proposal::Replicas(ask))
}
