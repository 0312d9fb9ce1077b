//! Steps become calls. The key is the same on every attempt; the device answers a repetition with what it kept.

use crate::{
    Drivers,
    agent::{Agent, Cards, Stamp},
    networks::NotAllowed,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use futures::future::BoxFuture;
use serde_json::json;
use zastrugi_core::{
    estate::{Access, Bmc, Condition, Estate, Host, HostNet, Machine, MachineState, Network},
    event::Event,
    evidence::Answer,
    ids::{HostId, MachineId, Revision, SecretRef},
    moment::{Moment, Span},
    observe::adopt,
    plan::Step,
    proposal::{AfterGrace, Set},
    run::{Fault, FaultKind},
};
use zastrugi_formats::seed::{Card, image};

/// Who we are to a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Installation {
    pub id: String,
    pub name: String,
}

/// Where secrets are sealed and opened.
pub trait Secrets: Send + Sync {
    /// Opens a secret for one call.
    fn open(&self, secret: SecretRef) -> BoxFuture<'_, Result<String, Fault>>;
    /// Seals one that a device gave us.
    fn keep(&self, plain: String) -> BoxFuture<'_, Result<SecretRef, Fault>>;
    fn forget(&self, secret: SecretRef) -> BoxFuture<'_, ()>;
}

/// What came of a step.
#[derive(Debug, Clone, PartialEq)]
pub enum Outcome {
    Done {
        events: Vec<Event>,
        said: String,
    },
    /// It takes longer; ask again.
    NotYet {
        said: String,
    },
    /// Somebody gave it up, and the device can't say yet how it ended; ask again, nothing is written.
    Unsettled,
}

/// One attempt at a step.
#[derive(Debug, Clone, Copy)]
pub struct Turn<'a> {
    pub key: &'a str,
    pub fence: Revision,
    /// Since the step began.
    pub waited: Span,
    pub now: Moment,
}

pub(crate) fn done(events: Vec<Event>, said: impl Into<String>) -> Outcome {
    Outcome::Done {
        events,
        said: said.into(),
    }
}

impl From<NotAllowed> for Fault {
    fn from(why: NotAllowed) -> Fault {
        Fault::new(
            FaultKind::Refused,
            format!("{why}."),
            "Add the network under Settings, or correct the address.",
        )
    }
}

impl Drivers {
    pub(crate) fn allowed(&self, address: &str) -> Result<(), Fault> {
        self.networks().check(address)?;
        Ok(())
    }

    /// The opened key of a claimed host.
    pub(crate) async fn key_of(&self, host: &Host) -> Result<String, Fault> {
        self.allowed(&host.access.address)?;
        match host.access.key {
            Some(secret) => self.secrets.open(secret).await,
            None => Err(Fault::new(
                FaultKind::Refused,
                "The host is not claimed.",
                "Claim it first.",
            )),
        }
    }

    /// Follows what a host reports, until it falls silent.
    ///
    /// # Errors
    /// [`Fault`] when the host can't be reached or refuses.
    pub async fn watch(&self, host: &Host) -> Result<crate::Watch, Fault> {
        let key = self.key_of(host).await?;
        self.agent(host, &key).watch().await
    }

