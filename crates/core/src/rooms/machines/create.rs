//! Creating machines.

use super::{Copied, CreateMachines, Draft, Event, Step, brought, copied, firmware, pools, promised, taken, told};
use crate::{
    addressing::{for_guests, next_free},
    booting,
    copying::Original,
    estate::{Attached, Boot, Cluster, Disk, Host, Machine, MachineState, Nic, Wanted},
    finding::{Finding, Rule},
    ids::{HostId, MachineId, VolumeId, draw_uuid},
    limits,
    moment::Span,
    names,
    pledges::Lies,
    placement::{Among, Ledger, NotPlaced, Obstacle, choose_all, choose_volume, clear_checks},
    units::Bytes,
};
use std::{collections::BTreeSet, sync::Arc};

/// How long a new guest may take until its agent answers.
const BOOT_LIMIT: Span = Span::mins(5);
const VIDEO: Bytes = Bytes::mib(16);
const VIRTUAL_HARDWARE: u32 = 3;

pub(crate) fn create(draft: &mut Draft<'_>, ask: &CreateMachines) {
    let names = wanted_names(draft, ask);
    check_sizes(draft, ask);
    check_labels(draft, ask);
    let Some(cluster) = cluster_of(draft, ask) else {
        return;
    };
    let Ok(origin) = copied::original(draft, ask, cluster) else {
        return;
    };
    let boots = firmware::wished(draft, ask, origin.as_ref());
    let machines: Vec<Machine> = names
        .iter()
        .map(|name| Machine {
            firmware: Some(Box::new(boots.clone())),
            ..blank(draft, ask, cluster, name, origin.as_ref())
        })
        .collect();
    let mut machines = addressed(draft, ask, cluster, machines);
    told::document(draft, ask, &mut machines);
    taken::apply(draft, ask, &mut machines);
    brought::apply(draft, ask, &mut machines);
    if let Some(first) = machines.first() {
        draft.found_all(booting::check(draft.estate(), first, &first.boot));
        draft.found_all(booting::out_of_reach(first));
        draft.found_all(first_boot(ask));
    }
    draft.title = match machines.as_slice() {
        [one] => format!("Create {} on {}", one.name, cluster.name),
        many => format!(
            "Create {} machines on {}, {} …",
            many.len(),
            cluster.name,
            many.first().map_or("", |m| m.name.as_str())
        ),
    };
    let with = |volume: VolumeId| {
        let mut machines = machines.clone();
        for disk in machines.iter_mut().flat_map(|m| &mut m.disks) {
            disk.volume = volume;
        }
        machines
    };
    let dependent = ask.copied.is_some_and(|c| c.dependent);
    let parents = origin.as_ref().filter(|_| dependent).and_then(Original::volume);
    promised::exists(draft, ask);
    let estate = draft.estate();
    let (first, now) = (machines.first().cloned(), draft.now);
    let among = Among {
        qualities: &ask.qualities,
        only: ask.volume.or(parents),
        breaks: &|volume| Lies::on(estate, volume).lacks(first.as_ref()?, now),
    };
    match choose_volume(draft.view, cluster, with, among, ask.start) {
        Ok(choice) => {
            draft.found_all(choice.findings);
            draft.found_all(promised::told(draft, first.as_ref(), choice.volume));
            copied::room(draft, ask, origin.as_ref(), choice.volume);
            place(draft, ask, cluster, with(choice.volume));
        }
        Err(mut found) => {
            // Whoever chose one is told of that one.
            if ask.volume.is_none() {
                pools::offered(draft.estate(), cluster, &machines, draft.now, &mut found);
            }
            draft.found_all(found);
            // The hosts are looked at all the same: everything that is wrong is said at once.
            place(draft, ask, cluster, machines);
        }
    }
}

