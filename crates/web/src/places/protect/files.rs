//! Files out of a recovery point: what lies on its disks, looked at and read out.

use super::{point::asked, series::path};
use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Window, media::Pipe, page as whole, part, time,
    viewer::MayMachines,
};
use askama::Template;
use rocket::{
    Request, Response, get,
    http::{ContentType, Header, Status},
    post,
    response::Responder,
    tokio::{self, io::AsyncWriteExt},
};
use zastrugi_core::estate::{Inside, Item, ItemKind, Partition, PointAt, Within};
use zastrugi_engine::{InsideError, Taken};

/// What waits for whoever takes a file.
const WAITS: usize = 256 << 10;

#[derive(Template)]
#[template(path = "places/protect/files.html", blocks = ["body"])]
struct FilesPage {
    point: String,
    name: String,
    taken: String,
    store: String,
    query: String,
}

struct Row {
    name: String,
    kind: &'static str,
    /// Where its folder is listed; or, of a file, its place.
    to: Option<String>,
    place: Option<String>,
    leads: String,
    size: String,
    changed: String,
}

#[derive(Template)]
#[template(path = "places/protect/files_list.html")]
struct List {
    point: String,
    csrf: String,
    wrong: String,
    /// Number, size, whether it is the one that is shown, and where it is shown.
    disks: Vec<(usize, String, bool, String)>,
    partitions: Vec<(u32, String, &'static str, String, Option<String>)>,
    /// Folders on the way, with where each is listed.
    way: Vec<(String, String)>,
    rows: Option<Vec<Row>>,
    window: Option<Window>,
    left_out: usize,
}

fn listed(at: &Inside) -> String {
    let query = Fields::default().with("inside", &at.place());
    format!("{}/files?{query}", path(at.point))
}

/// Where somebody looks: of a disk alone, its partitions.
fn wanted(point: PointAt, query: &Query) -> (usize, Option<Inside>) {
    let text = query.0.secret("inside");
    match Inside::read(point, text) {
        Some(at) => (at.disk, Some(at)),
        None => (text.parse().unwrap_or(1), None),
    }
}

#[get("/protect/stores/<id>/<machine>/<session>/files")]
pub(crate) fn show(
    may: MayMachines,
    desk: &AtDesk,
    id: u64,
    machine: &str,
    session: &str,
    query: Query,
) -> Page {
    let at = asked(id, machine, session)?;
    let view = desk.look();
    let found = at.found(&view.estate);
    let (store, point) = found.map_err(|_| Problem::not_found("This recovery point"))?;
    let series = view.estate.backups_with(at.machine);
    let name = series.into_iter().find(|s| s.store == at.store);
    let name = name.map_or_else(String::new, |s| s.name.clone());
    let body = FilesPage {
        point: path(at),
        taken: time(point.taken),
        store: store.name.clone(),
        query: query.0.with("", ""),
        name,
    };
    let title = format!("Files of {}", body.name);
    whole(&may.0, desk, "protect", &title, &body)
}

fn row(at: &Inside, item: &Item) -> Row {
    let under = item.name.as_deref().map(|name| at.under(name));
    Row {
        name: item.shown.clone(),
        kind: match item.kind {
            ItemKind::Folder => "folder",
            ItemKind::File => "file",
            ItemKind::Link(_) => "link",
            ItemKind::Other => "device",
        },
        to: under
            .as_ref()
            .filter(|_| item.kind == ItemKind::Folder)
            .map(listed),
        place: under
            .filter(|_| item.kind == ItemKind::File)
            .map(|u| u.place()),
        leads: match &item.kind {
            ItemKind::Link(to) => to.clone(),
            ItemKind::Folder | ItemKind::File | ItemKind::Other => String::new(),
        },
        size: match item.kind {
            ItemKind::File => item.size.to_string(),
            ItemKind::Folder | ItemKind::Link(_) | ItemKind::Other => String::new(),
        },
        changed: item.changed.map_or_else(String::new, time),
    }
}

/// The way to a folder: the partitions of its disk, the partition, and the folders.
fn way(at: &Inside) -> Vec<(String, String)> {
    let partition = match at.partition {
        0 => "the whole disk".to_owned(),
        n => format!("partition {n}"),
    };
    let disk = (
        format!("Disk {}", at.disk),
        format!("{}/files?inside={}", path(at.point), at.disk),
    );
    let named = |(name, at): (String, Inside)| match name.is_empty() {
        true => (partition.clone(), listed(&at)),
        false => (name, listed(&at)),
    };
    std::iter::once(disk)
        .chain(at.way().into_iter().map(named))
        .collect()
}

impl List {
    fn fill(
        &mut self,
        (point, disk): (PointAt, usize),
        at: Option<&Inside>,
        query: &Query,
        within: Within,
    ) {
        let to = |n: usize| format!("{}/files?inside={n}", path(point));
        let disks = (1..).zip(within.disks);
        self.disks = disks
            .map(|(n, size)| (n, size.to_string(), n == disk, to(n)))
            .collect();
        let (Some(at), Some(folder)) = (at, within.folder) else {
            let one = |p: Partition| {
                let at = Inside {
                    point,
                    disk,
                    partition: p.number,
                    path: String::new(),
                };
                let to = p.system.is_read().then(|| listed(&at));
                (p.number, p.label, p.system.word(), p.size.to_string(), to)
            };
            self.partitions = within.partitions.into_iter().map(one).collect();
            return;
        };
        let base = format!("{}/files", path(at.point));
        let (window, range) = Window::of(&base, query, folder.items.len());
        self.rows = Some(folder.items[range].iter().map(|i| row(at, i)).collect());
        self.window = Some(window);
        self.left_out = folder.left_out;
    }
}

/// Read from the store while the page is shown already.
#[get("/protect/stores/<id>/<machine>/<session>/files/list")]
pub(crate) async fn list(
    may: MayMachines,
    desk: &AtDesk,
    id: u64,
    machine: &str,
    session: &str,
    query: Query,
) -> Page {
    let point = asked(id, machine, session)?;
    let viewer = &may.0.viewer;
    let (disk, at) = wanted(point, &query);
    let mut list = List {
        point: path(point),
        csrf: may.0.csrf.clone(),
        wrong: String::new(),
        disks: vec![],
        partitions: vec![],
        way: at.as_ref().map(way).unwrap_or_default(),
        rows: None,
        window: None,
        left_out: 0,
    };
    match desk.look_in(viewer, (point, disk), at.as_ref()).await {
        Ok(within) => list.fill((point, disk), at.as_ref(), &query, within),
        Err(why) => list.wrong = sentence(&why),
    }
    part(&list)
}

fn sentence(why: &InsideError) -> String {
    if let InsideError::Device(fault) = why {
        return fault.said.clone();
    }
    let text = why.to_string();
    let mut letters = text.chars();
    let first = letters.next().map(|c| c.to_uppercase().to_string());
    let text = format!("{}{}", first.unwrap_or_default(), letters.as_str());
    format!("{}.", text.trim_end_matches('.'))
}

/// A file on its way to whoever asked for it.
pub(crate) struct Handed {
    pipe: Pipe,
    length: usize,
    name: String,
}

impl<'r> Responder<'r, 'static> for Handed {
    fn respond_to(self, _: &'r Request<'_>) -> rocket::response::Result<'static> {
        // RFC 6266 and RFC 8187: once plainly, once as it is.
        let plain = |c: char| match c {
            c if c.is_ascii_alphanumeric() || "-_. ".contains(c) => c,
            _ => '-',
        };
        let simple: String = self.name.chars().map(plain).collect();
        let full =
            percent_encoding::utf8_percent_encode(&self.name, percent_encoding::NON_ALPHANUMERIC);
        let said = format!("attachment; filename=\"{simple}\"; filename*=UTF-8''{full}");
        Response::build()
            .header(ContentType::Binary)
            .header(Header::new("Content-Disposition", said))
            .header(Header::new("Cache-Control", "no-store"))
            .sized_body(self.length, self.pipe)
            .ok()
    }
}