    pub(crate) fn agent<'a>(&'a self, host: &'a Host, key: &'a str) -> Agent<'a> {
        Agent {
            http: &self.http,
            address: &host.access.address,
            pin: &host.access.pin,
            key,
        }
    }

    /// Carries one step out at its device. Safe to repeat with the same key.
    ///
    /// # Errors
    /// [`Fault`] with the device's words and a remedy.
    pub async fn perform(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        if let Step::ReadSwitch { switch } = step {
            return self.at_switch(estate, *switch).await;
        }
        if matches!(step, Step::Move { .. }) {
            return self.at_move(estate, step, turn).await;
        }
        if matches!(step, Step::MoveDisks { .. }) {
            return self.at_disks(estate, step, turn).await;
        }
        if step.array().is_some() {
            return self.at_array(estate, step, turn).await;
        }
        let host = step
            .spoken_to(estate)
            .and_then(|id| estate.hosts.get(&id))
            .ok_or_else(|| {
                Fault::new(
                    FaultKind::Premise,
                    "There is no host to do this at.",
                    "Cancel the run.",
                )
            });
        let machine = step.machine().and_then(|id| estate.machines.get(&id));
        if matches!(
            step,
            Step::AwaitOff { .. }
                | Step::AwaitGuest { .. }
                | Step::Off { .. }
                | Step::AskStop { .. }
        ) && host.is_err()
        {
            return without_host(step, machine.map(|m| &**m));
        }
        let host = host?;
        self.allowed(&host.access.address)?;
        match step {
            Step::Claim { host: id, password } => {
                self.claim(estate, *id, host, *password, turn).await
            }
            Step::Verify { .. } => self.verify(host).await,
            _ => {
                let key = self.key_of(host).await?;
                let agent = self.agent(host, &key);
                self.at_host(&agent, estate, host, machine.map(|m| &**m), step, turn)
                    .await
            }
        }
    }

    /// Tells the device that nobody wants this step any more, where it would go on by itself.
    ///
    /// # Errors
    /// [`Fault`] when the device can't be told.
    pub async fn give_up(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Move { .. } => self.give_up_move(estate, step, turn).await,
            Step::MoveDisks { .. } => self.give_up_disks(estate, step, turn).await,
            _ => self.perform(estate, step, turn).await,
        }
    }

    async fn claim(
        &self,
        estate: &Estate,
        id: HostId,
        host: &Host,
        password: SecretRef,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let password = self.secrets.open(password).await?;
        let agent = Agent {
            http: &self.http,
            address: &host.access.address,
            pin: &host.access.pin,
            key: "",
        };
        let claimed = agent
            .claim(stamp(turn), &self.installation, &password)
            .await?;
        let key = self.secrets.keep(claimed.key).await?;
        let bmc = match claimed.bmc {
            Some(bmc) => {
                let key = self.secrets.keep(bmc.password).await?;
                Some(Bmc {
                    address: bmc.address,
                    pin: bmc.pin,
                    key: Some(key),
                })
            }
            None => None,
        };
        let report = claimed.state.read();
        let ours = Host {
            access: Access {
                key: Some(key),
                ..host.access.clone()
            },
            bmc,
            condition: Condition::Steady,
            seen: (report.boot, report.seq),
            initiator: report.initiator.clone(),
            uplinks: report.uplinks.clone(),
            networks: report.networks.clone(),
            ..host.clone()
        };
        let mut events = vec![Event::HostClaimed(Box::new(ours.clone()))];
        events.extend(report.machines.iter().map(|seen| {
            Event::MachineAdopted(Box::new(adopt(estate, &ours, seen, MachineId(0), turn.now)))
        }));
        debug_assert_eq!(id, host.id);
        Ok(done(
            events,
            format!("{} machines found", report.machines.len()),
        ))
    }

    async fn verify(&self, host: &Host) -> Result<Outcome, Fault> {
        let offset = self.offset(host).await?;
        let bmc = match self.bmc(host).await {
            Ok(Answer::Bmc { serial, .. }) if serial != host.hardware.serial => {
                return Err(Fault::new(
                    FaultKind::Refused,
                    format!(
                        "The controller says serial {serial}; the host says {}.",
                        host.hardware.serial
                    ),
                    "Correct the controller's address on the host, hand it back and claim it again.",
                ));
            }
            Ok(Answer::Bmc { power, .. }) => format!("controller answers, power {power}"),
            Ok(_) => "controller answers".to_owned(),
            Err(fault) => format!("controller does not answer: {}", fault.said),
        };
        Ok(done(vec![], format!("clock {offset} ms off; {bmc}")))
    }

    async fn at_host(
        &self,
        agent: &Agent<'_>,
        estate: &Estate,
        host: &Host,
        machine: Option<&Machine>,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Join {
                cluster, volume, ..
            } => {
                let name = estate.clusters.get(cluster).map_or("", |c| c.name.as_str());
                let seen = agent.join(stamp(turn), name, volume.as_deref()).await?;
                let known = volume.as_ref().and_then(|uid| estate.volume_with_uid(uid));
                Ok(done(
                    joined(estate, host, *cluster, known.map(|v| v.id), seen, turn.now),
                    if volume.is_some() {
                        "mounted"
                    } else {
                        "joined"
                    },
                ))
            }
            Step::SetNetwork { network, .. } | Step::DropNetwork { network, .. } => {
                let gone = || {
                    Fault::new(
                        FaultKind::Premise,
                        "The network is gone.",
                        "Cancel the run.",
                    )
                };
                let network = estate.networks.get(network).ok_or_else(gone)?;
                let set = matches!(step, Step::SetNetwork { .. });
                if set {
                    agent.set_network(stamp(turn), network).await?;
                } else {
                    agent.drop_network(stamp(turn), network).await?;
                }
                let said = if set { "set up" } else { "taken off" };
                Ok(done(vec![networks_of(host, network, set)], said))
            }
            Step::MakeImage { .. }
            | Step::AwaitImage { .. }
            | Step::SealImage { .. }
            | Step::DropImage { .. } => crate::images::at_host(agent, estate, step, turn).await,
            Step::LogIn { .. }
            | Step::Prepare { .. }
            | Step::Mount { .. }
            | Step::Unmount { .. }
            | Step::Fill { .. }
            | Step::Disown { .. } => {
                crate::storage::at_host(agent, estate, host, &self.installation().id, step, turn)
                    .await
            }
            Step::Leave { .. } => {
                agent.leave(stamp(turn)).await?;
                Ok(done(vec![Event::HostLeft { host: host.id }], ""))
            }
            Step::Release { .. } => {
                agent.release(stamp(turn)).await?;
                for secret in [host.access.key, host.bmc.as_ref().and_then(|b| b.key)]
                    .into_iter()
                    .flatten()
                {
                    self.secrets.forget(secret).await;
                }
                Ok(done(vec![Event::HostReleased { host: host.id }], ""))
            }
            _ => {
                let gone = || {
                    Fault::new(
                        FaultKind::Premise,
                        "The machine is gone.",
                        "Cancel the run.",
                    )
                };
                at_machine(agent, estate, host, machine.ok_or_else(gone)?, step, turn).await
            }
        }
    }
}

