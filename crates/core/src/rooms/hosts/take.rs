//! A host that another manager owns becomes ours, and what runs on it runs on (rules, section 30).

use super::{Draft, Event, Step};
use crate::{
    endpoint::Endpoint,
    estate::{Access, Bmc, Condition, Host},
    evidence::Greeting,
    ids::{HostId, SecretRef, SiteId},
    inventory::Former,
    moment::{Moment, Span},
};
use std::collections::BTreeMap;
use uuid::Uuid;

/// One host that shall be taken.
pub struct Take<'a> {
    pub target: Endpoint,
    pub greeting: &'a Greeting,
    pub former: &'a Former,
    pub password: SecretRef,
    pub site: SiteId,
}

/// A claimed or taken host as it is held until it answers to us.
pub(super) fn held(id: HostId, target: &Endpoint, greeting: &Greeting, site: SiteId) -> Host {
    Host {
        id,
        name: greeting.name.clone(),
        site,
        cluster: None,
        access: Access {
            address: target.address.to_string(),
            pin: target.pin.to_string(),
            key: None,
        },
        bmc: greeting.bmc.clone().map(|address| Bmc {
            address,
            pin: String::new(),
            user: Bmc::USER.into(),
            key: None,
        }),
        hardware: greeting.hardware.clone(),
        software: greeting.software.clone(),
        disks: vec![],
        condition: Condition::Claiming,
        seen: (0, 0),
        initiator: String::new(),
        mounts: Default::default(),
        uplinks: vec![],
        networks: Default::default(),
        labels: Default::default(),
        note: String::new(),
        watchdog: false,
        fencing: None,
        entered: None,
        maintenance: None,
        installing: None,
        keepers: Default::default(),
    }
}

/// The hosts as they will be held, and the step with which each is ours. Before the first of them is taken, all have said once
/// more that their manager is silent: until then nothing has happened.
pub fn take(draft: &mut Draft<'_>, all: &[Take<'_>]) -> Vec<(Host, usize)> {
    let hosts: Vec<Host> = all
        .iter()
        .map(|t| held(HostId(draft.number()), &t.target, t.greeting, t.site))
        .collect();
    hosts.iter().for_each(|h| draft.intend(Event::Claiming(Box::new(h.clone()))));
    let quiet: Vec<usize> = hosts
        .iter()
        .zip(all)
        .map(|(host, t)| {
            let step = Step::HearSilence {
                host: host.id,
                password: t.password,
                former: t.former.id.clone(),
            };
            let title = format!("{} gives {} no orders any more", t.former.name, host.name);
            draft.step(step, title, &[], Some("former"))
        })
        .collect();
    hosts
        .into_iter()
        .zip(all)
        .map(|(host, t)| {
            let step = Step::Take {
                host: host.id,
                password: t.password,
                former: t.former.id.clone(),
            };
            let title = format!("{} changes its owner", host.name);
            let at = draft.step(step, title, &quiet, Some("former"));
            (host, at)
        })
        .collect()
}

/// Whether what ran on the host when it was read has run on since; `up`: how long each machine had been on then.
pub fn ran_on(draft: &mut Draft<'_>, host: &Host, (read, up): (Moment, &BTreeMap<Uuid, Span>), after: &[usize]) {
    if up.is_empty() {
        return;
    }
    let step = Step::CompareUptimes {
        host: host.id,
        read,
        up: up.clone(),
    };
    draft.step(step, format!("What runs on {} ran on", host.name), after, None);
}
