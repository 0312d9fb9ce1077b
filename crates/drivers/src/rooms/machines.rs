//! Machines at the hosts that run them.

use super::templates::failed;
use crate::{
    Drivers, Outcome, Turn,
    agent::{Agent, Card, Cards, WireAsOf, record},
    perform::{done, premise, stamp},
};
use serde_json::json;
use uuid::Uuid;
use zastrugi_core::{
    copying::Source,
    estate::{Estate, Host, Machine, MachineState, Nic, Wanted},
    ids::{HostId, VolumeId},
    moment::{Moment, Span},
    rooms::{
        Event,
        machines::{self, AfterGrace, Copied, Step},
        networks,
    },
    runs::{Fault, FaultKind},
};

impl Drivers {
    /// A copy that nobody wants ends, and nothing of it is left.
    pub(crate) async fn give_up_machine(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Copy {
            machine,
            via,
            copied,
            ..
        } = step
        else {
            return self.at_machine(estate, step, turn).await;
        };
        let host = self.host_of(estate, *via)?;
        let machine = estate.machines.get(machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        agent.end_copy(stamp(turn), &machine.uuid).await?;
        if matches!(copied.source, Source::Point(_)) {
            self.end_delivery(estate, delivery(host, machine)?, turn)
                .await?;
        }
        let said = "nothing is left of it".into();
        Ok(Outcome::NotYet { said })
    }

    pub(crate) async fn at_machine(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let machine = estate.machines.get(&step.machine());
        let host = step.host().or_else(|| machine?.host);
        let waits = matches!(
            step,
            Step::AwaitOff { .. }
                | Step::AwaitGuest { .. }
                | Step::Off { .. }
                | Step::AskStop { .. }
        );
        if waits && host.is_none_or(|h| !estate.hosts.contains_key(&h)) {
            return without_host(step, machine.map(|m| &**m));
        }
        let host = host.ok_or_else(|| premise("There is no host to do this at."))?;
        let host = self.host_of(estate, host)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        if matches!(step, Step::AskStop { .. })
            && let Some(waits) = self.drained(estate, machine, turn).await?
        {
            return Ok(waits);
        }
        match step {
            Step::Create { .. } => {
                let cards = self.cards(estate, machine).await?;
                create(&agent, estate, machine, &cards, turn).await
            }
            Step::Copy { copied, .. } => {
                let cards = self.cards(estate, machine).await?;
                let from = match copied.source {
                    Source::Point(at) => {
                        // Made before an answer was lost, it has what was brought: nothing is brought again.
                        if agent.machine_if_any(&machine.uuid).await?.is_none() {
                            let to = delivery(host, machine)?;
                            let brought = self.bring_point(estate, to, (at, None), turn).await?;
                            if matches!(brought, Outcome::NotYet { .. }) {
                                return Ok(brought);
                            }
                        }
                        json!({"delivery": {"volume": home(estate, machine), "id": machine.uuid}})
                    }
                    other @ (Source::Template { .. }
                    | Source::Machine { .. }
                    | Source::Package { .. }) => self.origin(estate, other).await?,
                };
                copy(&agent, estate, machine, (copied, from, &cards), turn).await
            }
            Step::Start { .. }
            | Step::AwaitGuest { .. }
            | Step::AskStop { .. }
            | Step::AwaitOff { .. }
            | Step::Off { .. }
            | Step::Delete { .. }
            | Step::Purge { .. } => act(&agent, estate, (host, machine), step, turn).await,
            Step::Recover { cards, .. } => {
                let mut done = act(&agent, estate, (host, machine), step, turn).await?;
                if let (Some(cards), Outcome::Done { events, .. }) = (cards, &mut done) {
                    events.extend(recarded(&agent, estate, machine, cards, turn).await?);
                }
                Ok(done)
            }
        }
    }
}

/// Where disks are brought that a new machine is made with; they have its number.
fn delivery(host: &Host, machine: &Machine) -> Result<(HostId, VolumeId, Uuid), Fault> {
    let first = machine.disks.first();
    let first = first.ok_or_else(|| premise("It has no disks."))?;
    Ok((host.id, first.volume, machine.uuid))
}

/// The identity of the volume that its record lies on.
pub(crate) fn home<'a>(estate: &'a Estate, machine: &Machine) -> Option<&'a str> {
    let first = machine.disks.first()?;
    let volume = estate.volumes.get(&first.volume)?;
    Some(volume.uid.as_str())
}