pub(crate) fn stamp(turn: Turn<'_>) -> Stamp<'_> {
    Stamp {
        key: turn.key,
        fence: turn.fence,
    }
}

/// A member of the cluster, with the volume that it mounted on the way.
fn joined(
    estate: &Estate,
    host: &Host,
    cluster: zastrugi_core::ids::ClusterId,
    volume: Option<zastrugi_core::ids::VolumeId>,
    seen: crate::agent::Seen,
    now: Moment,
) -> Vec<Event> {
    let member = Host {
        cluster: Some(cluster),
        ..host.clone()
    };
    let mut events = vec![Event::HostJoined {
        host: host.id,
        cluster,
    }];
    if let Some(volume) = volume {
        let paths = seen.paths.into_iter().take(64);
        let mut mounts = host.mounts.clone();
        mounts.insert(volume, paths.map(crate::agent::read_path).collect());
        events.push(Event::HostMounts {
            host: host.id,
            initiator: host.initiator.clone(),
            mounts,
        });
        events.extend(crate::storage::records(
            estate,
            &member,
            volume,
            seen.machines,
            now,
        ));
    }
    events
}

/// What the host has after a network was set up there or taken off.
fn networks_of(host: &Host, network: &Network, set: bool) -> Event {
    let mut networks = host.networks.clone();
    if set {
        let has = HostNet {
            vlan: network.vlan,
            mtu: network.mtu,
            uplinks: network.uplinks.clone(),
        };
        networks.insert(network.name.clone(), has);
    } else {
        networks.remove(&network.name);
    }
    Event::HostNetworks {
        host: host.id,
        uplinks: host.uplinks.clone(),
        networks,
    }
}

/// A machine's cards, and the seed from which its guest learns them.
fn cards(estate: &Estate, machine: &Machine) -> Result<Cards, Fault> {
    let mut nics = Vec::new();
    let mut seeds = Vec::new();
    for nic in &machine.nics {
        let network = nic.network.and_then(|id| estate.networks.get(&id));
        nics.push(json!({"mac": nic.mac, "network": network.map(|n| &n.name), "addresses": nic.addresses}));
        let subnets = network.map(|n| n.subnets.as_slice()).unwrap_or_default();
        let of = |a: &std::net::IpAddr| subnets.iter().find(|s| s.net.contains(a));
        let used: Vec<_> = nic
            .addresses
            .iter()
            .filter_map(|a| Some((*a, of(a)?)))
            .collect();
        seeds.push(Card {
            mac: nic.mac.clone(),
            mtu: network.map_or(1500, |n| n.mtu),
            addresses: used.iter().map(|(a, s)| (*a, s.net.prefix_len())).collect(),
            gateways: used.iter().filter_map(|(_, s)| s.gateway).collect(),
        });
    }
    let image = image(&machine.uuid.to_string(), &machine.name, &seeds).map_err(|e| {
        let said = format!("The seed of {} can't be made: {e}.", machine.name);
        Fault::new(FaultKind::Refused, said, "Give it fewer cards.")
    })?;
    Ok(Cards {
        nics,
        seed: BASE64_STANDARD.encode(image),
    })
}

/// What it boots from, in the volume's own words.
fn boot(estate: &Estate, machine: &Machine) -> serde_json::Value {
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
        Some(Event::AddressesReleased {
            network: nic.network?,
            addresses: nic.addresses.clone(),
            at,
        })
    });
    let machine = machine.id;
    released.chain([Event::MachinePurged { machine }]).collect()
}

