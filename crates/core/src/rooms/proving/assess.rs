//! The checks before a recovery point is proven (rules, section 18).

use super::{Draft, Event, ProvePoint, Step, clear};
use crate::{
    copying::{Line, Source, kept},
    estate::{AnyPoint, Cluster, Estate, FirmwareKind, FirmwareWish, Machine, Memory, Network, Provisioning},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId, MachineId, SiteId},
    moment::Span,
    units::Bytes,
    rooms::{
        answers,
        machines::{self, Copied, CreateMachines, NewDisk, NewNic},
    },
};
use std::sync::Arc;

/// No guest answers sooner.
const SHORTEST: Span = Span::secs(5);
/// Nobody waits for a guest longer.
const LONGEST: Span = Span::mins(60);

pub(super) fn point(draft: &mut Draft<'_>, ask: &ProvePoint) {
    "Prove a recovery point".clone_into(&mut draft.title);
    let Some((at, _)) = draft.point(ask.point) else { return };
    let words = at.words(draft.estate());
    draft.title = format!("Prove {words}");
    let stop = |rule, field: &str, text: String| Finding::stop(rule, &words, text).at(field);
    if let Some(copy) = draft.estate().proving().find(|m| m.proves.as_deref() == Some(&at)) {
        let text = format!("It is being proven already, by {}.", copy.name);
        return draft.found(stop(Rule::State, "point", text));
    }
    if ask.limit < SHORTEST || ask.limit > LONGEST {
        draft.found(stop(Rule::State, "limit", format!("Between {SHORTEST} and {LONGEST}.")));
    }
    let kept = match Had::of(draft, at) {
        Ok(kept) => kept,
        Err(why) => return draft.found(why.at("point")),
    };
    let Some(cluster) = place(draft, ask, at) else { return };
    let alone = alone(draft.estate(), &cluster);
    let must = at.original(draft.estate()).map(|m| m.must.clone()).unwrap_or_default();
    said(draft, &kept, alone.as_deref(), must.len());
    bytes(draft, (at, &words), &cluster);
    let mut part = draft.beside::<machines::Step>(draft.view);
    machines::create(&mut part, &copy(draft.estate(), &kept, (at, cluster.id), alone.as_deref()));
    // Of what is said of any new machine only what concerns one that stays for minutes.
    part.leave_out(|f| f.stops() || matches!(f.rule, Rule::Placement | Rule::VolumeRoom | Rule::Headroom));
    let started = part.planned().find_map(|s| match s {
        machines::Step::Start { machine, host } => Some((*machine, *host)),
        machines::Step::Create { .. }
        | machines::Step::Copy { .. }
        | machines::Step::AwaitGuest { .. }
        | machines::Step::AskStop { .. }
        | machines::Step::AwaitOff { .. }
        | machines::Step::Off { .. }
        | machines::Step::Delete { .. }
        | machines::Step::Recover { .. }
        | machines::Step::Purge { .. } => None,
    });
    // Who waits for room waits in the list of what is due: nothing else is wrong with it.
    let (step, event) = (asks(at, ask.limit, must), marks(at));
    let all = draft.take_in(part, &[], |f| f.at("cluster"), (step, event));
    if let (Some((machine, host)), Some(last)) = (started, all.last()) {
        gone(draft, machine, host, last);
    }
}

/// The machine as the point has it, as far as a copy of it is made so.
struct Had {
    name: String,
    vcpus: u32,
    memory: Bytes,
    firmware: FirmwareKind,
    cards: usize,
    disks: Vec<Bytes>,
}

impl Had {
    /// As its store has it; what a replica has is what it is made with.
    fn of(draft: &Draft<'_>, at: AnyPoint) -> Result<Had, Finding> {
        match at {
            AnyPoint::Stored(at) => kept(draft.view, at, draft.now).map(|kept| Had {
                name: kept.name.clone(),
                vcpus: kept.vcpus,
                memory: kept.memory,
                firmware: kept.firmware,
                cards: kept.cards.len(),
                disks: kept.disks.iter().map(|d| d.size).collect(),
            }),
            AnyPoint::Replicated { replica, .. } => {
                let gone = || Finding::stop(Rule::Exists, "replica", "The replica is gone.");
                let machine = draft.estate().machines.get(&replica).ok_or_else(gone)?;
                let original = Source::from(at).shown(draft.view, draft.now)?;
                Ok(Had {
                    name: machine.replica.as_ref().map_or_else(|| machine.name.clone(), |r| r.name.clone()),
                    vcpus: machine.vcpus,
                    memory: machine.memory.size,
                    firmware: machine.firmware.as_ref().map_or(FirmwareKind::Uefi, |f| f.kind),
                    cards: machine.nics.len(),
                    disks: original.disks.iter().map(|d| d.size).collect(),
                })
            }
        }
    }
}

/// What is read for it, and how long that takes.
fn bytes(draft: &mut Draft<'_>, (at, words): (AnyPoint, &str), cluster: &Cluster) {
    let Ok(original) = Source::from(at).resolve(draft.view, draft.now) else { return };
    let bytes = original.bytes;
    let finding = match (at, original.known) {
        (AnyPoint::Stored(at), _) => {
            let store = draft.estate().stores.get(&at.store).map_or("its store", |s| s.name.as_str());
            let text = format!("{bytes} come from {store} to {}.", cluster.name);
            Finding::clear(Rule::Disk, words, text).because(Line::to(draft.estate(), at.store).because(bytes))
        }
        (AnyPoint::Replicated { .. }, true) => Finding::clear(Rule::Disk, words, format!("{bytes} are copied at its site.")),
        (AnyPoint::Replicated { .. }, false) => {
            let text = format!("How much it holds was not told; at most {bytes} are copied, at its site.");
            Finding::unchecked(Rule::Disk, words, text)
        }
    };
    draft.found(finding);
}

