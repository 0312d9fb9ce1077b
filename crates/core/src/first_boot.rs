//! What one guest is told at its first boot: a document with the machine's own words in it, and whether that can stand.

use crate::{
    estate::{Edition, Estate, Machine, User},
    limits, names,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use std::net::IpAddr;

/// What one guest is told.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Told {
    pub host_name: String,
    pub user: Option<User>,
    pub dns: Vec<IpAddr>,
    pub search: Vec<String>,
    pub zone: String,
    pub commands: Vec<String>,
}

impl Told {
    /// What a guest without a document is told.
    pub fn plain(machine: &Machine) -> Told {
        Told {
            host_name: machine.name.clone(),
            ..Told::default()
        }
    }

    /// What is told beside the host name, in a few words each.
    pub fn words(&self) -> Vec<String> {
        let user = self.user.as_ref().map(|u| {
            let keys = match u.keys.len() {
                0 => "no key".to_owned(),
                1 => "a key".to_owned(),
                n => format!("{n} keys"),
            };
            let password = if u.password.is_some() {
                "a password"
            } else {
                "no password"
            };
            format!("user {} with {keys} and {password}", u.name)
        });
        let dns: Vec<String> = self.dns.iter().map(ToString::to_string).collect();
        let search =
            (!self.search.is_empty()).then(|| format!("search {}", self.search.join(", ")));
        let dns = (!dns.is_empty()).then(|| format!("name servers {}", dns.join(", ")));
        let zone = (!self.zone.is_empty()).then(|| format!("zone {}", self.zone));
        let commands = match self.commands.len() {
            0 => None,
            1 => Some("a command".to_owned()),
            n => Some(format!("{n} commands")),
        };
        [user, dns, search, zone, commands]
            .into_iter()
            .flatten()
            .collect()
    }
}

/// What `machine` is told by this version of a document.
///
/// # Errors
/// Words for whoever chose it: what it asks for that the machine doesn't have, or a host name that can't be one.
pub fn told(edition: &Edition, machine: &Machine, estate: &Estate) -> Result<Told, String> {
    let host_name = filled(&edition.host_name, machine, estate)?;
    check_host_name(&host_name)
        .map_err(|why| format!("{host_name} can't be a host name: {why}"))?;
    Ok(Told {
        host_name,
        user: edition.user.clone(),
        dns: edition.dns.clone(),
        search: edition.search.clone(),
        zone: edition.zone.clone(),
        commands: edition.commands.clone(),
    })
}

/// A piece of a pattern.
enum Piece<'a> {
    Text(&'a str),
    Name,
    Cluster,
    Site,
    Label(&'a str),
}

/// # Errors
/// Words about what can't be read.
fn pieces(pattern: &str) -> Result<Vec<Piece<'_>>, String> {
    let mut all = Vec::new();
    let mut rest = pattern;
    while let Some((before, after)) = rest.split_once('{') {
        let (inside, behind) = after
            .split_once('}')
            .ok_or("A brace is opened and not closed.")?;
        if !before.is_empty() {
            all.push(Piece::Text(before));
        }
        all.push(match inside.split_once(':') {
            None if inside == "name" => Piece::Name,
            None if inside == "cluster" => Piece::Cluster,
            None if inside == "site" => Piece::Site,
            Some(("label", key)) if !key.is_empty() => Piece::Label(key),
            _ => return Err(format!("{{{inside}}} stands for nothing; {{name}}, {{cluster}}, {{site}} and {{label:…}} do.")),
        });
        rest = behind;
    }
    if rest.contains('}') {
        return Err("A brace is closed that was not opened.".into());
    }
    if !rest.is_empty() {
        all.push(Piece::Text(rest));
    }
    Ok(all)
}

/// Names of places become parts of host names: lower case, hyphens for blanks.
fn as_part(name: &str) -> String {
    name.to_lowercase()
        .split_whitespace()
        .collect::<Vec<_>>()
        .join("-")
}

fn filled(pattern: &str, machine: &Machine, estate: &Estate) -> Result<String, String> {
    let cluster = machine.cluster.and_then(|c| estate.clusters.get(&c));
    let mut out = String::new();
    for piece in pieces(pattern)? {
        match piece {
            Piece::Text(text) => out.push_str(text),
            Piece::Name => out.push_str(&machine.name),
            Piece::Cluster => {
                let cluster =
                    cluster.ok_or_else(|| format!("{} is of no cluster.", machine.name))?;
                out.push_str(&as_part(&cluster.name));
            }
            Piece::Site => {
                // Of a cluster at several sites: that of the host, which may be another one later, so there is none.
                let site = cluster.and_then(|c| only_site(estate, c.id));
                let site = site.ok_or_else(|| format!("{} is of no single site.", machine.name))?;
                out.push_str(&as_part(&site));
            }
            Piece::Label(key) => {
                let value = machine.labels.get(key);
                let value = value.ok_or_else(|| format!("{} has no label {key}.", machine.name))?;
                out.push_str(&as_part(value));
            }
        }
    }
    Ok(out)
}

