//! How events change the estate, and what they touched.

use super::{Condition, Estate, Fact, Host, Kind, Machine, MachineState, Wanted};
use crate::{event::Event, ids::MachineId, proposal::Target};
use std::{collections::BTreeMap, sync::Arc};

/// What became of an entity.
#[derive(Debug, Clone, PartialEq)]
pub enum Touched {
    Put(Fact),
    Gone,
}

/// Everything that events touched, each entity once, in its last state.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Change {
    pub touched: BTreeMap<(Kind, u64), Touched>,
}

impl Change {
    pub fn merge(&mut self, later: Change) {
        self.touched.extend(later.touched);
    }
}

/// The estate while one event is folded in: every write is noted.
struct Pen<'a> {
    estate: &'a mut Estate,
    change: Change,
}

impl Pen<'_> {
    fn put(&mut self, fact: Fact) {
        self.change
            .touched
            .insert((fact.kind(), fact.id()), Touched::Put(fact.clone()));
        self.estate.put(fact);
    }
    fn remove(&mut self, kind: Kind, id: u64) {
        self.change.touched.insert((kind, id), Touched::Gone);
        self.estate.remove(kind, id);
    }
    /// Numbers given out are never given again, also after a purge.
    fn used(&mut self, id: u64) {
        if id >= self.estate.next {
            self.put(Fact::Meta(id + 1));
        }
    }
    fn machine(&mut self, id: MachineId, edit: impl FnOnce(&mut Machine)) {
        if let Some(old) = self.estate.machines.get(&id) {
            let mut new = Machine::clone(old);
            edit(&mut new);
            if new != **old {
                self.put(Fact::Machine(Arc::new(new)));
            }
        }
    }
    fn host(&mut self, id: crate::ids::HostId, edit: impl FnOnce(&mut Host)) {
        if let Some(old) = self.estate.hosts.get(&id) {
            let mut new = Host::clone(old);
            edit(&mut new);
            if new != **old {
                self.put(Fact::Host(Arc::new(new)));
            }
        }
    }
    fn cluster(&mut self, id: crate::ids::ClusterId, edit: impl FnOnce(&mut super::Cluster)) {
        if let Some(old) = self.estate.clusters.get(&id) {
            let mut new = super::Cluster::clone(old);
            edit(&mut new);
            self.put(Fact::Cluster(Arc::new(new)));
        }
    }
}

impl Pen<'_> {
    fn image(&mut self, id: crate::ids::ImageId, sets: &[crate::proposal::Set]) {
        if let Some(old) = self.estate.images.get(&id) {
            let mut new = super::Image::clone(old);
            sets.iter().for_each(|s| s.on_image(&mut new));
            self.put(Fact::Image(Arc::new(new)));
        }
    }
    fn volume(&mut self, id: crate::ids::VolumeId, edit: impl FnOnce(&mut super::Volume)) {
        if let Some(old) = self.estate.volumes.get(&id) {
            let mut new = super::Volume::clone(old);
            edit(&mut new);
            if new != **old {
                self.put(Fact::Volume(Arc::new(new)));
            }
        }
    }
}

impl Pen<'_> {
    fn network(&mut self, id: crate::ids::NetworkId, edit: impl FnOnce(&mut super::Network)) {
        if let Some(old) = self.estate.networks.get(&id) {
            let mut new = super::Network::clone(old);
            edit(&mut new);
            if new != **old {
                self.put(Fact::Network(Arc::new(new)));
            }
        }
    }
}

