//! Sheets: the fields at the left, the consequences at the right, one button row. One pair of routes for all kinds; each
//! place fills in its own.

use super::{
    AtDesk, Fields, Page, Problem, Query, Signed,
    consequences::{Consequences, Wrong},
    headers::Htmx,
    page, part,
};
use crate::places;
use askama::Template;
use rocket::{
    Responder, get,
    http::Status,
    post,
    request::FromParam,
    response::{Redirect, content::RawHtml},
};
use uuid::Uuid;
use zastrugi_core::{
    assess::Assessment,
    ids::{HostId, RunId},
    permits::Act,
    proposal::{Password, Proposal},
    view::View,
};
use zastrugi_engine::StartError;

/// Every kind of change that a page offers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Claim,
    HandBack,
    EditHost,
    NewCluster,
    EditCluster,
    PlaceRule,
    FaultDomains,
    NewMachines,
    EditMachines,
    Move,
    Power,
    Delete,
    Recover,
    Purge,
    ConnectArray,
    ConnectVolume,
    HealVolume,
    ExtendVolume,
    EditVolume,
    GiveVolume,
    AddImage,
    EditImage,
    RemoveImage,
    ConnectSwitch,
    NewNetwork,
    HealNetwork,
    EditNetwork,
    RemoveNetwork,
}

impl Kind {
    pub(crate) const ALL: [Kind; 28] = [
        Kind::Claim,
        Kind::HandBack,
        Kind::EditHost,
        Kind::NewCluster,
        Kind::EditCluster,
        Kind::PlaceRule,
        Kind::FaultDomains,
        Kind::NewMachines,
        Kind::EditMachines,
        Kind::Move,
        Kind::Power,
        Kind::Delete,
        Kind::Recover,
        Kind::Purge,
        Kind::ConnectArray,
        Kind::ConnectVolume,
        Kind::HealVolume,
        Kind::ExtendVolume,
        Kind::EditVolume,
        Kind::GiveVolume,
        Kind::AddImage,
        Kind::EditImage,
        Kind::RemoveImage,
        Kind::ConnectSwitch,
        Kind::NewNetwork,
        Kind::HealNetwork,
        Kind::EditNetwork,
        Kind::RemoveNetwork,
    ];
    pub(crate) fn word(self) -> &'static str {
        match self {
            Kind::Claim => "claim",
            Kind::HandBack => "hand-back",
            Kind::EditHost => "edit-host",
            Kind::NewCluster => "new-cluster",
            Kind::EditCluster => "edit-cluster",
            Kind::PlaceRule => "rule",
            Kind::FaultDomains => "fault-domains",
            Kind::NewMachines => "new-machines",
            Kind::EditMachines => "edit-machines",
            Kind::Move => "move",
            Kind::Power => "power",
            Kind::Delete => "delete",
            Kind::Recover => "recover",
            Kind::Purge => "purge",
            Kind::ConnectArray => "connect-array",
            Kind::ConnectVolume => "connect-volume",
            Kind::HealVolume => "heal-volume",
            Kind::ExtendVolume => "extend-volume",
            Kind::EditVolume => "edit-volume",
            Kind::GiveVolume => "give-volume",
            Kind::AddImage => "add-image",
            Kind::EditImage => "edit-image",
            Kind::RemoveImage => "remove-image",
            Kind::ConnectSwitch => "connect-switch",
            Kind::NewNetwork => "new-network",
            Kind::HealNetwork => "heal-network",
            Kind::EditNetwork => "edit-network",
            Kind::RemoveNetwork => "remove-network",
        }
    }
    pub(crate) fn act(self) -> Act {
        match self {
            Kind::Claim | Kind::HandBack | Kind::EditHost | Kind::FaultDomains => Act::Hosts,
            Kind::NewCluster | Kind::EditCluster | Kind::PlaceRule => Act::Clusters,
            Kind::Purge => Act::Purge,
            Kind::ConnectArray
            | Kind::ConnectVolume
            | Kind::HealVolume
            | Kind::ExtendVolume
            | Kind::EditVolume
            | Kind::GiveVolume
            | Kind::AddImage
            | Kind::EditImage
            | Kind::RemoveImage
            | Kind::ConnectSwitch
            | Kind::NewNetwork
            | Kind::HealNetwork
            | Kind::EditNetwork
            | Kind::RemoveNetwork => Act::Storage,
            _ => Act::Machines,
        }
    }
    fn place(self) -> &'static str {
        match self {
            Kind::Claim
            | Kind::HandBack
            | Kind::EditHost
            | Kind::NewCluster
            | Kind::EditCluster
            | Kind::PlaceRule
            | Kind::FaultDomains => "hosts",
            Kind::ConnectArray
            | Kind::ConnectVolume
            | Kind::HealVolume
            | Kind::ExtendVolume
            | Kind::EditVolume
            | Kind::GiveVolume
            | Kind::AddImage
            | Kind::EditImage
            | Kind::RemoveImage => "storage",
            Kind::ConnectSwitch
            | Kind::NewNetwork
            | Kind::HealNetwork
            | Kind::EditNetwork
            | Kind::RemoveNetwork => "networks",
            _ => "machines",
        }
    }
    fn fill(self, view: &View, fields: &Fields) -> Filled {
        match self {
            Kind::Claim => places::hosts::claim::fill(view, fields),
            Kind::HandBack => places::hosts::change::hand_back(view, fields),
            Kind::EditHost => places::hosts::change::edit(view, fields),
            Kind::NewCluster => places::clusters::new::fill(view, fields),
            Kind::EditCluster => places::clusters::page::edit(view, fields),
            Kind::PlaceRule => places::clusters::rule::fill(view, fields),
            Kind::FaultDomains => places::hosts::domains::fill(view, fields),
            Kind::NewMachines => places::machines::new::fill(view, fields),
            Kind::EditMachines => places::machines::edit::fill(view, fields),
            Kind::Move => places::machines::moving::fill(view, fields),
            Kind::Power => places::machines::power::fill(view, fields),
            Kind::Delete => places::machines::lifecycle::delete(view, fields),
            Kind::Recover => places::machines::lifecycle::recover(view, fields),
            Kind::Purge => places::machines::lifecycle::purge(view, fields),
            Kind::ConnectArray => places::storage::connect_array::fill(view, fields),
            Kind::ConnectVolume => places::storage::connect_volume::fill(view, fields),
            Kind::HealVolume => places::storage::change::heal(view, fields),
            Kind::ExtendVolume => places::storage::change::extend(view, fields),
            Kind::EditVolume => places::storage::change::edit(view, fields),
            Kind::GiveVolume => places::storage::change::give(view, fields),
            Kind::AddImage => places::storage::image_sheets::add(view, fields),
            Kind::EditImage => places::storage::image_sheets::edit(view, fields),
            Kind::RemoveImage => places::storage::image_sheets::remove(view, fields),
            Kind::ConnectSwitch => places::networks::connect_switch::fill(view, fields),
            Kind::NewNetwork => places::networks::new::fill(view, fields),
            Kind::HealNetwork => places::networks::change::heal(view, fields),
            Kind::EditNetwork => places::networks::change::edit(view, fields),
            Kind::RemoveNetwork => places::networks::change::remove(view, fields),
        }
    }
}