/// The site of a cluster whose hosts are all at one.
fn only_site(estate: &Estate, cluster: crate::ids::ClusterId) -> Option<String> {
    let mut sites: Vec<_> = estate.hosts_in(cluster).map(|h| h.site).collect();
    sites.sort();
    sites.dedup();
    let [one] = sites.as_slice() else { return None };
    estate.sites.get(one).map(|s| s.name.clone())
}

/// Labels of at most 63 characters, 253 in all (RFC 1123, section 2.1; RFC 1035, section 2.3.4).
fn check_host_name(name: &str) -> Result<(), String> {
    if name.len() > 253 {
        return Err(format!(
            "{} characters; a host name has at most 253.",
            name.len()
        ));
    }
    name.split('.').try_for_each(names::check)
}

/// What is wrong with a version of a document itself, whatever machine it is for: (field, words).
pub fn check(edition: &Edition) -> Vec<(&'static str, String)> {
    let mut wrong = Vec::new();
    let mut at = |field, found: Result<(), String>| {
        if let Err(words) = found {
            wrong.push((field, words));
        }
    };
    at("host_name", check_pattern(&edition.host_name));
    if let Some(user) = &edition.user {
        at("user", check_user(&user.name));
        at("keys", limits::GUEST_KEYS.check(user.keys.len()));
        at("keys", user.keys.iter().try_for_each(|k| check_key(k)));
    }
    at("dns", limits::NAME_SERVERS.check(edition.dns.len()));
    at("search", limits::NAME_SERVERS.check(edition.search.len()));
    at(
        "search",
        edition.search.iter().try_for_each(|d| check_host_name(d)),
    );
    at("zone", check_zone(&edition.zone));
    at("commands", limits::COMMANDS.check(edition.commands.len()));
    wrong
}

fn check_pattern(pattern: &str) -> Result<(), String> {
    if pattern.is_empty() {
        return Err("Say how the guest is called; {name} is what its machine is called.".into());
    }
    // Whatever it is filled with: two machines must not be called alike.
    let all = pieces(pattern)?;
    if !all.iter().any(|p| matches!(p, Piece::Name)) {
        return Err("Without {name} in it several guests would be called alike.".into());
    }
    let tried: String = all
        .iter()
        .map(|p| if let Piece::Text(text) = p { text } else { "a" })
        .collect();
    check_host_name(&tried)
}

/// A name of a user (POSIX.1-2017, 3.437, and without capitals).
fn check_user(name: &str) -> Result<(), String> {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    match name.chars().next() {
        None => Err("The user's name is missing.".into()),
        Some(c) if !(c.is_ascii_lowercase() || c == '_') => {
            Err("A user's name begins with a small letter.".into())
        }
        Some(_) if name.len() > 32 => Err("A user's name has at most 32 characters.".into()),
        Some(_) if name == "root" => {
            Err("Give it a user of its own; root is there already.".into())
        }
        Some(_) => match name.chars().find(|c| !fits(*c)) {
            Some(c) => Err(format!("“{c}” can't stand in a user's name.")),
            None => Ok(()),
        },
    }
}

/// A public key as OpenSSH writes it: its kind, and a blob in base64 that begins with the same kind (RFC 4253, 6.6).
fn check_key(line: &str) -> Result<(), String> {
    let mut parts = line.split_whitespace();
    let (kind, blob) = (
        parts.next().unwrap_or_default(),
        parts.next().unwrap_or_default(),
    );
    let known = [
        "ssh-ed25519",
        "ssh-rsa",
        "ecdsa-sha2-",
        "sk-ssh-ed25519@",
        "sk-ecdsa-sha2-",
    ];
    let shown: String = line.chars().take(24).collect();
    if line.contains("PRIVATE KEY") {
        return Err(
            "This is a private key; it stays with whoever has it. Give the public one.".into(),
        );
    }
    if !known.iter().any(|k| kind.starts_with(k)) {
        return Err(format!(
            "“{shown}…” is no public key; it begins like ssh-ed25519."
        ));
    }
    let blob = BASE64_STANDARD.decode(blob).unwrap_or_default();
    match strings(&blob).as_deref() {
        Some([first, _, ..]) if *first == kind.as_bytes() => Ok(()),
        _ => Err(format!(
            "The key “{shown}…” is cut or damaged; copy it again, as one line."
        )),
    }
}

/// What a blob consists of: strings, each behind its length (RFC 4251, section 5); none where one is cut.
fn strings(blob: &[u8]) -> Option<Vec<&[u8]>> {
    let mut all = Vec::new();
    let mut rest = blob;
    while !rest.is_empty() {
        let (length, behind) = rest.split_at_checked(4)?;
        let length = u32::from_be_bytes(length.try_into().ok()?);
        let (string, behind) = behind.split_at_checked(usize::try_from(length).ok()?)?;
        all.push(string);
        rest = behind;
    }
    Some(all)
}

/// The shape of a name in the time zone database; whether it is in there the guest knows.
fn check_zone(zone: &str) -> Result<(), String> {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '+');
    let part = |p: &str| !p.is_empty() && p.len() <= 14 && p.chars().all(fits);
    if zone.is_empty() || zone.split('/').all(part) {
        return Ok(());
    }
    Err("A time zone is like UTC or Europe/Lisbon.".into())
}