fn wanted_names(draft: &mut Draft<'_>, ask: &CreateMachines) -> Vec<String> {
    let names = match names::spread(&ask.pattern, ask.count) {
        Ok(names) => names,
        Err(words) => {
            let field = if !names::may_be_made(ask.count) {
                "count"
            } else {
                "name"
            };
            draft.found(
                Finding::stop(
                    if field == "count" {
                        Rule::Count
                    } else {
                        Rule::Name
                    },
                    field,
                    words,
                )
                .at(field),
            );
            return Vec::new();
        }
    };
    let taken: Vec<_> = names
        .iter()
        .filter(|n| draft.estate().machine_named(n).is_some())
        .cloned()
        .collect();
    if let Some(first) = taken.first() {
        let recoverable = draft
            .estate()
            .machine_named(first)
            .is_some_and(|m| m.deleted.is_some());
        let rest = if taken.len() > 1 {
            format!(" and {} more", taken.len() - 1)
        } else {
            String::new()
        };
        let why = if recoverable {
            "; it was deleted and can still be brought back"
        } else {
            ""
        };
        let text = format!("There is a machine {first}{rest} already{why}.");
        draft.found(
            Finding::stop(Rule::Name, first, text)
                .at("name")
                .remedy("Choose another name or number."),
        );
    } else {
        draft.found(Finding::clear(
            Rule::Name,
            "names",
            format!("{} names are unused.", names.len()),
        ));
    }
    names
}

fn check_sizes(draft: &mut Draft<'_>, ask: &CreateMachines) {
    let memory = &ask.memory;
    let mut stop =
        |rule, field: &str, text: &str| draft.found(Finding::stop(rule, field, text).at(field));
    if ask.vcpus == 0 {
        stop(Rule::Cores, "vcpus", "At least one vCPU.");
    }
    if memory.size < Bytes::mib(64) {
        stop(Rule::Memory, "memory", "At least 64 MiB of memory.");
    }
    if memory.kept > memory.size {
        stop(
            Rule::Memory,
            "kept",
            "No more can be always kept than its memory size.",
        );
    }
    if memory.max < memory.size {
        stop(Rule::Memory, "max", "It can't grow to less than its size.");
    }
    if ask.disks.is_empty() {
        stop(Rule::Disk, "disks", "A machine needs at least one disk.");
    }
    if let Err(words) = limits::DISKS.check(ask.disks.len()) {
        stop(Rule::Disk, "disks", &words);
    }
    if let Err(words) = limits::CARDS.check(ask.nics.len()) {
        stop(Rule::Count, "nics", &words);
    }
    for (i, disk) in ask.disks.iter().enumerate() {
        if disk.size == Bytes::ZERO {
            stop(
                Rule::Disk,
                "disks",
                &format!("Disk {} has no size; give it at least 1 MiB.", i + 1),
            );
        } else if disk.size < Bytes::mib(1) {
            stop(
                Rule::Disk,
                "disks",
                &format!("Disk {} is smaller than 1 MiB.", i + 1),
            );
        }
    }
    if !(1..=4).contains(&ask.tier) {
        stop(Rule::State, "tier", "Restart tiers go from 1 (first) to 4.");
    }
}

fn check_labels(draft: &mut Draft<'_>, ask: &CreateMachines) {
    let labels = ask.labels.iter().map(|(k, v)| (k.as_str(), v.as_str()));
    if let Err(words) = names::check_labels(labels) {
        draft.found(Finding::stop(Rule::Label, "labels", words).at("labels"));
    }
}

fn cluster_of<'a>(draft: &mut Draft<'a>, ask: &CreateMachines) -> Option<&'a Cluster> {
    let found = ask.cluster.and_then(|id| draft.estate().clusters.get(&id));
    match found {
        None => {
            let text = if draft.estate().clusters.is_empty() {
                "There is no cluster yet; machines live in one."
            } else {
                "Choose the cluster that the machines belong to."
            };
            draft.found(Finding::stop(Rule::Exists, "cluster", text).at("cluster"));
        }
        Some(cluster) if !cluster.ready => {
            let text = format!("{} is still being made.", cluster.name);
            draft.found(Finding::stop(Rule::State, &cluster.name, text).at("cluster"));
            return None;
        }
        Some(_) => {}
    }
    found.map(|c| &**c)
}

