//! Sheets: the fields at the left, the consequences at the right, one button row. One pair of routes for all kinds; each
//! place fills in its own.

use super::{
    AtDesk, Fields, Page, Problem, Query, Signed,
    consequences::{Consequences, Wrong, who_stops},
    headers::Htmx,
    merge::{Merged, merge},
    page, part,
};
use crate::places;
use askama::Template;
use futures::future::BoxFuture;
use rocket::{
    Responder, get,
    http::Status,
    post,
    request::FromParam,
    response::{Redirect, content::RawHtml},
};
use uuid::Uuid;
use zastrugi_core::{
    endpoint::Password,
    ids::{HostId, MachineId, RunId, SecretRef},
    permits::Act,
    rooms::{Assessment, Plan, Proposal},
    view::View,
};
use zastrugi_engine::StartError;

/// Something that a page offers to change: a row in the list of its place. What a kind of sheet does differently is a
/// function of that row, never an arm here.
pub(crate) struct Sheet {
    /// Its place in the address: `/sheet/<word>`.
    pub(crate) word: &'static str,
    /// What somebody must be allowed to do to open it. What it proposes is asked for again, target by target.
    pub(crate) act: Act,
    place: &'static str,
    fill: fn(&View, &Fields) -> Filled,
    prepare: Option<Prepare>,
    check: Option<Check>,
    after: Option<After>,
    looks: Option<Looks>,
    /// It changes what is there: several may be at it.
    merges: bool,
    /// Of the password that is typed only a hash is kept.
    hashes: bool,
}

/// What must be known before the sheet can say something is asked first: limited, timed out, kept.
type Prepare = for<'a> fn(&'a AtDesk, &'a Fields) -> BoxFuture<'a, ()>;
/// What is tried at devices before anything is kept; answers the field and the words for it.
type Check = for<'a> fn(&'a AtDesk, &'a Proposal, &'a Fields) -> BoxFuture<'a, Result<(), Wrong>>;
/// What a person asks for before they run anything: it asks devices, and answers the fields with what it found and what was wrong.
type Looks = for<'a> fn(&'a AtDesk, &'a Signed, Fields) -> BoxFuture<'a, (Fields, Vec<Wrong>)>;
/// Where a person goes when the run has begun, if not to the run.
type After = fn(&Plan) -> Option<String>;

impl Sheet {
    pub(crate) const fn new(
        word: &'static str,
        act: Act,
        place: &'static str,
        fill: fn(&View, &Fields) -> Filled,
    ) -> Self {
        Sheet {
            word,
            act,
            place,
            fill,
            prepare: None,
            check: None,
            after: None,
            looks: None,
            merges: false,
            hashes: false,
        }
    }
    /// A sheet whose password is one of guests: nobody needs to know it again.
    pub(crate) const fn hashing(mut self) -> Self {
        self.hashes = true;
        self
    }
    /// A sheet that shows what there is and lets it be changed.
    pub(crate) const fn merging(mut self) -> Self {
        self.merges = true;
        self
    }
    pub(crate) const fn prepared(mut self, prepare: Prepare) -> Self {
        self.prepare = Some(prepare);
        self
    }
    pub(crate) const fn checked(mut self, check: Check) -> Self {
        self.check = Some(check);
        self
    }
    pub(crate) const fn leading(mut self, after: After) -> Self {
        self.after = Some(after);
        self
    }
    /// A sheet with a button of its own: see [`Looks`].
    pub(crate) const fn looking(mut self, looks: Looks) -> Self {
        self.looks = Some(looks);
        self
    }
    async fn prepare(&self, desk: &AtDesk, fields: &Fields) {
        if let Some(prepare) = self.prepare {
            prepare(desk, fields).await;
        }
    }
}

/// A sheet as it was filled in, once what others did meanwhile is in it.
struct Read {
    filled: Filled,
    /// What it shows, for telling what is changed: as it was when the person looked, and as it is now.
    shown: String,
    now: String,
    clashes: Vec<Wrong>,
}