async fn act(
    agent: &Agent<'_>,
    estate: &Estate,
    (host, machine): (&Host, &Machine),
    step: &Step,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let (uuid, id) = (&machine.uuid, machine.id);
    match step {
        Step::Create { .. } | Step::Copy { .. } => Err(premise("It is made elsewhere.")),
        Step::Start { .. } => {
            let generation = machine.generation + 1;
            let by = home(estate, machine);
            let fell = machine.fell.as_ref();
            let proof = fell.and_then(|f| f.proved.as_deref());
            let proved: Vec<_> = proof
                .map(|serial| (serial, machine.generation))
                .into_iter()
                .collect();
            let said = agent
                .power_on(stamp(turn), (uuid, by), generation, &proved, None)
                .await?;
            let had = said.generation.unwrap_or(generation);
            let starting = MachineState::Starting("firmware".into());
            let seen = seen(machine, host, starting, (had, said.as_of));
            Ok(done(vec![seen], "on"))
        }
        Step::AwaitGuest { limit, .. } => await_guest(agent, host, machine, *limit, turn).await,
        Step::AskStop { .. } => {
            agent.power(stamp(turn), uuid, "stop").await?;
            Ok(done(vec![], "asked"))
        }
        Step::AwaitOff { grace, then, .. } => {
            await_off(agent, host, machine, (*grace, *then), turn).await
        }
        Step::Off { .. } => {
            let said = agent.power(stamp(turn), uuid, "off").await?;
            let word = (machine.generation, said.as_of);
            Ok(done(
                vec![seen(machine, host, MachineState::Off, word)],
                "off",
            ))
        }
        Step::Delete { .. } => {
            agent.set_deleted(stamp(turn), uuid, true).await?;
            Ok(done(
                vec![Event::Machines(machines::Event::Deleted {
                    machine: id,
                    at: turn.now,
                })],
                "kept for recovery",
            ))
        }
        Step::Recover { start, .. } => {
            agent.set_deleted(stamp(turn), uuid, false).await?;
            let mut events = vec![machines::Event::Recovered { machine: id }];
            events.extend(start.map(|host| machines::Event::Wanted {
                machine: id,
                wanted: Wanted::On,
                host: Some(host),
            }));
            if machine.state == MachineState::Planned {
                let there = agent.machine(uuid).await?;
                events.push(machines::Event::Made {
                    machine: id,
                    guest_key: there.guest_key.unwrap_or_default(),
                });
            }
            let events = events.into_iter().map(Event::Machines).collect();
            Ok(done(events, "back"))
        }
        Step::Purge { .. } => {
            if machine.state == MachineState::Planned && !marked(agent, host, machine, turn).await?
            {
                return Ok(done(removed(machine, turn.now), "it was never created"));
            }
            agent.remove(stamp(turn), uuid).await?;
            Ok(done(removed(machine, turn.now), "removed"))
        }
    }
}

/// Its cards are on other networks from now on; addresses that it gives up rest.
async fn recarded(
    agent: &Agent<'_>,
    estate: &Estate,
    machine: &Machine,
    cards: &[Nic],
    turn: Turn<'_>,
) -> Result<Vec<Event>, Fault> {
    let key = format!("{}-cards", turn.key);
    let turn = Turn { key: &key, ..turn };
    let named = |nic: &Nic| {
        let network = nic.network.and_then(|id| estate.networks.get(&id));
        network.map(|n| n.name.clone())
    };
    let card = |c: &Nic| Card {
        mac: c.mac.clone(),
        network: named(c),
        addresses: None,
    };
    let all: Vec<Card> = cards.iter().map(card).collect();
    agent.cards(stamp(turn), &machine.uuid, &all).await?;
    let changed = machine
        .nics
        .iter()
        .zip(cards)
        .filter(|(was, now)| was != now);
    let released = changed
        .filter(|(was, _)| !was.addresses.is_empty())
        .filter_map(|(was, _)| {
            Some(Event::Networks(networks::Event::AddressesReleased {
                network: was.network?,
                addresses: was.addresses.clone(),
                at: turn.now,
            }))
        });
    let nics = Event::Machines(machines::Event::Nics {
        machine: machine.id,
        nics: cards.to_vec(),
    });
    Ok(released.chain([nics]).collect())
}

