//! Whom hosts ask for the time: whether it answers, and tells the right one. A bare host's own clock says nothing.

use super::Draft;
use crate::{
    evidence::{Answer, CLOCKS_APART_MS as APART_MS, Probe},
    finding::{Finding, Rule},
    text::Line,
};
use std::{
    collections::BTreeSet,
    net::{IpAddr, SocketAddr},
};

/// The port of time sources (RFC 5905).
const PORT: u16 = 123;
/// More than these help nobody.
const MOST: usize = 4;

/// A source as typed, with the usual port where none is given; none where it is no address.
pub fn at_source(typed: &str) -> Option<String> {
    let typed = typed.trim();
    let socket = match typed.parse::<IpAddr>() {
        Ok(ip) => SocketAddr::new(ip, PORT),
        Err(_) => typed.parse().ok()?,
    };
    Some(socket.to_string())
}

/// Those that can be asked; what is wrong with each is said.
pub(super) fn sources(draft: &mut Draft<'_>, typed: &[Line]) -> Vec<String> {
    let stop = |text: String| Finding::stop(Rule::Clock, "time", text).at("time");
    if typed.is_empty() {
        let text = "Nobody tells the hosts the time; their clocks drift apart, and certificates, leases and logs with them.";
        let mind = Finding::mind(Rule::Clock, "time", text).at("time");
        draft.found(mind.remedy("Type the address of a time source (NTP)."));
    }
    if typed.len() > MOST {
        draft.found(stop(format!("{} time sources; up to {MOST} are asked.", typed.len())));
    }
    let mut all: Vec<String> = Vec::new();
    let mut said = BTreeSet::new();
    for one in typed.iter().take(MOST) {
        let Some(source) = at_source(one) else {
            draft.found(stop(format!("“{one}” is no address; a name is not looked up.")));
            continue;
        };
        let finding = match draft.view.evidence.fresh(&Probe::Time(source.clone()), draft.now) {
            Some(Answer::Clock { offset_ms }) => {
                said.insert(*offset_ms);
                told(&source, *offset_ms)
            }
            Some(Answer::Silent { why }) => {
                let stop = stop(format!("The time source {source} gives no answer: {why}."));
                stop.remedy("Check its address, or take another.")
            }
            _ => {
                let text = format!("The time source {source} was not asked yet.");
                Finding::unchecked(Rule::Clock, &source, text).at("time")
            }
        };
        draft.found(finding);
        all.push(source);
    }
    if let (Some(first), Some(last)) = (said.first(), said.last())
        && last - first > APART_MS
    {
        let text = format!("The time sources are {} ms apart; hosts that ask different ones would disagree.", last - first);
        draft.found(stop(text).remedy("Leave out the one that is wrong."));
    }
    all
}

fn told(source: &str, offset_ms: i64) -> Finding {
    if offset_ms.abs() <= APART_MS {
        let text = format!("{source} tells the time, as this manager has it.");
        return Finding::clear(Rule::Clock, source, text);
    }
    let way = if offset_ms > 0 { "ahead of" } else { "behind" };
    let text = format!("The time that {source} tells is {} ms {way} this manager's.", offset_ms.abs());
    let stop = Finding::stop(Rule::Clock, source, text).at("time");
    stop.because(format!("at most {APART_MS} ms"))
        .remedy("Correct whichever of the two is wrong: hosts that are apart from their manager lose leases and trust.")
}