/// A machine that is on no host: what is that for a step that waits for it?
fn without_host(step: &Step, machine: Option<&Machine>) -> Result<Outcome, Fault> {
    let name = machine.map_or("The machine", |m| m.name.as_str());
    match step {
        Step::AwaitOff { .. } | Step::AskStop { .. } | Step::Off { .. } => {
            Ok(done(vec![], "it is off"))
        }
        _ => Err(Fault::new(
            FaultKind::Refused,
            format!("{name} is off; somebody or something stopped it."),
            "Power it on again, or cancel the run.",
        )),
    }
}

fn seen(machine: &Machine, host: &Host, state: MachineState, generation: u64) -> Event {
    let place = (state != MachineState::Off).then_some(host.id);
    Event::MachineSeen {
        machine: machine.id,
        state,
        host: place,
        generation,
    }
}

async fn create(
    agent: &Agent<'_>,
    estate: &Estate,
    machine: &Machine,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let volume = machine.disks.first();
    let volume = volume.and_then(|d| estate.volumes.get(&d.volume));
    let volume = volume.map_or("", |v| v.uid.as_str());
    let cards = cards(estate, machine)?;
    let boot = boot(estate, machine);
    let made = agent
        .create(stamp(turn), machine, volume, &cards, boot)
        .await?;
    let event = Event::MachineMade {
        machine: machine.id,
        guest_key: made.guest_key,
    };
    Ok(done(vec![event], "created"))
}