/// A machine that may never have been created: whether it is there, then marked for removal.
async fn marked(
    agent: &Agent<'_>,
    host: &Host,
    machine: &Machine,
    turn: Turn<'_>,
) -> Result<bool, Fault> {
    if !machine
        .disks
        .iter()
        .all(|d| host.mounts.contains_key(&d.volume))
    {
        let said = format!("{} doesn't mount the volume, so it can't look.", host.name);
        return Err(Fault::new(
            FaultKind::Refused,
            said,
            "Bring the volume back at a host, then retry.",
        ));
    }
    let Some(there) = agent.machine_if_any(&machine.uuid).await? else {
        return Ok(false);
    };
    if !there.deleted {
        let key = format!("{}-mark", turn.key);
        let turn = Turn { key: &key, ..turn };
        agent.set_deleted(stamp(turn), &machine.uuid, true).await?;
    }
    Ok(true)
}

/// What it boots from, in the volume's own words.
pub(super) fn boot(estate: &Estate, machine: &Machine) -> serde_json::Value {
    let attached = machine.boot.attached;
    let image = attached.and_then(|a| {
        let volume = estate.volumes.get(&a.volume)?;
        Some((volume.uid.as_str(), &estate.images.get(&a.image)?.uuid))
    });
    crate::agent::boot(&machine.boot, image)
}

/// A machine's end; the addresses that it gives up rest before somebody gets them again.
fn removed(machine: &Machine, at: Moment) -> Vec<Event> {
    let with = machine.nics.iter().filter(|n| !n.addresses.is_empty());
    let released = with.filter_map(|nic| {
        Some(Event::Networks(networks::Event::AddressesReleased {
            network: nic.network?,
            addresses: nic.addresses.clone(),
            at,
        }))
    });
    let machine = machine.id;
    released
        .chain([Event::Machines(machines::Event::Purged { machine })])
        .collect()
}

/// A machine that is on no host: what is that for a step that waits for it?
fn without_host(step: &Step, machine: Option<&Machine>) -> Result<Outcome, Fault> {
    let name = machine.map_or("The machine", |m| m.name.as_str());
    match step {
        Step::AwaitOff { .. } | Step::AskStop { .. } | Step::Off { .. } => {
            Ok(done(vec![], "it is off"))
        }
        Step::Create { .. }
        | Step::Copy { .. }
        | Step::Start { .. }
        | Step::AwaitGuest { .. }
        | Step::Delete { .. }
        | Step::Recover { .. }
        | Step::Purge { .. } => Err(Fault::new(
            FaultKind::Refused,
            format!("{name} is off; somebody or something stopped it."),
            "Power it on again, or cancel the run.",
        )),
    }
}

/// `word`: the generation that the host says, and where in its sequence it says so.
pub(crate) fn seen(
    machine: &Machine,
    host: &Host,
    state: MachineState,
    (generation, as_of): (u64, Option<WireAsOf>),
) -> Event {
    let place = (state != MachineState::Off).then_some(host.id);
    Event::Machines(machines::Event::Seen {
        machine: machine.id,
        state,
        host: place,
        generation,
        as_of: as_of.map(|a| a.at(host.id)),
    })
}

async fn create(
    agent: &Agent<'_>,
    estate: &Estate,
    machine: &Machine,
    cards: &Cards,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let volume = machine.disks.first();
    let volume = volume.and_then(|d| estate.volumes.get(&d.volume));
    let volume = volume.map_or("", |v| v.uid.as_str());
    let boot = boot(estate, machine);
    let made = agent
        .create(stamp(turn), machine, volume, cards, boot)
        .await?;
    let event = Event::Machines(machines::Event::Made {
        machine: machine.id,
        guest_key: made.guest_key,
    });
    Ok(done(vec![event], "created"))
}

