//! The sheets that bring a recovery point back to machines that are there.

use super::series;
use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use crate::places::machines;
use askama::Template;
use futures::future::BoxFuture;
use uuid::Uuid;
use zastrugi_core::{
    copying::kept,
    estate::{Machine, PointAt},
    ids::MachineId,
    moment::Moment,
    rooms::{
        Proposal,
        restoring::{Ask, BringDisks, PutBack},
        stores,
    },
    runs::Object,
    view::View,
};

fn point(fields: &Fields) -> Option<PointAt> {
    fields.get("point").parse().ok()
}

/// What the point has is asked before anything is said of it.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        machines::layers(desk, fields).await;
        if let Some(at) = point(fields) {
            desk.ask_for_point(at).await;
        }
    })
}

#[derive(Template)]
#[template(path = "places/protect/put_back.html")]
struct BackFields {
    machines: Vec<(u64, String)>,
    points: Vec<(String, String)>,
    point: String,
    keep: bool,
    typed: String,
}

/// Points of a machine, the newest first; more are in the stores' own lists.
const SHOWN: usize = 100;

fn points(view: &View, machine: &Machine) -> Vec<(String, String)> {
    let estate = &view.estate;
    let all = estate.backups_of(machine);
    let mut all: Vec<_> = all
        .flat_map(|s| s.points.iter().map(|p| (p, s.store)))
        .collect();
    all.sort_by_key(|(p, _)| std::cmp::Reverse(p.taken));
    let one = |(p, store): (&zastrugi_core::estate::StoredPoint, _)| {
        let at = PointAt {
            store,
            machine: machine.uuid,
            session: p.session,
        };
        let of = Object::Store(store).name(estate);
        let words = format!("{} UTC · {} · {of}", p.taken.stamp(), p.consistent.word());
        (at.to_string(), words)
    };
    all.into_iter().take(SHOWN).map(one).collect()
}

pub(crate) fn put_back(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = machines::chosen(view, fields);
    let id = ids.first().copied().unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id);
    let name = machine.map_or_else(|| "a machine".to_owned(), |m| m.name.clone());
    let mut points = machine.map(|m| points(view, m)).unwrap_or_default();
    let newest = points.first().map_or_else(String::new, |p| p.0.clone());
    let chosen = fields.or("point", &newest);
    if let Some(at) = chosen
        .parse::<PointAt>()
        .ok()
        .filter(|_| !points.iter().any(|p| p.0 == chosen))
    {
        points.push((chosen.clone(), at.words(&view.estate)));
    }
    let (keep, typed) = (fields.ticked("keep", true), fields.get("typed").to_owned());
    Filled {
        title: format!("Put {name} back"),
        lead: "Its disks hold again what they held. Bytes come while it goes on; it stands still only while they are put in place.".into(),
        run: format!("Run: put {name} back"),
        danger: true,
        back: machines::back(&named),
        fields: render(&BackFields {
            machines: named,
            points,
            point: chosen.clone(),
            keep,
            typed: typed.clone(),
        }),
        ask: Proposal::Restoring(Ask::Back(PutBack {
            machine: id,
            point: chosen.parse().ok(),
            keep,
            typed: typed.as_str().into(),
        })),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/protect/let_go.html")]
struct GoFields {
    /// Where each can be looked at, with its words.
    rows: Vec<(String, String)>,
    points: String,
    typed: String,
    typed_label: &'static str,
}

pub(crate) fn let_go(view: &View, fields: &Fields) -> Filled {
    let given = fields.get("points");
    let all: Vec<PointAt> = given.split(',').filter_map(|p| p.parse().ok()).collect();
    let typed = fields.get("typed").to_owned();
    let words = |at: &PointAt| (at.words(&view.estate), series::path(*at));
    let title = match all.as_slice() {
        [at] => format!("Let {} go", at.words(&view.estate)),
        many => format!("Let {} recovery points go", many.len()),
    };
    Filled {
        title,
        lead: "They are taken out of their store; what others need too stays there.".into(),
        run: "Run: let go".into(),
        danger: true,
        back: all
            .first()
            .map_or_else(|| "/protect".to_owned(), |at| series::path(*at)),
        fields: render(&GoFields {
            rows: all.iter().map(words).collect(),
            points: given.to_owned(),
            typed: typed.clone(),
            typed_label: match all.len() {
                1 => "Type the machine's name, as there is no way back",
                _ => "Type how many they are, as there is no way back",
            },
        }),
        ask: Proposal::Stores(stores::Ask::LetGo {
            points: all,
            typed: typed.as_str().into(),
        }),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/protect/bring_disks.html")]
struct DiskFields {
    point: String,
    of: String,
    to: String,
    /// Key, words, whether it is chosen.
    disks: Vec<(Uuid, String, bool)>,
    machine: String,
}

pub(crate) fn disks(view: &View, fields: &Fields) -> Filled {
    let at = point(fields);
    let known = at.and_then(|at| kept(view, at, Moment(0)).ok());
    let picked: Vec<Uuid> = fields.all("disks").filter_map(|d| d.parse().ok()).collect();
    let first = !fields.has("sent");
    let disks = known.map(|k| k.disks.as_slice()).unwrap_or_default();
    let disks: Vec<(Uuid, String, bool)> = (1..)
        .zip(disks)
        .map(|(n, d): (usize, _)| {
            let words = format!("Disk {n}: {}, {} hold something", d.size, d.held);
            (d.key, words, first || picked.contains(&d.key))
        })
        .collect();
    let typed = fields.get("machine").trim().to_owned();
    let machine = view.estate.machine_named(&typed).map(|m| m.id);
    let wrong = match machine {
        None if !typed.is_empty() => {
            vec![(
                "machine".to_owned(),
                format!("There is no machine {typed}."),
            )]
        }
        _ => vec![],
    };
    let of = at.map_or_else(
        || "a recovery point".to_owned(),
        |at| at.words(&view.estate),
    );
    Filled {
        title: "Give disks of a recovery point to a machine".into(),
        lead: "The machine gets copies of them beside its own disks. The point stays as it is."
            .into(),
        run: "Run: bring the disks".into(),
        danger: false,
        back: at.map_or_else(|| "/protect".to_owned(), series::path),
        fields: render(&DiskFields {
            point: fields.get("point").to_owned(),
            of,
            to: at.map(series::path).unwrap_or_default(),
            disks: disks.clone(),
            machine: typed,
        }),
        ask: Proposal::Restoring(Ask::Disks(BringDisks {
            machine,
            point: at,
            disks: disks.iter().filter(|d| d.2).map(|d| d.0).collect(),
        })),
        wrong,
    }
}
