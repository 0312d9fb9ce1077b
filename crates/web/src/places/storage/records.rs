//! Records on a volume that are no machine's: the list on its page, and the sheets that settle them.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
    time,
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Stray, Volume, Why},
    ids::VolumeId,
    rooms::{
        Proposal,
        records::{Ask, Differs, Records},
    },
    view::View,
};

/// One of them.
pub(super) struct Row {
    pub(super) uuid: Uuid,
    /// Enough of it to tell two apart.
    pub(super) short: String,
    pub(super) name: String,
    pub(super) what: String,
    /// The machine that it is a second record of, and the volume of its own.
    pub(super) machine: Option<(u64, String, u64, String)>,
    pub(super) made: String,
    pub(super) disks: String,
    pub(super) since: String,
}

fn row(view: &View, uuid: Uuid, stray: &Stray, why: &Why) -> Row {
    let what = match (why, &stray.runs_on) {
        (_, Some(host)) => format!("runs at {host}"),
        (Why::Unknown, None) if stray.deleted => "unknown, marked as deleted".into(),
        (Why::Unknown, None) => "unknown".into(),
        (Why::Twice(_), None) => "a second record of".into(),
    };
    let machine = match why {
        Why::Unknown => None,
        Why::Twice(m) => {
            let home = m.volumes().into_iter().next().unwrap_or(VolumeId(0));
            let volume = view.estate.volumes.get(&home);
            let name = volume.map_or_else(|| "another volume".into(), |v| v.name.clone());
            Some((m.id.0, m.name.clone(), home.0, name))
        }
    };
    Row {
        uuid,
        short: uuid.to_string().chars().take(8).collect(),
        name: stray.name.clone(),
        what,
        machine,
        made: time(stray.created),
        disks: stray.size().to_string(),
        since: time(stray.since),
    }
}

/// By name.
pub(super) fn rows(view: &View, volume: &Volume) -> Vec<Row> {
    let all = volume.strays(&view.estate);
    let mut all: Vec<Row> = all.map(|(uuid, s, why)| row(view, uuid, s, &why)).collect();
    all.sort_by(|a, b| (&a.name, a.uuid).cmp(&(&b.name, b.uuid)));
    all
}

/// Two records of one machine, side by side.
struct Compared {
    /// The volumes that they lie on.
    held: String,
    other: String,
    rows: Vec<(Differs, bool)>,
}

#[derive(Template)]
#[template(path = "places/storage/records_fields.html")]
struct RecordsFields {
    volume: u64,
    records: Vec<(Uuid, String)>,
    compared: Option<Compared>,
}

/// What a sheet is about, and its fields.
struct About {
    ask: Records,
    /// Of one that is held already, with its disks elsewhere.
    twice: Option<(String, String)>,
    fields: String,
}

fn about(view: &View, fields: &Fields) -> About {
    let id = VolumeId(fields.get("volume").parse().unwrap_or(0));
    let records: Vec<Uuid> = fields.ids("records");
    let volume = view.estate.volumes.get(&id);
    let found = |uuid: &Uuid| volume.and_then(|v| v.stray(&view.estate, *uuid));
    let named = |uuid: &Uuid| {
        let words = found(uuid).map_or_else(
            || "a record that is settled".to_owned(),
            |(s, _)| format!("{}, {} of disks", s.name, s.size()),
        );
        (*uuid, words)
    };
    let one = match records.as_slice() {
        [one] => found(one),
        _ => None,
    };
    let other = volume.map_or_else(String::new, |v| v.name.clone());
    let compared = one.and_then(|(stray, why)| match why {
        Why::Unknown => None,
        Why::Twice(m) => {
            let home = m
                .volumes()
                .into_iter()
                .find_map(|v| view.estate.volumes.get(&v));
            let held = home.map_or_else(|| "another volume".into(), |v| v.name.clone());
            let rows = Differs::between(&m, stray);
            Some((
                m.name.clone(),
                Compared {
                    held,
                    other: other.clone(),
                    rows,
                },
            ))
        }
    });
    let twice = compared.as_ref().map(|(name, _)| (name.clone(), other));
    About {
        fields: render(&RecordsFields {
            volume: id.0,
            records: records.iter().map(named).collect(),
            compared: compared.map(|(_, c)| c),
        }),
        ask: Records {
            volume: id,
            records,
        },
        twice,
    }
}

pub(crate) fn register(view: &View, fields: &Fields) -> Filled {
    let about = about(view, fields);
    let (title, lead, run) = match &about.twice {
        Some((name, volume)) => (
            format!("Which record is {name}?"),
            format!(
                "It has its disks on {volume} from then on; the other record stays where it is."
            ),
            format!("Run: take the one on {volume}"),
        ),
        None => (
            "Register records".into(),
            "A machine is held for each of them from then on, off and as its record says.".into(),
            "Run: register".into(),
        ),
    };
    Filled {
        title,
        lead,
        run,
        danger: false,
        back: format!("/storage/volumes/{}", about.ask.volume.0),
        fields: about.fields,
        ask: Proposal::Records(Ask::Register(about.ask)),
        wrong: vec![],
    }
}

pub(crate) fn forget(view: &View, fields: &Fields) -> Filled {
    let about = about(view, fields);
    Filled {
        title: "Forget records".into(),
        lead: "They are taken from the volume. Their disks stay, unattached, as they are now."
            .into(),
        run: "Run: forget".into(),
        danger: true,
        back: format!("/storage/volumes/{}", about.ask.volume.0),
        fields: about.fields,
        ask: Proposal::Records(Ask::Forget(about.ask)),
        wrong: vec![],
    }
}