/// A MAC address of this installation's range that nobody in the estate has.
fn free_mac(draft: &Draft<'_>, number: u64) -> String {
    (0u64..)
        .map(|try_| draft.view.macs.draw(number.wrapping_mul(31).wrapping_add(try_)))
        .find(|mac| draft.estate().machine_with_mac(mac).is_none())
        .unwrap_or_default()
}

fn boot_of(draft: &Draft<'_>, ask: &CreateMachines) -> Boot {
    let image = ask.image.and_then(|i| draft.estate().images.get(&i));
    Boot {
        attached: image.map(|i| Attached {
            image: i.id,
            volume: i.volume,
        }),
        once: ask.first_boot,
        ..Boot::default()
    }
}

fn first_boot(ask: &CreateMachines) -> Option<Finding> {
    let from = ask.first_boot?;
    let text = format!("The first boot is from the {from}, once; afterwards from the disk.");
    Some(Finding::clear(Rule::Disk, "boot", text))
}

fn blank(
    draft: &mut Draft<'_>,
    ask: &CreateMachines,
    cluster: &Cluster,
    name: &str,
    origin: Option<&Original>,
) -> Machine {
    let id = MachineId(draft.number());
    Machine {
        id,
        uuid: draw_uuid(draft.run().0, id.0, draft.now.0.unsigned_abs()),
        name: name.to_owned(),
        cluster: Some(cluster.id),
        host: None,
        arriving: None,
        state: MachineState::Planned,
        wanted: if ask.start { Wanted::On } else { Wanted::Off },
        vcpus: ask.vcpus,
        memory: ask.memory,
        video: VIDEO,
        disks: ask
            .disks
            .iter()
            .zip(1u64..)
            .map(|(d, n)| Disk {
                key: draw_uuid(draft.run().0, id.0, draft.now.0.unsigned_abs().wrapping_add(n)),
                size: d.size,
                provisioning: copied::provisioning(ask, d.provisioning),
                volume: VolumeId(0),
            })
            .collect(),
        nics: ask
            .nics
            .iter()
            .zip(0u64..)
            .map(|(wish, n)| Nic {
                mac: free_mac(draft, id.0 + n * 1_000_003),
                network: wish.network,
                addresses: vec![],
            })
            .collect(),
        boot: boot_of(draft, ask),
        labels: ask.labels.iter().map(|(k, v)| (k.into(), v.into())).collect(),
        tier: ask.tier,
        restarts: true,
        after: None,
        carries: false,
        protected: ask.protected,
        apart: ask.apart.then(|| format!("run-{}", draft.run().0)),
        generation: 0,
        as_of: None,
        generation_id: None,
        guest_key: None,
        deleted: None,
        note: (&ask.note).into(),
        found_as: None,
        entered: None,
        fell: None,
        virtual_hardware: VIRTUAL_HARDWARE,
        created: draft.now,
        moved: None,
        vcpus_max: 0,
        now: None,
        grows: Default::default(),
        snapshots: Default::default(),
        parent: copied::parent(ask),
        first_boot: None,
        properties: Default::default(),
        shares: vec![],
        pledged: promised::by_hand(ask),
        firmware: None,
        of_pool: None,
        console_lock: None,
        made_from: origin.map(|o| o.words.clone()).unwrap_or_default(),
        must: vec![],
        proves: None,
        replica: None,
        crossed: None,
        was: vec![],
        points: vec![],
    }
}