impl From<InsideError> for Problem {
    fn from(why: InsideError) -> Problem {
        let hint = match &why {
            InsideError::NotAllowed => return Problem::not_allowed(),
            InsideError::Device(fault) => fault.remedy.clone(),
            InsideError::Busy | InsideError::Unsaid(_) => "Nothing was read; try it again.".into(),
        };
        Problem {
            status: match why {
                InsideError::Busy => Status::ServiceUnavailable,
                InsideError::NotAllowed | InsideError::Device(_) | InsideError::Unsaid(_) => {
                    Status::UnprocessableEntity
                }
            },
            text: sentence(&why),
            hint,
        }
    }
}

#[post("/protect/stores/<id>/<machine>/<session>/file", data = "<fields>")]
pub(crate) async fn take(
    may: MayMachines,
    desk: &AtDesk,
    id: u64,
    machine: &str,
    session: &str,
    fields: Fields,
) -> Result<Handed, Problem> {
    let point = asked(id, machine, session)?;
    let at = Inside::read(point, fields.secret("inside"));
    let at = at.ok_or_else(|| Problem::not_found("This file"))?;
    let taken = desk.file_in(&may.0.viewer, &at).await?;
    let length = usize::try_from(taken.stream.length);
    let length = length.map_err(|_| Problem::not_found("A file of this length"))?;
    let (into, out) = tokio::io::duplex(WAITS);
    tokio::spawn(hand_on(taken, into));
    Ok(Handed {
        pipe: Pipe(out),
        length,
        name: at.path.rsplit('/').next().unwrap_or_default().to_owned(),
    })
}

/// Where the store falls silent it ends early; its length was said, so whoever takes it sees that.
async fn hand_on(mut taken: Taken, mut into: tokio::io::DuplexStream) {
    while let Some(piece) = taken.stream.pieces.recv().await {
        match piece {
            Ok(piece) => {
                if into.write_all(&piece).await.is_err() {
                    return;
                }
            }
            Err(why) => {
                tracing::warn!(%why, "a file of a recovery point ends early");
                return;
            }
        }
    }
}
