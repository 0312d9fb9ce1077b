//! A machine that goes on at the other site: what it is stays, and where it lies changes places with its replica.

use super::{Disk, Estate, Machine, MachineState, Nic, Replica, StoredPoint, Twin};
use crate::{
    ids::{MachineId, PairId, SiteId},
    moment::Moment,
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use uuid::Uuid;

/// It is not where it belongs: its site was left over a pair.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Crossed {
    pub pair: PairId,
    /// Where it came from.
    pub from: SiteId,
    pub at: Moment,
}

impl Machine {
    /// Points of the time when it was a replica, oldest first: those whose snapshots are there.
    pub fn kept_points(&self) -> impl DoubleEndedIterator<Item = &StoredPoint> + Clone {
        let all = self.points.iter();
        all.filter(|p| self.snapshots.get(p.session).is_some())
    }

    /// All that it holds of earlier instants, as a replica or since it was one.
    pub fn held_points(&self) -> impl Iterator<Item = &StoredPoint> {
        self.replicated().chain(self.kept_points())
    }

    /// It goes on with what this replica of it has; the other is what its body becomes, a replica of it, under this name. None: that
    /// is no replica of it. `forced`: nobody knows what became of the body here since that point, nor whether it is off.
    pub fn crosses(
        &self,
        replica: &Machine,
        way: Crossed,
        (behind, forced): (&str, bool),
    ) -> Option<(Machine, Machine)> {
        let of = replica.replica.as_ref().filter(|r| r.of == self.uuid)?;
        let home = self
            .crossed
            .is_some_and(|c| c.pair == way.pair && c.from != way.from);
        let was = self.was.iter().copied().chain([self.uuid]);
        let over = Machine {
            crossed: if home { None } else { Some(way) },
            was: was.filter(|u| *u != replica.uuid).collect(),
            points: replica.replicated().cloned().collect(),
            nics: addressed(&replica.nics, Some(&self.nics)),
            ..self.lying_as(replica)
        };
        let stays = Machine {
            name: behind.to_owned(),
            replica: Some(Box::new(Replica {
                of: replica.uuid,
                name: self.name.clone(),
                pair: way.pair,
                disks: turned(&of.disks),
                astray: forced,
                points: in_common(self, replica),
            })),
            points: vec![],
            nics: addressed(&self.nics, None),
            // It has the size of the machine, which grew since its replica was made.
            vcpus: self.vcpus,
            vcpus_max: self.vcpus_max,
            memory: self.memory,
            // Whoever sees it run says so.
            state: MachineState::Off,
            ..replica.lying_as(self)
        };
        Some((over, stays))
    }

    /// What it is, with the body of another: identity at hosts, place, hardware, disks and snapshots.
    fn lying_as(&self, body: &Machine) -> Machine {
        Machine {
            uuid: body.uuid,
            cluster: body.cluster,
            host: None,
            arriving: None,
            state: body.state.clone(),
            wanted: super::Wanted::Off,
            fell: None,
            now: None,
            grows: body.grows,
            video: body.video,
            disks: body.disks.clone(),
            boot: body.boot.clone(),
            generation: body.generation,
            as_of: body.as_of,
            generation_id: body.generation_id,
            guest_key: body.guest_key.clone(),
            virtual_hardware: body.virtual_hardware,
            moved: None,
            snapshots: body.snapshots.clone(),
            parent: body.parent,
            firmware: body.firmware.clone(),
            shares: body.shares.clone(),
            replica: None,
            ..self.clone()
        }
    }

    /// Disks of it that its replica has nothing of.
    pub fn stays_behind<'a>(&'a self, replica: &'a Replica) -> impl Iterator<Item = &'a Disk> {
        self.disks.iter().filter(|d| replica.twin(d.key).is_none())
    }
}

/// Cards with the addresses that a guest brings with it, in their order.
fn addressed(cards: &[Nic], had: Option<&[Nic]>) -> Vec<Nic> {
    let with = |(n, card): (usize, &Nic)| Nic {
        addresses: had
            .and_then(|had| had.get(n))
            .map_or_else(Vec::new, |h| h.addresses.clone()),
        ..card.clone()
    };
    cards.iter().enumerate().map(with).collect()
}

fn turned(twins: &[Twin]) -> Vec<Twin> {
    let turn = |t: &Twin| Twin {
        original: t.own,
        own: t.original,
    };
    twins.iter().map(turn).collect()
}

/// The points that both hold, and those that it had of old: what the way back can rest on.
fn in_common(original: &Machine, replica: &Machine) -> Vec<StoredPoint> {
    let both = replica
        .replicated()
        .filter(|p| original.snapshots.get(p.session).is_some());
    let old = original.kept_points();
    let old = old.filter(|p| both.clone().all(|b| b.session != p.session));
    let mut all: Vec<StoredPoint> = old.chain(both.clone()).cloned().collect();
    all.sort_by_key(|p| p.taken);
    all
}

impl Estate {
    /// Of which machine the copies are that were made of this identity: it may have another by now.
    pub fn whose(&self, uuid: &Uuid) -> Option<&Arc<Machine>> {
        let was = self.index.was.get(uuid);
        match was.and_then(|id| self.machines.get(id)) {
            Some(machine) => Some(machine),
            None => self.machine_with_uuid(uuid),
        }
    }
    /// The identities under which copies of it were made, as far as they are still its own; the one that it has now last.
    pub(super) fn identities(&self, machine: &Machine) -> Vec<Uuid> {
        let own = [machine.uuid].into_iter();
        let own = own.filter(|u| self.whose(u).is_none_or(|m| m.id == machine.id));
        machine.was.iter().copied().chain(own).collect()
    }
    /// Machines that are not where they belong, by number.
    pub fn crossed(&self) -> impl Iterator<Item = &Arc<Machine>> {
        self.were_replicas().filter(|m| m.crossed.is_some())
    }
    /// Those that are elsewhere now, and those with points of the time when they were replicas.
    pub(super) fn were_replicas(&self) -> impl Iterator<Item = &Arc<Machine>> {
        let all = self.index.crossed.iter();
        let all = all.filter_map(|id: &MachineId| self.machines.get(id));
        all.filter(|m| m.deleted.is_none())
    }
}
