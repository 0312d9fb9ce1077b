//! What stands in the fields of a plan, read: names of machines and networks become what they name.

use crate::{
    estate::{Estate, NetRole, Network, Then},
    ids::{MachineId, NetworkId, SiteId},
    limits,
    moment::Span,
};
use std::{collections::BTreeMap, sync::Arc};

/// Nobody waits longer between two stages.
const LONGEST: Span = Span::mins(240);

fn shown(text: &str) -> String {
    text.chars().take(60).collect()
}

fn machine(estate: &Estate, name: &str) -> Result<MachineId, String> {
    let found = estate.machine_named(name).filter(|m| m.deleted.is_none());
    found.map(|m| m.id).ok_or_else(|| format!("There is no machine “{}”.", shown(name)))
}

/// Machines by name, each once, between blanks, commas or lines.
///
/// # Errors
/// The first that is none, in words.
pub fn names(estate: &Estate, text: &str) -> Result<Vec<MachineId>, String> {
    let words = text.split(|c: char| c == ',' || c.is_whitespace()).filter(|w| !w.is_empty());
    let mut all = Vec::new();
    for word in words {
        let id = machine(estate, word)?;
        if all.contains(&id) {
            return Err(format!("“{}” stands twice.", shown(word)));
        }
        all.push(id);
    }
    Ok(all)
}

/// What lies between a stage and the next, a line each: `confirm …`, `wait 2 min`, `in NAME run …`.
///
/// # Errors
/// The first line that is none of these, in words.
pub fn thens(estate: &Estate, text: &str) -> Result<Vec<Then>, String> {
    let lines = text.lines().map(str::trim).filter(|l| !l.is_empty());
    let all: Vec<Then> = lines.map(|line| then(estate, line)).collect::<Result<_, _>>()?;
    limits::BETWEEN.check(all.len())?;
    Ok(all)
}

fn then(estate: &Estate, line: &str) -> Result<Then, String> {
    let wrong = || {
        format!(
            "“{}” is not understood; write: confirm and what shall be so, or wait 2 min, or in NAME run COMMAND.",
            shown(line)
        )
    };
    limits::LINE.check(line.chars().count())?;
    let (verb, rest) = line.split_once(char::is_whitespace).ok_or_else(wrong)?;
    let rest = rest.trim();
    match verb {
        "confirm" => Ok(Then::Confirm { text: rest.to_owned() }),
        "wait" => {
            let time: Span = rest.parse()?;
            match time.0 > 0 && time <= LONGEST {
                true => Ok(Then::Pause { time }),
                false => Err(format!("“{}”: wait up to {LONGEST}.", shown(line))),
            }
        }
        "in" => {
            let (name, command) = rest.split_once(" run ").ok_or_else(wrong)?;
            let command = command.trim();
            if command.is_empty() {
                return Err(wrong());
            }
            Ok(Then::Run { machine: machine(estate, name.trim())?, command: command.to_owned() })
        }
        _ => Err(wrong()),
    }
}

/// Networks of a site that stand for others of it in a drill, a line each: `ferry = drill-ferry`.
///
/// # Errors
/// The first line that can't be read, in words.
pub fn networks(estate: &Estate, site: SiteId, text: &str) -> Result<BTreeMap<NetworkId, NetworkId>, String> {
    let lines: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
    limits::MAPS.check(lines.len())?;
    let mut all = BTreeMap::new();
    for line in lines {
        let Some((of, stands)) = line.split_once('=') else {
            return Err(format!("“{}”: write one line for each, as network = network in a drill.", shown(line)));
        };
        let of = network(estate, site, of.trim())?;
        let stands = network(estate, site, stands.trim())?;
        if of.cluster != stands.cluster {
            return Err(format!("“{}”: the two are networks of different clusters.", shown(line)));
        }
        if all.insert(of.id, stands.id).is_some() {
            return Err(format!("“{}”: {} stands there twice.", shown(line), of.name));
        }
    }
    Ok(all)
}

/// By its name, or as `cluster/name` where two clusters of the site call theirs alike.
fn network<'a>(estate: &'a Estate, site: SiteId, name: &str) -> Result<&'a Arc<Network>, String> {
    let (cluster, own) = name.split_once('/').map_or((None, name), |(c, n)| (Some(c.trim()), n.trim()));
    let fits = |n: &&Arc<Network>| {
        let of = estate.clusters.get(&n.cluster).filter(|c| c.site == site);
        let named = cluster.is_none_or(|c| of.is_some_and(|of| of.name.eq_ignore_ascii_case(c)));
        n.name == own && n.role == NetRole::Guest && n.ready && named && of.is_some()
    };
    let found: Vec<&Arc<Network>> = estate.networks.values().filter(fits).collect();
    let at = estate.sites.get(&site).map_or("the site", |s| s.name.as_str());
    match found.as_slice() {
        [] => Err(format!("There is no network of guests “{}” at {at}.", shown(name))),
        [one] => Ok(one),
        _ => Err(format!("Several clusters have a network {own}; write its cluster before it: cluster/{own}.")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testkit;

    /// If this fails, a plan does something else than what was written.
    #[test]
    fn each_line_between_two_stages_is_one_thing_or_is_refused() {
        let small = testkit::read("cluster eider\nhost 1 64");
        let estate = &small.view.estate;
        let read = thens(estate, "confirm the phones are switched\n\n wait 90 s \n");
        let said = Then::Confirm { text: "the phones are switched".into() };
        assert_eq!(read, Ok(vec![said, Then::Pause { time: Span::secs(90) }]));
        for (line, words) in [
            ("confirm", "not understood"),
            ("wait", "not understood"),
            ("wait long", "no length of time"),
            ("wait 0 s", "wait up to"),
            ("wait 9 h", "wait up to"),
            ("in nobody run true", "no machine"),
            ("in nobody", "not understood"),
            ("dance", "not understood"),
        ] {
            let said = thens(estate, line).unwrap_err();
            assert!(said.contains(words), "{line}: {said}");
        }
    }

    #[test]
    fn lengths_of_time_are_read_as_they_are_said() {
        for (text, span) in [("30 s", Span::secs(30)), ("5min", Span::mins(5)), ("2 h", Span::mins(120)), ("1 day", Span::days(1))] {
            assert_eq!(text.parse(), Ok(span));
        }
        for text in ["", "5", "min", "-5 min", "5 m", "99999999999999999999 h", "9999999999999999999 h"] {
            assert!(text.parse::<Span>().is_err(), "{text}");
        }
    }
}
