//! The checks before a version of a document is kept.

use super::{Draft, Event, Keep};
use crate::{
    endpoint::Password,
    estate::{Edition, FirstBoot, User},
    finding::{Finding, Rule},
    first_boot::check,
    ids::{FirstBootId, SecretRef},
    limits,
    text::Line,
};
use std::{net::IpAddr, sync::Arc};

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    "Keep a first-boot document".clone_into(&mut draft.title);
    let document = named(draft, ask);
    let name = document.as_ref().map_or_else(|| ask.name.trim().to_owned(), |d| d.name.clone());
    let before = document.as_ref().and_then(|d| d.newest());
    let number = before.map_or(1, |v| v.number + 1);
    if !name.is_empty() {
        draft.title = format!("Keep {name} {number}");
    }
    let user = user(draft, ask, before);
    let edition = Edition {
        number,
        host_name: ask.host_name.trim().to_owned(),
        user,
        dns: addresses(draft, &ask.dns),
        search: texts(&ask.search),
        zone: ask.zone.trim().to_owned(),
        commands: texts(&ask.commands),
        made: draft.now,
    };
    let stop = |(field, words): (&str, String)| Finding::stop(Rule::Content, "document", words).at(field);
    draft.found_all(check(&edition).into_iter().map(stop).collect::<Vec<_>>());
    if before.is_some_and(|b| alike(b, &edition)) {
        let text = format!("Nothing is changed yet: this is what {name} {} says.", number - 1);
        draft.found(Finding::stop(Rule::Nothing, &name, text).at("host_name"));
    }
    let text = match before {
        None => "It changes no machine by itself: choose it for new ones.".to_owned(),
        Some(b) => format!("New machines get {number} from now on. Guests that were told {} keep what they have: they boot for the first time once.", b.number),
    };
    draft.found(Finding::clear(Rule::Content, &name, text));
    let id = document.as_ref().map_or_else(|| FirstBootId(draft.number()), |d| d.id);
    draft.intend(Event::Kept {
        document: id,
        name,
        edition: Box::new(edition),
    });
}

/// Whether it says what is said already.
fn alike(before: &Edition, edition: &Edition) -> bool {
    let same = Edition {
        number: before.number,
        made: before.made,
        ..edition.clone()
    };
    *before == same
}

/// The document that it becomes a version of; what is wrong with a new one's name is said.
fn named(draft: &mut Draft<'_>, ask: &Keep) -> Option<Arc<FirstBoot>> {
    let stop = |rule, text: String| Finding::stop(rule, "name", text).at("name");
    if let Some(of) = ask.of {
        let found = draft.estate().first_boots.get(&of).cloned();
        if found.is_none() {
            draft.found(stop(Rule::Exists, "The document is gone.".into()));
        }
        return found;
    }
    let name = ask.name.trim();
    let wrong = if name.is_empty() {
        Some("Give the document a name.".to_owned())
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        Some(words)
    } else {
        let mut all = draft.estate().first_boots.values();
        let there = all.find(|d| d.name.to_lowercase() == name.to_lowercase());
        there.map(|d| format!("There is a document {} already; keep the next version of it, or choose another name.", d.name))
    };
    draft.found_all(wrong.map(|text| stop(Rule::Name, text)));
    None
}

fn user(draft: &mut Draft<'_>, ask: &Keep, before: Option<&Edition>) -> Option<User> {
    let name = ask.user.trim();
    let keys = texts(&ask.keys);
    if name.is_empty() {
        if !keys.is_empty() || ask.password == Password::Typed {
            let text = "Say whose keys and password these are.";
            draft.found(Finding::stop(Rule::Name, "user", text).at("user"));
        }
        return None;
    }
    let had = before.and_then(|b| b.user.as_ref()).filter(|u| u.name == name);
    let password = match ask.password {
        _ if ask.no_password => None,
        Password::Kept(secret) => Some(secret),
        Password::Typed => Some(SecretRef(uuid::Uuid::nil())),
        Password::Missing => had.and_then(|u| u.password),
    };
    if ask.no_password && ask.password != Password::Missing {
        let text = "A password is typed, and that there shall be none: one of them.";
        draft.found(Finding::stop(Rule::Password, name, text).at("password"));
    }
    if keys.is_empty() && password.is_none() {
        let text = format!("{name} can't sign in: there is neither a key nor a password.");
        draft.found(Finding::mind(Rule::Password, name, text).at("keys"));
    } else if password.is_some() {
        let text = format!("Only the hash of the password of {name} is kept; whoever can read the disk of a machine can try passwords against it.");
        draft.found(Finding::clear(Rule::Password, name, text));
    }
    Some(User {
        name: name.to_owned(),
        keys,
        password,
    })
}

fn addresses(draft: &mut Draft<'_>, lines: &[Line]) -> Vec<IpAddr> {
    let mut all = Vec::new();
    for line in lines {
        match line.trim().parse() {
            Ok(address) => all.push(address),
            Err(_) => {
                let text = format!("“{}” is no address.", line.trim());
                draft.found(Finding::stop(Rule::Address, "dns", text).at("dns"));
            }
        }
    }
    all
}

fn texts(lines: &[Line]) -> Vec<String> {
    let all = lines.iter().map(|l| l.trim()).filter(|l| !l.is_empty());
    all.map(str::to_owned).collect()
}
