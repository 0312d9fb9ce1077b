//! Hosts of both sides are told what is a machine now and what is its replica.

use super::at;
use crate::{
    Drivers, Outcome, Turn,
    agent::Card,
    perform::{done, premise, stamp},
};
use zastrugi_core::{
    estate::{Crossed, Estate, Nic, StoredPoint, Wanted},
    moment::Span,
    rooms::{
        Event,
        edits::Set,
        machines,
        replicas::{self, Member, Settle, Step},
    },
    runs::Fault,
    units::Bytes,
};

impl Drivers {
    /// Each call has a key of its own, so that any of them may be made again.
    pub(super) async fn settle(
        &self,
        estate: &Estate,
        settle: &Settle,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let machine = at(estate, settle.machine)?;
        let host = self.host_of(estate, settle.via)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let sets = [
            Set::Name(settle.name.as_str().into()),
            Set::VCpus(settle.vcpus),
            Set::VCpusMax(settle.vcpus_max),
            Set::Memory(settle.memory),
        ];
        agent
            .rewrite(stamp(turn), &machine.uuid, &sets, machine, None)
            .await?;
        let nics = addressed(&machine.nics, settle);
        if !nics.is_empty() {
            let name = |nic: &Nic| {
                let network = nic.network.and_then(|id| estate.networks.get(&id));
                network.map(|n| n.name.clone())
            };
            let cards: Vec<Card> = nics
                .iter()
                .map(|n| Card {
                    mac: n.mac.clone(),
                    network: name(n),
                    addresses: Some(n.addresses.clone()),
                })
                .collect();
            let key = format!("{}-cards", turn.key);
            let turn = Turn { key: &key, ..turn };
            agent.cards(stamp(turn), &machine.uuid, &cards).await?;
        }
        if let Some(point) = &settle.mark {
            let key = format!("{}-mark", turn.key);
            let turn = Turn { key: &key, ..turn };
            agent.mark(stamp(turn), &machine.uuid, point).await?;
        }
        let id = settle.machine;
        let starts = settle.starts.map(|host| machines::Event::Wanted {
            machine: id,
            wanted: Wanted::On,
            host: Some(host),
        });
        let cards = machines::Event::Nics { machine: id, nics };
        let events = [cards].into_iter().chain(starts);
        Ok(done(events.map(Event::Machines).collect(), "told"))
    }
}

/// Its cards with the addresses that its guest has.
fn addressed(cards: &[Nic], settle: &Settle) -> Vec<Nic> {
    let with = |(n, card): (usize, &Nic)| Nic {
        addresses: settle.addresses.get(n).cloned().unwrap_or_default(),
        ..card.clone()
    };
    cards.iter().enumerate().map(with).collect()
}

/// From now on nobody brings them back who finds them off.
pub(super) fn rests(step: &Step) -> Result<Outcome, Fault> {
    let Step::Rest { machines } = step else {
        return Err(premise("Nobody shall be off."));
    };
    let off = |machine: &zastrugi_core::ids::MachineId| machines::Event::Wanted {
        machine: *machine,
        wanted: Wanted::Off,
        host: None,
    };
    let events = machines.iter().map(off).map(Event::Machines).collect();
    Ok(done(events, ""))
}

/// All of them in one write.
pub(super) fn crossed(step: &Step, turn: Turn<'_>) -> Result<Outcome, Fault> {
    let Step::Over {
        way,
        members,
        forced,
    } = step
    else {
        return Err(premise("Nobody goes over."));
    };
    let crossed = Crossed {
        pair: way.pair,
        from: way.from,
        at: turn.now,
    };
    let one = |m: &Member| replicas::Event::Crossed {
        machine: m.machine,
        replica: m.replica,
        way: crossed,
        behind: m.behind.clone(),
        forced: *forced,
    };
    let events = members.iter().map(one).map(Event::Replicas).collect();
    Ok(done(events, format!("{} machines", members.len())))
}

/// What it holds is a point of it from now on.
pub(super) fn regarded(estate: &Estate, step: &Step) -> Result<Outcome, Fault> {
    let Step::Regard { replica, snapshot } = step else {
        return Err(premise("Nothing is a point of it."));
    };
    let machine = at(estate, *replica)?;
    let held = machine.snapshots.get(*snapshot);
    let held = held.ok_or_else(|| premise("What it held is gone."))?;
    let job = machine.replica.as_ref().and_then(|r| {
        let original = estate.original_of(r)?;
        Some(estate.replicated_by(original, r.pair)?.0.id)
    });
    let point = StoredPoint {
        session: *snapshot,
        taken: held.taken,
        consistent: held.consistent,
        size: machine.disk_total(),
        read: Bytes::ZERO,
        stored: Bytes::ZERO,
        took: Span(0),
        job,
        ends: None,
        locked: None,
        group: None,
        whole: None,
        equal: None,
        proof: None,
    };
    let regarded = replicas::Event::Regarded {
        machine: *replica,
        point: Box::new(point),
    };
    Ok(done(vec![Event::Replicas(regarded)], "it follows again"))
}
