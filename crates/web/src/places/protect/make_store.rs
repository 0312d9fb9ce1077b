//! The sheets by which a store is made, opened where one is there already, and looked through anew.

use crate::frame::{
    AtDesk, Fields,
    fields::at_manager,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    evidence::{Answer, Probe, SeenExport},
    ids::{JobId, StoreId},
    rooms::{
        Proposal,
        stores::{Ask, MakeStore},
    },
    view::View,
};
use zastrugi_formats::backup::Key;

/// Where S3 servers of this kind listen, if nobody says otherwise.
const PORT: u16 = 9443;

#[derive(Template)]
#[template(path = "places/protect/make_store.html")]
struct MakeFields {
    name: String,
    site: String,
    sites: Vec<String>,
    address: String,
    region: String,
    bucket: String,
    folder: String,
    access: String,
    lock: String,
    /// Exports that are mounted here; the one that is chosen, or none: a bucket.
    exports: Vec<(String, String)>,
    export: String,
    opens: bool,
}

fn exports(view: &View) -> Vec<(String, String)> {
    let answer = view
        .evidence
        .answers
        .get(&Probe::Exports)
        .map(|e| &e.answer);
    let Some(Answer::Exports { all }) = answer else {
        return vec![];
    };
    let words = |e: &SeenExport| {
        (
            e.name.clone(),
            format!("export {}, {} free", e.name, e.free),
        )
    };
    all.iter().map(words).collect()
}

/// A secret of the form: whether it was typed.
fn typed(fields: &Fields, name: &str) -> Password {
    match fields.secret(name).trim().is_empty() {
        true => Password::Missing,
        false => Password::Typed,
    }
}

fn address(fields: &Fields) -> String {
    let typed = fields.get("address");
    match typed {
        "" => String::new(),
        _ if typed.parse::<std::net::IpAddr>().is_ok() => at_manager(&format!("{typed}:{PORT}")),
        _ => at_manager(typed),
    }
}

pub(crate) fn make(view: &View, fields: &Fields) -> Filled {
    let sites: Vec<String> = view.estate.sites.values().map(|s| s.name.clone()).collect();
    let site = fields.or(
        "site",
        sites.get(1).or(sites.first()).map_or("", String::as_str),
    );
    let address = address(fields);
    let pin = view
        .evidence
        .manager_pin(&Probe::StoreGreeting(address.clone()));
    let region = fields.or("region", "us-east-1");
    let exports = exports(view);
    let export = fields.get("export").to_owned();
    let opens = fields.ticked("opens", false);
    // Only what is made in a bucket is locked; the field is not shown otherwise, and what was typed in it stays.
    let lock = match export.is_empty() && !opens {
        true => fields.get("lock"),
        false => "",
    };
    let ask = MakeStore {
        name: fields.get("name").into(),
        site: (&site).into(),
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        region: (&region).into(),
        bucket: fields.get("bucket").into(),
        folder: fields.get("folder").into(),
        access: fields.get("access").into(),
        export: (&export).into(),
        secret: typed(fields, "password"),
        lock: lock.into(),
        key: if opens {
            typed(fields, "store_key")
        } else {
            Password::Missing
        },
    };
    let mut wrong = Vec::new();
    if opens {
        match (ask.key, Key::read(fields.secret("store_key").trim())) {
            (Password::Missing, _) => {
                wrong.push(("store_key".to_owned(), "Type its key.".to_owned()))
            }
            (_, Err(why)) => wrong.push((
                "store_key".to_owned(),
                format!("It is no key of a store: {why}."),
            )),
            (_, Ok(_)) => {}
        }
    }
    Filled {
        title: if opens { "Open a store that is there" } else { "Make a store" }.into(),
        lead: "A place for backups outside everything that is backed up: a bucket of a server that speaks S3, or a mounted export.".into(),
        run: if opens { "Run: open it" } else { "Run: make it" }.into(),
        danger: false,
        back: "/protect".into(),
        fields: render(&MakeFields {
            name: fields.get("name").to_owned(),
            site,
            sites,
            address: fields.get("address").to_owned(),
            region,
            bucket: fields.get("bucket").to_owned(),
            folder: fields.get("folder").to_owned(),
            access: fields.get("access").to_owned(),
            lock: fields.get("lock").to_owned(),
            exports,
            export,
            opens,
        }),
        ask: Proposal::Stores(Ask::Make(ask)),
        wrong,
    }
}

/// Which certificate is shown at the address that was typed.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let asked = address(fields);
        desk.look_for_exports().await;
        if !asked.is_empty() && fields.get("export").is_empty() {
            desk.greet_store(&asked).await;
        }
    })
}

#[derive(Template)]
#[template(path = "places/protect/read_store.html")]
struct ReadFields {
    id: u64,
    name: String,
    jobs: Vec<(u64, String)>,
    job: u64,
}

pub(crate) fn read(view: &View, fields: &Fields) -> Filled {
    let id = fields.get("id").parse().map_or(StoreId(0), StoreId);
    let store = view.estate.stores.get(&id);
    let name = store.map_or_else(|| "a store".to_owned(), |s| s.name.clone());
    let jobs = view.estate.jobs_into(id);
    let mut jobs: Vec<(u64, String)> = jobs.map(|j| (j.id.0, j.name.clone())).collect();
    jobs.sort_by(|a, b| a.1.cmp(&b.1));
    let job: u64 = fields.or("job", "0").parse().unwrap_or(0);
    Filled {
        title: format!("Look through {name}"),
        lead: "For when somebody else wrote to it, or took something away, or this manager's own history went back.".into(),
        run: "Run: look through it".into(),
        danger: false,
        back: format!("/protect/stores/{}", id.0),
        fields: render(&ReadFields {
            id: id.0,
            name,
            jobs,
            job,
        }),
        ask: Proposal::Stores(Ask::Read {
            store: id,
            job: (job > 0).then_some(JobId(job)),
        }),
        wrong: vec![],
    }
}