/// Gives every card its address: the one asked for, else the next free of its network.
fn addressed(
    draft: &mut Draft<'_>,
    ask: &CreateMachines,
    cluster: &Cluster,
    mut machines: Vec<Machine>,
) -> Vec<Machine> {
    let mut found = Vec::new();
    for (i, wish) in ask.nics.iter().enumerate() {
        let network = wish.network.and_then(|n| draft.estate().networks.get(&n));
        let Some(network) = network else { continue };
        let name = &network.name;
        let stop = |text: String| Finding::stop(Rule::Address, name, text).at("nics");
        if network.cluster != cluster.id || !network.ready {
            found.push(stop(format!("{name} is no network of {}.", cluster.name)));
            continue;
        }
        let mut taken: BTreeSet<_> = network.taken(draft.estate()).into_keys().collect();
        if let Some(address) = wish.address {
            let usable = for_guests(network, address);
            if machines.len() > 1 {
                found.push(stop("Several machines can't have one address.".into()));
            } else if let Err(words) = usable {
                found.push(stop(words));
            } else if taken.contains(&address) {
                let who = network.taken(draft.estate()).remove(&address);
                let who = who.map_or_else(String::new, |(who, _)| who);
                found.push(stop(format!("{address} is taken: {who}.")));
            }
            for machine in &mut machines {
                machine.nics[i].addresses = vec![address];
            }
            continue;
        }
        for machine in &mut machines {
            for answer in next_free(network, &taken, draft.now) {
                match answer {
                    Ok(address) => {
                        taken.insert(address);
                        machine.nics[i].addresses.push(address);
                    }
                    Err(words) => found.push(stop(words)),
                }
            }
        }
    }
    found.dedup();
    if found.is_empty() && ask.nics.iter().any(|n| n.network.is_some()) {
        let first = machines.first().map(|m| {
            let all = m.nics.iter().flat_map(|n| &n.addresses);
            all.map(ToString::to_string).collect::<Vec<_>>().join(", ")
        });
        if let Some(words) = first.filter(|w| !w.is_empty()) {
            let text = format!("Addresses are free, beginning with {words}.");
            found.push(Finding::clear(Rule::Address, "addresses", text));
        }
    }
    draft.found_all(found);
    machines
}

fn place(draft: &mut Draft<'_>, ask: &CreateMachines, cluster: &Cluster, machines: Vec<Machine>) {
    if !ask.start {
        return made_off(draft, ask, cluster, machines);
    }
    let hosts: Vec<_> = draft.estate().hosts_in(cluster.id).cloned().collect();
    let before = Ledger::of(draft.view, hosts, &BTreeSet::new());
    let mut after = before.clone();
    let answers = choose_all(draft.view, &mut after, cluster, &machines, ask.host);
    let mut homeless = Vec::new();
    for (mut machine, answer) in machines.into_iter().zip(answers) {
        match answer {
            Ok(placed) => {
                machine.host = Some(placed.choice.host);
                draft.lists(&machine, machine.host);
                draft.placed(&machine, &placed.choice);
                add_steps(draft, ask, machine);
            }
            Err(why) => homeless.push((machine, why)),
        }
    }
    if homeless.is_empty() {
        let checks = clear_checks();
        let text = format!("Every machine has a host: {checks} checks for each on every host.");
        draft.found(Finding::clear(Rule::Placement, "placement", text));
    } else {
        draft.found(nowhere(draft, ask, &homeless));
    }
    draft.filled(&before, &after);
}

/// Machines that are made and stay off hold no memory; what their start would need is judged when they are started. What
/// could never start anywhere is refused all the same.
fn made_off(draft: &mut Draft<'_>, ask: &CreateMachines, cluster: &Cluster, machines: Vec<Machine>) {
    let hosts: Vec<_> = draft.estate().hosts_in(cluster.id).cloned().collect();
    let mut full = Ledger::of(draft.view, hosts, &BTreeSet::new());
    let answers = choose_all(draft.view, &mut full, cluster, &machines, ask.host);
    let mut homeless = Vec::new();
    for (machine, answer) in machines.into_iter().zip(answers) {
        let via = match answer {
            Ok(placed) => Some(placed.choice.host),
            Err(why) => {
                let via = makes(draft, cluster, &machine);
                homeless.push((machine.clone(), why));
                via
            }
        };
        if let Some(via) = via {
            draft.lists(&machine, None);
            make(draft, machine, via, ask.copied);
        }
    }
    let never = |why: &NotPlaced| {
        let wide = |o: &Obstacle| matches!(o, Obstacle::MoreVcpusThanThreads { .. });
        why.never.is_some() || why.refused.iter().all(|(_, found)| found.iter().any(|o| wide(o) || beneath(o)))
    };
    if homeless.iter().any(|(_, why)| never(why)) {
        return draft.found(nowhere(draft, ask, &homeless));
    }
    let text = "They are made off and hold no memory. Whether there is room is looked at when they are powered on.";
    draft.found(match homeless.first() {
        None => Finding::clear(Rule::Placement, "placement", text),
        Some((first, why)) => {
            let who = match homeless.len() {
                1 => first.name.clone(),
                n => format!("{n} of them"),
            };
            let said = format!("There is no room now to power {who} on. {text}");
            Finding::mind(Rule::Placement, &first.name, said).because(why.evidence(draft.estate()))
        }
    });
}