fn networks(pen: &mut Pen<'_>, event: &Event) {
    match event {
        Event::SwitchConnecting(switch) => {
            pen.used(switch.id.0);
            pen.put(Fact::Switch(Arc::new((**switch).clone())));
        }
        Event::SwitchSeen(switch) if pen.estate.switches.contains_key(&switch.id) => {
            pen.put(Fact::Switch(Arc::new((**switch).clone())));
        }
        Event::SwitchDropped { switch } => pen.remove(Kind::Switch, switch.0),
        Event::NetworkPlanned(network) => {
            pen.used(network.id.0);
            pen.put(Fact::Network(Arc::new((**network).clone())));
        }
        Event::NetworkReady { network } => pen.network(*network, |n| n.ready = true),
        Event::NetworkGone { network, .. } => pen.remove(Kind::Network, network.0),
        Event::AddressesReleased {
            network,
            addresses,
            at,
        } => pen.network(*network, |n| {
            n.released.retain(|_, since| at.since(*since) < super::REST);
            for address in addresses {
                n.released.insert(*address, *at);
            }
        }),
        _ => {}
    }
}

fn storage(pen: &mut Pen<'_>, event: &Event) {
    match event {
        Event::ArrayConnecting(array) => {
            pen.used(array.id.0);
            pen.put(Fact::Array(Arc::new((**array).clone())));
        }
        // A reading that comes after the array was given up changes nothing.
        Event::ArraySeen(array) if pen.estate.arrays.contains_key(&array.id) => {
            pen.put(Fact::Array(Arc::new((**array).clone())));
        }
        Event::ArrayDropped { array } => pen.remove(Kind::Array, array.0),
        Event::VolumePlanned(volume) => {
            pen.used(volume.id.0);
            pen.put(Fact::Volume(Arc::new((**volume).clone())));
        }
        Event::VolumeMade {
            volume,
            uid,
            backing,
        } => pen.volume(*volume, |v| {
            v.uid.clone_from(uid);
            v.backing = Some(backing.clone());
        }),
        Event::VolumeReady { volume } => pen.volume(*volume, |v| v.ready = true),
        Event::VolumeSeen {
            volume,
            capacity,
            used,
        } => pen.volume(*volume, |v| (v.capacity, v.used) = (*capacity, *used)),
        Event::ImagePlanned(image) | Event::ImageAdopted(image) => {
            pen.used(image.id.0);
            pen.put(Fact::Image(Arc::new((**image).clone())));
        }
        Event::ImageReady {
            image,
            sha256,
            label,
        } => {
            if let Some(old) = pen.estate.images.get(image) {
                let mut new = super::Image::clone(old);
                new.sha256 = Some(sha256.clone());
                new.label.clone_from(label);
                new.ready = true;
                pen.put(Fact::Image(Arc::new(new)));
            }
        }
        Event::ImageGone { image } => pen.remove(Kind::Image, image.0),
        Event::VolumeGone { volume, .. } => {
            let images: Vec<_> = pen.estate.images_on(*volume).iter().map(|i| i.id).collect();
            for image in images {
                pen.remove(Kind::Image, image.0);
            }
            let mounting: Vec<_> = pen
                .estate
                .hosts
                .values()
                .filter(|h| h.mounts.contains_key(volume))
                .map(|h| h.id)
                .collect();
            for host in mounting {
                pen.host(host, |h| {
                    h.mounts.remove(volume);
                });
            }
            pen.remove(Kind::Volume, volume.0);
        }
        _ => {}
    }
}