impl<'a> FromParam<'a> for Kind {
    type Error = &'a str;
    fn from_param(param: &'a str) -> Result<Self, &'a str> {
        Kind::ALL
            .into_iter()
            .find(|k| k.word() == param)
            .ok_or(param)
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
}

/// What must be known before a sheet can say something is asked first: limited, timed out, kept.
async fn prepare(kind: Kind, desk: &AtDesk, fields: &Fields) {
    match kind {
        Kind::NewCluster => {
            let hosts: Vec<HostId> = fields.ids("host");
            desk.inspect(&hosts).await;
        }
        Kind::ConnectArray => {
            let asked = places::storage::connect_array::addresses(fields);
            desk.greet_arrays(&asked).await;
        }
        Kind::ConnectSwitch => {
            let asked = places::networks::connect_switch::address(fields);
            if !asked.is_empty() {
                desk.greet_switch(&asked).await;
            }
        }
        Kind::ConnectVolume => {
            let (arrays, hosts) = places::storage::connect_volume::asks(&desk.look(), fields);
            // Anew when the sheet is opened: arrays change by other hands too.
            desk.inspect_storage(&arrays, &hosts, !fields.has("sent"))
                .await;
        }
        Kind::Claim if !fields.has("sent") => {
            let asked: Vec<String> = places::hosts::claim::addresses(fields);
            desk.greet(&asked).await;
        }
        _ => {}
    }
}

fn show(
    signed: &Signed,
    desk: &AtDesk,
    kind: Kind,
    fields: &Fields,
    filled: Filled,
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
        kind: kind.word(),
        lead: filled.lead,
        run: filled.run.clone(),
        danger: filled.danger,
        back: filled.back,
        fields: filled.fields,
        fresh: !fields.has("sent"),
        consequences: render(&Consequences::new(&assessment, &wrong, &filled.run)),
        csrf: signed.csrf.clone(),
        request,
        notice: said.notice,
        title: filled.title.clone(),
    };
    page(signed, desk, kind.place(), &filled.title, &sheet)
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

fn allowed(signed: &Signed, kind: Kind) -> Result<(), Problem> {
    if signed.may(kind.act()) {
        Ok(())
    } else {
        Err(Problem::not_allowed())
    }
}

#[get("/sheet/<kind>")]
pub(crate) async fn open(signed: Signed, desk: &AtDesk, kind: Kind, query: Query) -> Page {
    allowed(&signed, kind)?;
    prepare(kind, desk, &query.0).await;
    let filled = kind.fill(&desk.look(), &query.0);
    show(&signed, desk, kind, &query.0, filled, Said::default())
}

#[derive(Responder)]
pub(crate) enum Answer {
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
) -> Result<Answer, Problem> {
    allowed(&signed, kind)?;
    prepare(kind, desk, &fields).await;
    let filled = kind.fill(&desk.look(), &fields);
    if htmx.0 {
        let assessment = desk.assess(&signed.viewer, &filled.ask);
        return part(&Consequences::new(&assessment, &filled.wrong, &filled.run)).map(Answer::Part);
    }
    match start(&signed, desk, &fields, &filled).await {
        Ok(run) => {
            let to = after(kind, desk, run);
            Ok(Answer::Started(Box::new(Redirect::to(to))))
        }
        Err(said) => {
            let again = show(&signed, desk, kind, &fields, filled, said)?;
            Ok(Answer::Again((Status::UnprocessableEntity, again)))
        }
    }
}

/// Where a person goes when a run has begun: to the run, or where it needs them.
fn after(kind: Kind, desk: &AtDesk, run: u64) -> String {
    let estate = desk.look().estate;
    let plan = estate
        .plans
        .get(&RunId(run))
        .filter(|_| kind == Kind::AddImage);
    let image = plan.and_then(|p| p.steps.iter().find_map(|s| s.step.image()));
    image.map_or_else(
        || format!("/logbook/runs/{run}"),
        |image| format!("/storage/images/{}", image.0),
    )
}

/// Where a password that was typed shall be replaced by where it is kept.
fn typed_password(ask: &mut Proposal) -> Option<&mut Password> {
    let password = match ask {
        Proposal::ConnectArray(connect) => &mut connect.password,
        Proposal::ConnectSwitch(connect) => &mut connect.password,
        _ => return None,
    };
    (*password == Password::Typed).then_some(password)
}

/// Starts the run; or says why not, with everything that was typed kept.
async fn start(
    signed: &Signed,
    desk: &AtDesk,
    fields: &Fields,
    filled: &Filled,
) -> Result<u64, Said> {
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
    if let Proposal::ClaimHosts(claim) = &mut ask {
        let blocked = desk.assess(&signed.viewer, &filled.ask).blocked();
        if claim.password == Password::Typed && !blocked {
            let targets: Vec<_> = claim
                .targets
                .iter()
                .map(|t| (t.address.clone(), t.pin.clone()))
                .collect();
            let password = fields.get("password");
            desk.check_password(&targets, password)
                .await
                .map_err(|(address, fault)| {
                    let field = if fault.kind == zastrugi_core::run::FaultKind::Password {
                        "password"
                    } else {
                        "hosts"
                    };
                    Said::wrong(field, format!("{address}: {} {}", fault.said, fault.remedy))
                })?;
            let kept = desk.keep_secret(password).await.map_err(Said::notice)?;
            claim.password = Password::Kept(kept);
        }
    }
    if let Some(password) = typed_password(&mut ask)
        && !desk.assess(&signed.viewer, &filled.ask).blocked()
    {
        let kept = desk.keep_secret(fields.get("password")).await;
        *password = Password::Kept(kept.map_err(Said::notice)?);
    }
    desk.start(&signed.viewer, ask, seen, request).await.map(|run| run.0).map_err(|error| match error {
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
        other => Said::notice(format!("Nothing was started: {other}.")),
    })
}