/// What a machine needs of a host also while it is off: its volume, its networks, and that the host answers.
fn beneath(obstacle: &Obstacle) -> bool {
    matches!(
        obstacle,
        Obstacle::NotOpen { .. } | Obstacle::NoPath { .. } | Obstacle::Network { known: true, .. }
    )
}

/// A host that can make a machine it has no room for.
fn makes(draft: &Draft<'_>, cluster: &Cluster, machine: &Machine) -> Option<HostId> {
    let reaches = |h: &&Arc<Host>| {
        h.accepts_work() && machine.volumes().iter().all(|v| h.paths_up(*v) > 0)
    };
    draft.estate().hosts_in(cluster.id).find(reaches).map(|h| h.id)
}

/// One finding for all machines that found no host, with the numbers of the first.
fn nowhere(draft: &Draft<'_>, ask: &CreateMachines, homeless: &[(Machine, NotPlaced)]) -> Finding {
    let (machine, why) = &homeless[0];
    let evidence = why.evidence(draft.estate());
    let who = if homeless.len() == 1 {
        machine.name.clone()
    } else {
        format!("{} machines", homeless.len())
    };
    let wide = why.refused.iter().all(|(_, found)| {
        found
            .iter()
            .any(|o| matches!(o, Obstacle::MoreVcpusThanThreads { .. }))
    });
    let (text, field) = match why.never {
        Some(by) => (
            format!("{who}: larger than any host of the cluster, by {by}."),
            "memory",
        ),
        None if why.refused.is_empty() => (
            format!("{who}: no host of the cluster can take it."),
            "host",
        ),
        None if wide => (
            format!("{who}: more vCPUs than any host has hardware threads."),
            "vcpus",
        ),
        None if ask.host.is_some() => (format!("{who}: the chosen host can't take it."), "host"),
        None => (format!("{who}: no host has room for it."), "memory"),
    };
    Finding::stop(Rule::Placement, &machine.name, text)
        .because(evidence)
        .at(field)
}

fn make(draft: &mut Draft<'_>, machine: Machine, via: HostId, copied: Option<Copied>) -> usize {
    let home = machine.disks.first().map(|d| d.volume);
    let (id, name) = (machine.id, machine.name.clone());
    draft.intend(Event::Planned(Box::new(machine)));
    match copied {
        None => {
            let step = Step::Create { machine: id, via };
            draft.step(step, format!("Create {name}"), &[], Some("disks"))
        }
        Some(copied) => {
            let time = copied::time(draft, &copied, via, home);
            let step = Step::Copy { machine: id, via, copied, time };
            let waits = copied::before(draft, &copied, via);
            draft.step(step, format!("Copy to {name}"), &waits, Some("from"))
        }
    }
}

fn add_steps(draft: &mut Draft<'_>, ask: &CreateMachines, machine: Machine) {
    let (id, name, installs) = (machine.id, machine.name.clone(), booting::installs(&machine));
    let Some(host) = machine.host else { return };
    let made = make(draft, machine, host, ask.copied);
    if ask.start {
        let on = draft.step(
            Step::Start { machine: id, host },
            format!("Power on {name}"),
            &[made],
            Some("host"),
        );
        let wait = Step::AwaitGuest {
            machine: id,
            limit: BOOT_LIMIT,
            installs,
        };
        draft.step(wait, format!("Wait until {name} answers"), &[on], None);
    }
}
