//! A disk that several machines have, with its persistent reservation (SPC-4, 5.13): who registered, who holds it, and who took it
//! from whom.

use crate::rooms::{
    snapshots::blocks::{GRAIN, Written, grains},
    storage::volume::Disk,
};
use roaring::RoaringBitmap;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use uuid::Uuid;

/// After so many milliseconds without a write another node takes over.
pub(crate) const PATIENCE: i64 = 10_000;
/// So many take-overs are remembered.
const REMEMBERED: usize = 32;

/// How a machine has one, as it stands in its record.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Share {
    pub(crate) volume: String,
    pub(crate) disk: Uuid,
    pub(crate) controller: u8,
    pub(crate) unit: u8,
    /// `reservations` or `unguarded`.
    pub(crate) mode: String,
}

impl Share {
    pub(crate) fn mode(reservations: bool) -> &'static str {
        if reservations {
            "reservations"
        } else {
            "unguarded"
        }
    }
    pub(crate) fn reserves(&self) -> bool {
        self.mode == Self::mode(true)
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Holder {
    pub(crate) machine: String,
    pub(crate) since: i64,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct TakeOver {
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) last: i64,
    pub(crate) first: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct SharedDisk {
    pub(crate) disk: Disk,
    pub(crate) content: Written,
    pub(crate) name: String,
    pub(crate) controller: u8,
    pub(crate) unit: u8,
    /// Since when, by machine.
    pub(crate) registered: BTreeMap<String, i64>,
    pub(crate) holder: Option<Holder>,
    /// Who held it until it let go of it.
    pub(crate) left: Option<String>,
    /// When whoever holds or held it wrote last.
    pub(crate) wrote: i64,
    pub(crate) takeovers: Vec<TakeOver>,
}

/// What a node does at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Does {
    /// It is up, and its guests' cluster software runs.
    Works,
    /// It boots, hangs, or stands still.
    Nothing,
    /// It is being stopped: it lets go of everything.
    Leaves,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct SharedDisks {
    /// Grows with every change.
    pub(crate) seq: u64,
    pub(crate) disks: BTreeMap<Uuid, SharedDisk>,
}

impl SharedDisk {
    pub(crate) fn new(disk: Disk, content: Written, name: String, slot: (u8, u8)) -> Self {
        SharedDisk {
            disk,
            content,
            name,
            controller: slot.0,
            unit: slot.1,
            registered: BTreeMap::new(),
            holder: None,
            left: None,
            wrote: 0,
            takeovers: vec![],
        }
    }

    pub(crate) fn takes(&self) -> u64 {
        match self.disk.thick {
            true => self.disk.size,
            false => self.content.len() * GRAIN,
        }
    }

    /// A node does something; answers whether anybody else could notice.
    pub(crate) fn acts(&mut self, node: &str, does: Does, reserves: bool, now: i64) -> bool {
        match does {
            Does::Nothing => false,
            Does::Leaves => self.leaves(node),
            // Without reservations its cluster software only looks on.
            Does::Works if !reserves => self.leaves(node),
            Does::Works => {
                let new = !self.registered.contains_key(node);
                if new {
                    self.registered.insert(node.to_owned(), now);
                }
                match &self.holder {
                    Some(h) if h.machine == node => self.wrote = now,
                    Some(_) if now - self.wrote <= PATIENCE => {}
                    _ => {
                        self.takes_over(node, now);
                        return true;
                    }
                }
                new
            }
        }
    }

    pub(crate) fn leaves(&mut self, node: &str) -> bool {
        let was = self.registered.remove(node).is_some();
        if let Some(held) = self.holder.take_if(|h| h.machine == node) {
            self.left = Some(held.machine);
        }
        was
    }

    /// PREEMPT: the registration of whoever held it is gone with the reservation.
    fn takes_over(&mut self, node: &str, now: i64) {
        let held = self.holder.take().map(|h| h.machine);
        if let Some(held) = &held {
            self.registered.remove(held);
        }
        if let Some(from) = held.or(self.left.take()).filter(|from| from != node) {
            self.takeovers.push(TakeOver {
                from,
                to: node.to_owned(),
                last: self.wrote,
                first: now,
            });
            let over = self.takeovers.len().saturating_sub(REMEMBERED);
            self.takeovers.drain(..over);
        }
        self.holder = Some(Holder {
            machine: node.to_owned(),
            since: now,
        });
        self.wrote = now;
        let journal: RoaringBitmap = (0..grains(self.disk.size).min(16)).collect();
        let writing = self.content.newest().map_or(1, |n| n + 1);
        self.content.put(writing, &journal);
    }
}

impl SharedDisks {
    /// Nothing, as long as there never was one.
    pub(crate) fn told(&self) -> Option<Value> {
        let disk = |(key, d): (&Uuid, &SharedDisk)| {
            let holder = d.holder.as_ref();
            let over = |t: &TakeOver| json!({"from": t.from, "to": t.to, "last_ms": t.last, "first_ms": t.first});
            let said = json!({"name": d.name, "size": d.disk.size, "thick": d.disk.thick, "takes": d.takes(),
                "controller": d.controller, "unit": d.unit, "registered": d.registered,
                "holder": holder.map(|h| json!({"machine": h.machine, "since_ms": h.since})),
                "takeovers": d.takeovers.iter().map(over).collect::<Vec<_>>()});
            (key.to_string(), said)
        };
        let disks: serde_json::Map<String, Value> = self.disks.iter().map(disk).collect();
        (self.seq > 0).then(|| json!({"seq": self.seq, "disks": disks}))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn disk() -> SharedDisk {
        let plain = Disk {
            key: Uuid::nil(),
            size: 64 << 20,
            thick: false,
            written: 0,
            lock: 0,
        };
        SharedDisk::new(plain, Written::default(), "quorum".into(), (1, 0))
    }

    fn writer(d: &SharedDisk) -> Option<&str> {
        d.holder.as_ref().map(|h| h.machine.as_str())
    }

    #[test]
    fn the_first_writes_and_the_second_waits_until_it_is_silent_for_long() {
        let mut d = disk();
        assert!(d.acts("a", Does::Works, true, 1_000));
        assert!(d.acts("b", Does::Works, true, 2_000), "it registers");
        assert!(!d.acts("b", Does::Works, true, 9_000));
        assert!(!d.acts("a", Does::Works, true, 9_500));
        assert_eq!(writer(&d), Some("a"));
        assert!(!d.acts("b", Does::Works, true, 9_500 + PATIENCE));
        assert!(d.acts("b", Does::Works, true, 9_501 + PATIENCE));
        assert_eq!(writer(&d), Some("b"));
        let over = d.takeovers.last().unwrap();
        assert_eq!((over.last, over.first), (9_500, 9_501 + PATIENCE));
        assert!(
            !d.registered.contains_key("a"),
            "preempted: it can't write until it registers anew"
        );
        d.acts("a", Does::Works, true, 30_000);
        assert_eq!(
            writer(&d),
            Some("a"),
            "b was silent in between, so a takes it back"
        );
    }

    #[test]
    fn who_stops_lets_go_and_the_other_takes_over_at_once() {
        let mut d = disk();
        d.acts("a", Does::Works, true, 1_000);
        d.acts("b", Does::Works, true, 1_000);
        d.acts("a", Does::Works, true, 5_000);
        d.acts("a", Does::Leaves, true, 5_200);
        d.acts("b", Does::Works, true, 5_400);
        assert_eq!(writer(&d), Some("b"));
        assert_eq!(d.takeovers[0].first - d.takeovers[0].last, 400);
    }

    #[test]
    fn a_node_without_reservations_never_takes_over() {
        let mut d = disk();
        d.acts("a", Does::Works, true, 1_000);
        d.acts("b", Does::Works, false, 60_000);
        assert_eq!(writer(&d), Some("a"));
        assert!(d.takeovers.is_empty());
    }

    #[test]
    fn who_alone_comes_back_took_over_from_nobody() {
        let mut d = disk();
        d.acts("a", Does::Works, true, 1_000);
        d.acts("a", Does::Leaves, true, 2_000);
        d.acts("a", Does::Works, true, 90_000);
        assert_eq!((writer(&d), d.takeovers.len()), (Some("a"), 0));
    }
}