impl Sheet {
    fn read(&self, view: &View, fields: &Fields) -> Read {
        if !self.merges {
            return Read {
                filled: (self.fill)(view, fields),
                shown: String::new(),
                now: String::new(),
                clashes: vec![],
            };
        }
        let untouched = fields.untouched();
        drop((self.fill)(view, &untouched));
        let known = untouched.filled_with();
        let mut out = form_urlencoded::Serializer::new(String::new());
        out.extend_pairs(&known);
        let now = out.finish();
        if !fields.has("sent") || !fields.has("shown") {
            return Read {
                filled: (self.fill)(view, fields),
                shown: now.clone(),
                now,
                clashes: vec![],
            };
        }
        let base = Fields::parse(fields.get("shown"));
        let Merged {
            fields: merged,
            clashes,
        } = merge(&base, fields, &known);
        Read {
            filled: (self.fill)(view, &merged),
            shown: fields.get("shown").to_owned(),
            now,
            clashes,
        }
    }
}

impl Sheet {
    /// A selection of which some stop it: whoever is ready can go without them.
    fn without(
        &self,
        view: &View,
        fields: &Fields,
        assessment: &Assessment,
    ) -> Option<(String, String)> {
        let ids: Vec<u64> = fields.ids("ids");
        let name = |id: u64| match self.place {
            "machines" => view
                .estate
                .machines
                .get(&MachineId(id))
                .map(|m| m.name.clone()),
            "hosts" => view.estate.hosts.get(&HostId(id)).map(|h| h.name.clone()),
            _ => None,
        };
        let selected: Vec<(u64, String)> = ids
            .iter()
            .filter_map(|id| Some((*id, name(*id)?)))
            .collect();
        let (out, ready) = who_stops(assessment, &selected);
        if out.is_empty() || ready.is_empty() {
            return None;
        }
        let who = match out.as_slice() {
            [one] => one.clone(),
            many => many.len().to_string(),
        };
        let words = match ready.len() {
            1 => format!("Take {who} out; one is ready"),
            n => format!("Take {who} out; {n} are ready"),
        };
        let ids = super::fields::joined(ready);
        Some((
            words,
            format!("/sheet/{}?{}", self.word, fields.typed().with("ids", &ids)),
        ))
    }
}