impl Estate {
    /// Folds one event in and says what it touched. Events about things that are gone touch nothing.
    pub fn absorb(&mut self, event: &Event) -> Change {
        let mut pen = Pen {
            estate: self,
            change: Change::default(),
        };
        match event {
            Event::SiteAdded(site) => {
                pen.used(site.id.0);
                pen.put(Fact::Site(Arc::new(site.clone())));
            }
            Event::ClusterAdded { .. }
            | Event::ClusterReady { .. }
            | Event::ClusterDropped { .. } => {
                clusters(&mut pen, event);
            }
            Event::ArrayConnecting(_)
            | Event::ArraySeen(_)
            | Event::ArrayDropped { .. }
            | Event::VolumePlanned(_)
            | Event::VolumeMade { .. }
            | Event::VolumeReady { .. }
            | Event::VolumeSeen { .. }
            | Event::ImagePlanned(_)
            | Event::ImageAdopted(_)
            | Event::ImageReady { .. }
            | Event::ImageGone { .. }
            | Event::VolumeGone { .. } => storage(&mut pen, event),
            Event::SwitchConnecting(_)
            | Event::SwitchSeen(_)
            | Event::SwitchDropped { .. }
            | Event::NetworkPlanned(_)
            | Event::NetworkReady { .. }
            | Event::NetworkGone { .. }
            | Event::AddressesReleased { .. } => networks(&mut pen, event),
            Event::HostClaiming(_)
            | Event::HostClaimed(_)
            | Event::HostReleased { .. }
            | Event::HostCondition { .. }
            | Event::HostSeen { .. }
            | Event::HostJoined { .. }
            | Event::HostNetworks { .. }
            | Event::HostMounts { .. }
            | Event::HostLeft { .. } => hosts(&mut pen, event),
            Event::Edited { target, sets } => match target {
                Target::Machine(id) => {
                    pen.machine(*id, |m| sets.iter().for_each(|s| s.on_machine(m)))
                }
                Target::Host(id) => pen.host(*id, |h| sets.iter().for_each(|s| s.on_host(h))),
                Target::Cluster(id) => {
                    pen.cluster(*id, |c| sets.iter().for_each(|s| s.on_cluster(c)))
                }
                Target::Network(id) => {
                    pen.network(*id, |n| sets.iter().for_each(|s| s.on_network(n)))
                }
                Target::Volume(id) => pen.volume(*id, |v| sets.iter().for_each(|s| s.on_volume(v))),
                Target::Image(id) => pen.image(*id, sets),
            },
            Event::RunStarted { run, plan } => {
                pen.used(run.id.0);
                pen.put(Fact::Plan(Arc::new((**plan).clone())));
                pen.put(Fact::Run(Arc::new((**run).clone())));
            }
            Event::RunMoved { run, .. } => pen.put(Fact::Run(Arc::new((**run).clone()))),
            Event::Ordered { .. } => {}
            _ => machines(&mut pen, event),
        }
        pen.change
    }

    /// Folds several events in.
    pub fn absorb_all<'a>(&mut self, events: impl IntoIterator<Item = &'a Event>) -> Change {
        let mut change = Change::default();
        for event in events {
            change.merge(self.absorb(event));
        }
        change
    }
}

fn clusters(pen: &mut Pen<'_>, event: &Event) {
    match event {
        Event::ClusterAdded { cluster, volume } => {
            pen.used(cluster.id.0);
            if let Some(volume) = volume {
                pen.used(volume.id.0);
                pen.put(Fact::Volume(Arc::new((**volume).clone())));
            }
            pen.put(Fact::Cluster(Arc::new((**cluster).clone())));
        }
        Event::ClusterReady { cluster } => pen.cluster(*cluster, |c| c.ready = true),
        Event::ClusterDropped { cluster } => {
            if let Some(gone) = pen.estate.clusters.get(cluster).cloned() {
                for host in &gone.hosts {
                    pen.host(*host, |h| h.cluster = None);
                }
                let members: Vec<_> = pen.estate.machines_in(*cluster).map(|m| m.id).collect();
                for machine in members {
                    pen.machine(machine, |m| m.cluster = None);
                }
                let volumes: Vec<_> = pen.estate.volumes_of(&gone).iter().map(|v| v.id).collect();
                for volume in volumes {
                    pen.remove(Kind::Volume, volume.0);
                }
                pen.remove(Kind::Cluster, cluster.0);
            }
        }
        _ => {}
    }
}