async fn at_machine(
    agent: &Agent<'_>,
    estate: &Estate,
    host: &Host,
    machine: &Machine,
    step: &Step,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let (uuid, id) = (&machine.uuid, machine.id);
    match step {
        Step::Create { .. } => create(agent, estate, machine, turn).await,
        Step::Start { .. } => {
            let generation = machine.generation + 1;
            let said = agent.power(stamp(turn), uuid, "on", generation).await?;
            let had = said
                .get("generation")
                .and_then(serde_json::Value::as_u64)
                .unwrap_or(generation);
            Ok(done(
                vec![seen(
                    machine,
                    host,
                    MachineState::Starting("firmware".into()),
                    had,
                )],
                "on",
            ))
        }
        Step::AwaitGuest { limit, .. } => await_guest(agent, host, machine, *limit, turn).await,
        Step::AskStop { .. } => {
            agent.power(stamp(turn), uuid, "stop", 0).await?;
            Ok(done(vec![], "asked"))
        }
        Step::AwaitOff { grace, then, .. } => {
            await_off(agent, host, machine, (*grace, *then), turn).await
        }
        Step::Off { .. } => {
            agent.power(stamp(turn), uuid, "off", 0).await?;
            Ok(done(
                vec![seen(machine, host, MachineState::Off, machine.generation)],
                "off",
            ))
        }
        Step::Rewrite { sets, .. } => {
            let mut then = machine.clone();
            sets.iter().for_each(|s| s.on_machine(&mut then));
            let boots = sets.iter().any(Set::boots);
            let boot = boots.then(|| boot(estate, &then));
            agent.rewrite(stamp(turn), uuid, sets, boot).await?;
            Ok(done(vec![], "written"))
        }
        Step::Delete { .. } => {
            agent.set_deleted(stamp(turn), uuid, true).await?;
            Ok(done(
                vec![Event::MachineDeleted {
                    machine: id,
                    at: turn.now,
                }],
                "kept for recovery",
            ))
        }
        Step::Recover { .. } => {
            agent.set_deleted(stamp(turn), uuid, false).await?;
            Ok(done(vec![Event::MachineRecovered { machine: id }], "back"))
        }
        Step::Purge { .. } => {
            agent.remove(stamp(turn), uuid).await?;
            Ok(done(removed(machine, turn.now), "removed"))
        }
        other => Err(Fault::new(
            FaultKind::Refused,
            format!("{} is not a machine's step.", other.group()),
            "Report this.",
        )),
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
    let generation = now.generation;
    match now.state() {
        MachineState::Running { guest: true } => Ok(done(
            vec![seen(
                machine,
                host,
                MachineState::Running { guest: true },
                generation,
            )],
            "answers",
        )),
        MachineState::Off => without_host(
            &Step::AwaitGuest {
                machine: machine.id,
                limit,
            },
            Some(machine),
        ),
        state if turn.waited >= limit => {
            let up = matches!(state, MachineState::Running { .. });
            let said = format!("{} has not answered for {limit}.", machine.name);
            let remedy = if up {
                "It runs, but its guest agent is silent: look whether it is installed. Retry waits again."
            } else {
                "It has not finished booting. Look at it, then retry to wait again."
            };
            Err(Fault::new(FaultKind::Refused, said, remedy))
        }
        MachineState::Starting(phase) => Ok(Outcome::NotYet { said: phase }),
        _ => Ok(Outcome::NotYet {
            said: "up; waiting for its agent".into(),
        }),
    }
}

async fn await_off(
    agent: &Agent<'_>,
    host: &Host,
    machine: &Machine,
    (grace, then): (Span, AfterGrace),
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let now = agent.machine(&machine.uuid).await?;
    let generation = now.generation;
    let off = |said: &str| {
        Ok(done(
            vec![seen(machine, host, MachineState::Off, generation)],
            said,
        ))
    };
    if now.state() == MachineState::Off {
        return off("stopped by itself");
    }
    if turn.waited < grace {
        return Ok(Outcome::NotYet {
            said: "stopping".into(),
        });
    }
    match then {
        AfterGrace::PowerOff => {
            agent.power(stamp(turn), &machine.uuid, "off", 0).await?;
            off("powered off after the time was up")
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