/// A sheet as it is named in an address.
#[derive(Clone, Copy)]
pub(crate) struct Kind(&'static Sheet);

impl<'a> FromParam<'a> for Kind {
    type Error = &'a str;
    fn from_param(param: &'a str) -> Result<Self, &'a str> {
        let found = places::sheets().find(|s| s.word == param);
        found.map(Kind).ok_or(param)
    }
}

/// A sheet with what was typed, and the proposal that it means.
pub(crate) struct Filled {
    pub(crate) title: String,
    pub(crate) lead: String,
    pub(crate) run: String,
    pub(crate) danger: bool,
    pub(crate) back: String,
    /// The fields, rendered.
    pub(crate) fields: String,
    pub(crate) ask: Proposal,
    /// What can't be read, by field.
    pub(crate) wrong: Vec<Wrong>,
}

/// Renders the fields of a sheet.
pub(crate) fn render(template: &impl Template) -> String {
    template.render().unwrap_or_else(|error| {
        tracing::error!(%error, "a sheet's fields failed");
        String::new()
    })
}

#[derive(Template)]
#[template(path = "frame/sheet.html")]
struct SheetPage {
    kind: &'static str,
    title: String,
    lead: String,
    run: String,
    danger: bool,
    back: String,
    fields: String,
    consequences: String,
    csrf: String,
    request: String,
    notice: String,
    /// Nobody has typed anything yet: nothing is marked as wrong.
    fresh: bool,
    /// What the fields were filled with when the person looked; empty where that doesn't matter.
    shown: String,
}

fn show(
    signed: &Signed,
    desk: &AtDesk,
    kind: &Sheet,
    fields: &Fields,
    (filled, shown): (Filled, String),
    said: Said,
) -> Page {
    let assessment = said
        .assessment
        .unwrap_or_else(|| desk.assess(&signed.viewer, &filled.ask));
    let mut wrong = filled.wrong;
    wrong.extend(said.wrong);
    let request = match fields.get("request") {
        "" => Uuid::new_v4().to_string(),
        given => given.to_owned(),
    };
    let sheet = SheetPage {
        kind: kind.word,
        lead: filled.lead,
        run: filled.run.clone(),
        danger: filled.danger,
        back: filled.back,
        fields: filled.fields,
        fresh: !fields.has("sent"),
        consequences: render(
            &Consequences::new(&assessment, &wrong, &filled.run).without(kind.without(
                &desk.look(),
                fields,
                &assessment,
            )),
        ),
        csrf: signed.csrf.clone(),
        request,
        notice: said.notice,
        shown,
        title: filled.title.clone(),
    };
    page(signed, desk, kind.place, &filled.title, &sheet)
}

/// What there is to say besides the assessment.
#[derive(Default)]
struct Said {
    notice: String,
    wrong: Vec<Wrong>,
    assessment: Option<Assessment>,
}

impl Said {
    fn wrong(field: &str, words: String) -> Said {
        Said {
            wrong: vec![(field.to_owned(), words)],
            ..Said::default()
        }
    }
    fn notice(notice: impl Into<String>) -> Said {
        Said {
            notice: notice.into(),
            ..Said::default()
        }
    }
}

fn allowed(signed: &Signed, sheet: &Sheet) -> Result<(), Problem> {
    if signed.may(sheet.act) {
        Ok(())
    } else {
        Err(Problem::not_allowed())
    }
}

#[get("/sheet/<kind>")]
pub(crate) async fn open(signed: Signed, desk: &AtDesk, kind: Kind, query: Query) -> Page {
    let sheet = kind.0;
    allowed(&signed, sheet)?;
    sheet.prepare(desk, &query.0).await;
    let read = sheet.read(&desk.look(), &query.0);
    let said = Said {
        wrong: read.clashes,
        ..Said::default()
    };
    show(
        &signed,
        desk,
        sheet,
        &query.0,
        (read.filled, read.shown),
        said,
    )
}

#[derive(Responder)]
pub(crate) enum Sent {
    Part(RawHtml<String>),
    Again((Status, RawHtml<String>)),
    Started(Box<Redirect>),
}

#[post("/sheet/<kind>", data = "<fields>")]
pub(crate) async fn send(
    signed: Signed,
    desk: &AtDesk,
    kind: Kind,
    htmx: Htmx,
    fields: Fields,
) -> Result<Sent, Problem> {
    let sheet = kind.0;
    allowed(&signed, sheet)?;
    let fields = lent_only(desk, &signed, fields);
    if let Some(looks) = sheet.looks.filter(|_| fields.has("look") && !htmx.0) {
        return looked(&signed, desk, sheet, looks, fields).await;
    }
    sheet.prepare(desk, &fields).await;
    let read = sheet.read(&desk.look(), &fields);
    let mut filled = read.filled;
    filled.wrong.extend(fields.flaws());
    filled
        .wrong
        .extend(fields.unfit_password().filter(|_| sheet.hashes));
    if htmx.0 {
        filled.wrong.extend(read.clashes);
        let assessment = desk.assess(&signed.viewer, &filled.ask);
        let out = sheet.without(&desk.look(), &fields, &assessment);
        let said = Consequences::new(&assessment, &filled.wrong, &filled.run).without(out);
        return part(&said).map(Sent::Part);
    }
    let started = match read.clashes.as_slice() {
        [] => start(&signed, desk, sheet, &fields, &filled).await,
        clashes => Err(Said {
            notice: "Nothing was started: somebody changed the same meanwhile. What you typed is kept; run again to put it in place of theirs.".into(),
            wrong: clashes.to_vec(),
            assessment: None,
        }),
    };
    match started {
        Ok(run) => {
            let to = after(sheet, desk, run).await;
            Ok(Sent::Started(Box::new(Redirect::to(to))))
        }
        Err(said) => {
            // Whoever has seen what others did meanwhile confirms by running it again.
            let again = show(&signed, desk, sheet, &fields, (filled, read.now), said)?;
            Ok(Sent::Again((Status::UnprocessableEntity, again)))
        }
    }
}

/// A secret that a form names is one that was lent to whoever sends it; any other is nobody's.
fn lent_only(desk: &AtDesk, signed: &Signed, mut fields: Fields) -> Fields {
    if let Ok(kept) = fields.get("kept").parse().map(SecretRef)
        && !desk.is_lent(&signed.viewer, kept)
    {
        fields.set("kept", None);
    }
    fields
}

/// The sheet again, with what devices said.
async fn looked(
    signed: &Signed,
    desk: &AtDesk,
    sheet: &Sheet,
    looks: Looks,
    fields: Fields,
) -> Result<Sent, Problem> {
    let (fields, wrong) = looks(desk, signed, fields).await;
    sheet.prepare(desk, &fields).await;
    let read = sheet.read(&desk.look(), &fields);
    let said = Said {
        wrong,
        ..Said::default()
    };
    let page = show(
        signed,
        desk,
        sheet,
        &fields,
        (read.filled, read.shown),
        said,
    )?;
    Ok(Sent::Again((Status::Ok, page)))
}

/// Where a person goes when a run has begun: to the run, or where it needs them.
async fn after(sheet: &Sheet, desk: &AtDesk, run: RunId) -> String {
    let elsewhere = match sheet.after {
        // One without steps is over by now; its plan is kept.
        Some(after) => desk
            .run(run)
            .await
            .ok()
            .flatten()
            .and_then(|(_, plan)| after(&plan)),
        None => None,
    };
    elsewhere.unwrap_or_else(|| format!("/logbook/runs/{}", run.0))
}

/// Starts the run; or says why not, with everything that was typed kept.
async fn start(
    signed: &Signed,
    desk: &AtDesk,
    sheet: &Sheet,
    fields: &Fields,
    filled: &Filled,
) -> Result<RunId, Said> {
    if !filled.wrong.is_empty() {
        return Err(Said::notice(
            "Nothing was started: look at the fields that are marked.",
        ));
    }
    let request = fields
        .get("request")
        .parse()
        .unwrap_or_else(|_| Uuid::new_v4());
    let seen = serde_json::from_str(fields.get("seen")).ok();
    let mut ask = filled.ask.clone();
    let typed = ask.password().is_some_and(|p| *p == Password::Typed);
    if typed && !desk.assess(&signed.viewer, &filled.ask).blocked() {
        if let Some(check) = sheet.check {
            let checked = check(desk, &ask, fields).await;
            checked.map_err(|(field, words)| Said::wrong(&field, words))?;
        }
        let typed = fields.secret("password");
        let kept = match sheet.hashes {
            true => desk.keep_hash(typed).await,
            false => desk.keep_secret(typed).await,
        };
        let kept = Password::Kept(kept.map_err(Said::notice)?);
        if let Some(password) = ask.password() {
            *password = kept;
        }
    }
    let typed = ask.key().is_some_and(|k| *k == Password::Typed);
    if typed && !desk.assess(&signed.viewer, &filled.ask).blocked() {
        let kept = desk.keep_secret(fields.secret("store_key").trim()).await;
        let kept = Password::Kept(kept.map_err(Said::notice)?);
        if let Some(key) = ask.key() {
            *key = kept;
        }
    }
    desk.start(&signed.viewer, ask, seen, request).await.map_err(|error| match error {
        StartError::Blocked(assessment, _) => Said {
            notice: "Nothing was started: a check stops it.".into(),
            assessment: Some(*assessment),
            wrong: vec![],
        },
        StartError::Stale(assessment) => Said {
            notice: "Nothing was started: things changed since you looked. These are the consequences now.".into(),
            assessment: Some(*assessment),
            wrong: vec![],
        },
        other => {
            let why = other.to_string();
            Said::notice(format!("Nothing was started: {}.", why.trim_end_matches('.')))
        }
    })
}