fn hosts(pen: &mut Pen<'_>, event: &Event) {
    match event {
        Event::HostClaiming(host) | Event::HostClaimed(host) => {
            pen.used(host.id.0);
            pen.put(Fact::Host(Arc::new((**host).clone())));
        }
        Event::HostReleased { host } => {
            if let Some(cluster) = pen.estate.hosts.get(host).and_then(|h| h.cluster) {
                pen.cluster(cluster, |c| {
                    c.hosts.remove(host);
                });
            }
            let left: Vec<_> = pen.estate.machines_on(*host).map(|m| m.id).collect();
            for machine in left {
                pen.remove(Kind::Machine, machine.0);
            }
            pen.remove(Kind::Host, host.0);
        }
        Event::HostCondition { host, condition } => {
            pen.host(*host, |h| h.condition = condition.clone())
        }
        Event::HostSeen {
            host,
            boot,
            seq,
            software,
        } => pen.host(*host, |h| {
            h.seen = (*boot, *seq);
            h.software.clone_from(software);
            if !matches!(h.condition, Condition::Stranger { .. }) {
                h.condition = Condition::Steady;
            }
        }),
        Event::HostJoined { host, cluster } => {
            pen.host(*host, |h| h.cluster = Some(*cluster));
            pen.cluster(*cluster, |c| {
                c.hosts.insert(*host);
            });
            let here: Vec<_> = pen.estate.machines_on(*host).map(|m| m.id).collect();
            for machine in here {
                pen.machine(machine, |m| m.cluster = Some(*cluster));
            }
        }
        Event::HostLeft { host } => {
            if let Some(cluster) = pen.estate.hosts.get(host).and_then(|h| h.cluster) {
                pen.cluster(cluster, |c| {
                    c.hosts.remove(host);
                });
            }
            pen.host(*host, |h| h.cluster = None);
        }
        Event::HostNetworks {
            host,
            uplinks,
            networks,
        } => pen.host(*host, |h| {
            h.uplinks.clone_from(uplinks);
            h.networks.clone_from(networks);
        }),
        Event::HostMounts {
            host,
            initiator,
            mounts,
        } => pen.host(*host, |h| {
            h.initiator.clone_from(initiator);
            h.mounts.clone_from(mounts);
        }),
        _ => {}
    }
}

fn machines(pen: &mut Pen<'_>, event: &Event) {
    match event {
        Event::MachinePlanned(machine) | Event::MachineAdopted(machine) => {
            pen.used(machine.id.0);
            pen.put(Fact::Machine(Arc::new((**machine).clone())));
        }
        Event::MachineMade { machine, guest_key } => pen.machine(*machine, |m| {
            m.state = MachineState::Off;
            m.guest_key = Some(guest_key.clone());
            if m.wanted == Wanted::Off {
                m.host = None;
            }
        }),
        Event::MachineDropped { machine } | Event::MachinePurged { machine } => {
            pen.remove(Kind::Machine, machine.0);
        }
        Event::MachineWanted {
            machine,
            wanted,
            host,
        } => pen.machine(*machine, |m| {
            m.wanted = *wanted;
            if host.is_some() {
                m.host = *host;
            }
            if *wanted == Wanted::Off && m.is_off() && m.state != MachineState::Planned {
                m.host = None;
            }
        }),
        Event::MachineSeen {
            machine,
            state,
            host,
            generation,
        } => pen.machine(*machine, |m| {
            m.state = state.clone();
            m.host = *host;
            m.generation = m.generation.max(*generation);
        }),
        Event::MachineDeleted { machine, at } => pen.machine(*machine, |m| {
            m.deleted = Some(*at);
            m.host = None;
            m.wanted = Wanted::Off;
        }),
        Event::MachineNics { machine, nics } => {
            pen.machine(*machine, |m| m.nics.clone_from(nics));
        }
        Event::MachineMoving { machine, to } => pen.machine(*machine, |m| m.arriving = *to),
        Event::MachineMoved {
            machine,
            generation,
            moved,
        } => pen.machine(*machine, |m| {
            m.arriving = None;
            if *generation >= m.generation {
                m.generation = *generation;
                m.host = Some(moved.to);
            }
            m.moved = Some(moved.clone());
        }),
        Event::MachineBoot { machine, boot } => {
            pen.machine(*machine, |m| m.boot.clone_from(boot));
        }
        Event::MachineHome { machine, volume } => pen.machine(*machine, |m| {
            m.disks.iter_mut().for_each(|d| d.volume = *volume);
        }),
        Event::MachineRecovered { machine } => pen.machine(*machine, |m| m.deleted = None),
        _ => {}
    }
}
