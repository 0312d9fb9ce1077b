//! Which connections are there, and which ends when there is no room for another.

use std::{
    collections::{BTreeMap, HashMap},
    net::IpAddr,
    sync::{Arc, Mutex, PoisonError},
};
use tokio::sync::Notify;

#[derive(Clone)]
pub(super) struct Table(Arc<Mutex<Room>>);

struct Room {
    most: usize,
    /// Of all, for strangers.
    strangers: usize,
    per_address: usize,
    next: u64,
    all: BTreeMap<u64, Held>,
}

struct Held {
    address: IpAddr,
    shared: bool,
    known: bool,
    stop: Arc<Notify>,
}

/// A connection's place; it is free again when this is dropped.
pub(super) struct Ticket {
    room: Arc<Mutex<Room>>,
    number: u64,
    stop: Arc<Notify>,
}

impl Table {
    /// `most` connections, `kept` of them for who is signed in.
    pub(super) fn new(most: usize, kept: usize, per_address: usize) -> Self {
        Table(Arc::new(Mutex::new(Room {
            most,
            strangers: most.saturating_sub(kept).max(1),
            per_address,
            next: 0,
            all: BTreeMap::new(),
        })))
    }

    /// A place for a new connection; where there is none, that of the oldest stranger. None: nobody can be ended for it.
    pub(super) fn admit(&self, address: IpAddr, shared: bool) -> Option<Ticket> {
        let mut room = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let of_it = room.all.values().filter(|h| h.address == address).count();
        if !shared && of_it >= room.per_address {
            room.end_oldest(Some(address))?;
        }
        let strangers = room.all.values().filter(|h| !h.known).count();
        if room.all.len() >= room.most || strangers >= room.strangers {
            room.end_oldest(None)?;
        }
        let number = room.next;
        room.next += 1;
        let stop = Arc::new(Notify::new());
        let held = Held {
            address,
            shared,
            known: false,
            stop: stop.clone(),
        };
        room.all.insert(number, held);
        Some(Ticket {
            room: self.0.clone(),
            number,
            stop,
        })
    }

    /// Ends some strangers: descriptors have run out.
    pub(super) fn make_room(&self) {
        let mut room = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        for _ in 0..16 {
            if room.end_oldest(None).is_none() {
                return;
            }
        }
    }
}

impl Room {
    /// Ends the oldest stranger of `of`, or of the address that has the most of them; those of a proxy count as many.
    fn end_oldest(&mut self, of: Option<IpAddr>) -> Option<()> {
        let strangers = self.all.values().filter(|h| !h.known);
        let mut counts: HashMap<IpAddr, usize> = HashMap::new();
        for held in strangers {
            *counts.entry(held.address).or_insert(0) += usize::from(!held.shared).max(1);
        }
        let worst = of.or_else(|| counts.iter().max_by_key(|(_, n)| **n).map(|(a, _)| *a))?;
        let mut all = self.all.iter();
        let oldest = all.find(|(_, h)| !h.known && h.address == worst);
        let number = oldest.map(|(n, _)| *n)?;
        let held = self.all.remove(&number)?;
        held.stop.notify_one();
        Some(())
    }
}

impl Ticket {
    /// Whoever is at the other end is signed in.
    pub(super) fn know(&self) {
        let mut room = self.room.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(held) = room.all.get_mut(&self.number) {
            held.known = true;
        }
    }
    /// Told when the place is needed for another.
    pub(super) fn stop(&self) -> Arc<Notify> {
        self.stop.clone()
    }
}

impl Drop for Ticket {
    fn drop(&mut self) {
        let mut room = self.room.lock().unwrap_or_else(PoisonError::into_inner);
        room.all.remove(&self.number);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ip(n: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, n])
    }
    async fn ended(ticket: &Ticket) -> bool {
        let stop = ticket.stop();
        tokio::time::timeout(std::time::Duration::from_millis(5), stop.notified())
            .await
            .is_ok()
    }

    #[tokio::test]
    async fn who_holds_the_most_makes_room_and_the_signed_in_never_do() {
        let table = Table::new(6, 2, 10);
        let me = table.admit(ip(1), false).unwrap();
        me.know();
        let mine = table.admit(ip(2), false).unwrap();
        let theirs: Vec<_> = (0..3)
            .map(|_| table.admit(ip(66), false).unwrap())
            .collect();
        // Strangers' four places are taken.
        let next = table.admit(ip(3), false).unwrap();
        assert!(ended(&theirs[0]).await, "the oldest of the greediest");
        for spared in [&me, &mine, &theirs[1], &next] {
            assert!(!ended(spared).await);
        }
        me.know();
        let known: Vec<_> = (0..3)
            .map(|_| {
                let t = table.admit(ip(4), false).unwrap();
                t.know();
                t
            })
            .collect();
        assert_eq!(known.len(), 3, "room is kept for who is signed in");
        assert!(!ended(&me).await);
    }

    #[tokio::test]
    async fn an_address_gets_its_share_and_a_proxy_is_many_people() {
        let table = Table::new(100, 0, 2);
        let first = table.admit(ip(1), false).unwrap();
        let second = table.admit(ip(1), false).unwrap();
        second.know();
        let _third = table.admit(ip(1), false).unwrap();
        assert!(ended(&first).await && !ended(&second).await);
        let all: Vec<_> = (0..50).map(|_| table.admit(ip(9), true).unwrap()).collect();
        assert!(!ended(&all[0]).await);
        drop(all);
        let signed: Vec<_> = (0..2).map(|_| table.admit(ip(5), false).unwrap()).collect();
        signed.iter().for_each(Ticket::know);
        assert!(
            table.admit(ip(5), false).is_none(),
            "nobody of theirs can be ended"
        );
        drop(signed);
        assert!(
            table.admit(ip(5), false).is_some(),
            "their places are free again"
        );
    }
}