/// Where it is booted: at the site of the point.
fn place(draft: &mut Draft<'_>, ask: &ProvePoint, at: AnyPoint) -> Option<Arc<Cluster>> {
    let estate = draft.estate();
    let site: Option<SiteId> = at.site(estate);
    // The hosts of another cluster don't reach the disks of a replica.
    let own = match at {
        AnyPoint::Stored(_) => None,
        AnyPoint::Replicated { replica, .. } => estate.machines.get(&replica).and_then(|m| m.cluster),
    };
    let ready = |c: &&Arc<Cluster>| c.ready && Some(c.site) == site && own.is_none_or(|own| own == c.id);
    let found = match ask.cluster {
        Some(id) => estate.clusters.get(&id).filter(|c| c.ready),
        None => estate.clusters.values().find(ready),
    };
    if found.is_none() {
        let site = site.and_then(|s| estate.sites.get(&s)).map_or("the site of the point", |s| s.name.as_str());
        let text = format!("No cluster at {site} can boot a copy.");
        draft.found(Finding::stop(Rule::Exists, "cluster", text).at("cluster").remedy("Choose a cluster elsewhere: the bytes go there."));
    }
    found.cloned()
}

/// A network that ends at each host.
fn alone(estate: &Estate, cluster: &Cluster) -> Option<Arc<Network>> {
    let mut all = estate.networks.values();
    all.find(|n| n.cluster == cluster.id && n.ready && n.is_isolated() && n.subnets.is_empty()).cloned()
}

fn said(draft: &mut Draft<'_>, kept: &Had, alone: Option<&Network>, must: usize) {
    let name = &kept.name;
    let at = match alone {
        Some(network) => format!("on {}, which ends at its host", network.name),
        None => "on no network".into(),
    };
    let text = format!("The copy keeps the identity of {name} and stands {at}: nobody else hears of it. It is removed for good, whatever comes of it.");
    draft.found(Finding::clear(Rule::Identity, name, text));
    let text = match must {
        0 => format!("Nobody said what {name} must answer: it is proven if the agent in its guest answers."),
        1 => format!("The agent in its guest must answer, and then one question that {name} must answer."),
        n => format!("The agent in its guest must answer, and then {n} questions that {name} must answer."),
    };
    draft.found(Finding::clear(Rule::Guest, name, text));
}

/// The machine that is made of it.
fn copy(estate: &Estate, kept: &Had, (at, cluster): (AnyPoint, ClusterId), alone: Option<&Network>) -> CreateMachines {
    let disk = |size| NewDisk { size, provisioning: Provisioning::Thin };
    let card = NewNic { network: alone.map(|n| n.id), address: None };
    CreateMachines {
        pattern: name(estate, &kept.name).into(),
        count: 1,
        cluster: Some(cluster),
        qualities: Default::default(),
        pledge: None,
        volume: None,
        host: None,
        vcpus: kept.vcpus,
        memory: Memory { kept: kept.memory, size: kept.memory, max: kept.memory },
        disks: kept.disks.iter().copied().map(disk).collect(),
        nics: vec![card; kept.cards],
        copied: Some(Copied { source: at.into(), dependent: false, seal: false }),
        taken: None,
        firmware: FirmwareWish { kind: Some(kept.firmware), chip: None },
        image: None,
        first_boot: None,
        document: None,
        labels: Default::default(),
        tier: 4,
        protected: false,
        apart: false,
        note: "It proves a recovery point, and goes by itself.".into(),
        start: true,
    }
}

/// `proof-ledger`, or with a number that is not taken.
fn name(estate: &Estate, of: &str) -> String {
    let usual = format!("proof-{of}");
    let numbered = (2u32..).map(|n| format!("proof{n}-{of}"));
    let mut all = std::iter::once(usual).chain(numbered);
    all.find(|n| estate.machine_named(n).is_none()).unwrap_or_default()
}

/// In place of waiting for the guest it is asked.
fn asks(at: AnyPoint, limit: Span, must: Vec<crate::estate::Question>) -> impl Fn(machines::Step) -> Step {
    let host = std::cell::Cell::new(HostId(0));
    move |step| {
        if let machines::Step::Start { host: on, .. } = step {
            host.set(on);
        }
        match step {
            machines::Step::AwaitGuest { machine, .. } => Step::Try(answers::Step::Try {
                machine,
                host: host.get(),
                point: Some(at),
                limit,
                must: must.clone(),
            }),
            other @ (machines::Step::Create { .. }
            | machines::Step::Copy { .. }
            | machines::Step::Start { .. }
            | machines::Step::AskStop { .. }
            | machines::Step::AwaitOff { .. }
            | machines::Step::Off { .. }
            | machines::Step::Delete { .. }
            | machines::Step::Recover { .. }
            | machines::Step::Purge { .. }) => Step::Machine(other),
        }
    }
}

/// Everybody knows what it is there for, and nobody brings it back where its host fails.
fn marks(at: AnyPoint) -> impl Fn(machines::Event) -> Event {
    move |event| {
        let machines::Event::Planned(machine) = event else {
            return Event::Machine(event);
        };
        let proves = Some(Box::new(at));
        Event::Machine(machines::Event::Planned(Box::new(Machine { proves, restarts: false, ..*machine })))
    }
}

/// Off, deleted, removed for good.
fn gone(draft: &mut Draft<'_>, machine: MachineId, host: HostId, after: usize) {
    let off = Step::Machine(machines::Step::Off { machine });
    let off = draft.step(off, "Power the copy off".into(), &[after], None);
    clear::removed(draft, machine, host, &[off]);
}