/// Made with disks that hold what others hold; the host copies by itself, and is asked how far it is.
async fn copy(
    agent: &Agent<'_>,
    estate: &Estate,
    machine: &Machine,
    (copied, from, cards): (&Copied, serde_json::Value, &Cards),
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let volume = machine.disks.first();
    let volume = volume.and_then(|d| estate.volumes.get(&d.volume));
    let volume = volume.map_or("", |v| v.uid.as_str());
    let body = record(machine, volume, cards, &boot(estate, machine));
    let from = json!({"from": from, "dependent": copied.dependent, "seal": copied.seal});
    let said = agent.copy(stamp(turn), machine, body, from).await?;
    match said.stage.as_str() {
        "done" => {
            let words = format!("{} copied in {}", said.copied(), said.took());
            let made = machines::Event::Copied {
                machine: machine.id,
                guest_key: said.guest_key.clone(),
                sealed: said.sealed(),
                copied: said.copied(),
                took: said.took(),
            };
            Ok(done(vec![Event::Machines(made)], words))
        }
        "failed" => Err(failed(&machine.name, &said)),
        _ => Ok(Outcome::NotYet { said: said.said() }),
    }
}

async fn await_guest(
    agent: &Agent<'_>,
    host: &Host,
    machine: &Machine,
    limit: Span,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let now = agent.machine(&machine.uuid).await?;
    let word = (now.generation, now.as_of);
    match now.state() {
        MachineState::Running { guest: true } => Ok(done(
            vec![seen(
                machine,
                host,
                MachineState::Running { guest: true },
                word,
            )],
            "answers",
        )),
        MachineState::Off => without_host(
            &Step::AwaitGuest {
                machine: machine.id,
                limit,
                installs: false,
            },
            Some(machine),
        ),
        state @ (MachineState::Planned
        | MachineState::Starting(_)
        | MachineState::Running { .. }
        | MachineState::Stopping
        | MachineState::Paused(_)) => not_up(machine, state, turn.waited >= limit, limit),
    }
}

/// It is on and its guest does not answer, perhaps for too long.
fn not_up(
    machine: &Machine,
    state: MachineState,
    too_long: bool,
    limit: Span,
) -> Result<Outcome, Fault> {
    if too_long {
        let said = format!("{} has not answered for {limit}.", machine.name);
        let remedy = if matches!(state, MachineState::Running { .. }) {
            "It runs, but its guest agent is silent: look whether it is installed. Retry waits again."
        } else {
            "It has not finished booting. Look at it, then retry to wait again."
        };
        return Err(Fault::new(FaultKind::Refused, said, remedy));
    }
    let said = if let MachineState::Starting(phase) = state {
        phase
    } else {
        "up; waiting for its agent".into()
    };
    Ok(Outcome::NotYet { said })
}

async fn await_off(
    agent: &Agent<'_>,
    host: &Host,
    machine: &Machine,
    (grace, then): (Span, AfterGrace),
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let now = agent.machine(&machine.uuid).await?;
    let off = |as_of: Option<WireAsOf>, said: &str| {
        let seen = seen(machine, host, MachineState::Off, (now.generation, as_of));
        Ok(done(vec![seen], said))
    };
    if now.state() == MachineState::Off {
        return off(now.as_of, "stopped by itself");
    }
    if turn.waited < grace {
        return Ok(Outcome::NotYet {
            said: "stopping".into(),
        });
    }
    match then {
        AfterGrace::PowerOff => {
            let said = agent.power(stamp(turn), &machine.uuid, "off").await?;
            off(said.as_of, "powered off after the time was up")
        }
        AfterGrace::LeaveOn => Err(Fault::new(
            FaultKind::Refused,
            format!(
                "{} has not stopped within {grace}; it is still on.",
                machine.name
            ),
            "Retry waits as long again. Or cancel, and power it off.",
        )),
    }
}
