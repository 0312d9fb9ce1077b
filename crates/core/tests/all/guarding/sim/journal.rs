//! What is written down, and the plan that is made from it.

use super::*;

/// What the journal knows; the plan is made from it.
#[derive(Debug, Clone, Default)]
pub(super) struct Journal {
    pub(super) off: BTreeSet<HostId>,
    pub(super) judged: BTreeMap<HostId, Act>,
    pub(super) switched: BTreeMap<HostId, u64>,
    pub(super) at: BTreeMap<MachineId, (HostId, u64, bool)>,
    pub(super) boots: BTreeMap<HostId, u64>,
    /// The newest beat of each host.
    pub(super) beats: BTreeMap<HostId, u64>,
    pub(super) unsure: BTreeSet<MachineId>,
    pub(super) revision: u64,
    pub(super) answers_from: u64,
}

impl Sim {
    /// What the journal learns from a report.
    pub(super) fn notes_beat(&mut self, number: u64, input: &Input, ended: &BTreeSet<MachineId>) {
        let Input::Heard {
            host,
            boot,
            running,
            ..
        } = input
        else {
            return;
        };
        let known = self.journal.boots.entry(*host).or_insert(*boot);
        if *boot < *known {
            return;
        }
        let restarted = *boot > *known;
        *known = *boot;
        let newest = self.journal.beats.entry(*host).or_default();
        if number < *newest {
            return;
        }
        *newest = number;
        self.heard.insert(*host, self.now);
        self.heard_ever.insert(*host, self.now);
        let mut changed = self.journal.off.remove(host);
        changed |= self.journal.judged.remove(host).is_some();
        for seen in running {
            let at = self
                .journal
                .at
                .entry(seen.machine)
                .or_insert((*host, 0, false));
            let now = (*host, seen.generation, false);
            if seen.generation >= at.1 && *at != now {
                *at = now;
                changed = true;
            }
        }
        // What its host ended did not stop from inside.
        if restarted || !ended.is_empty() {
            for (machine, at) in &mut self.journal.at {
                let fell = restarted || ended.contains(machine);
                if fell && at.0 == *host && !at.2 && !running.iter().any(|r| r.machine == *machine)
                {
                    at.2 = true;
                    changed = true;
                }
            }
        }
        if changed {
            self.plan();
        }
    }

    pub(super) fn written(&mut self, note: Note) {
        self.say(format!("written: {note:?}"));
        if let Note::Lacks { host, lack, .. } = note {
            return self.tell(Input::LackRecorded { host, lack });
        }
        let recorded = match note {
            Note::Judged { host, act, .. } => {
                self.journal.judged.insert(host, act);
                Some((host, false))
            }
            Note::Fenced { host, proof } => {
                self.fenced(host, &proof);
                Some((host, true))
            }
            Note::Back { host } => {
                self.journal.judged.remove(&host);
                None
            }
            Note::Starts { machine, to, .. } => {
                let generation = self.leases[&machine].generation;
                let at = self.journal.at.entry(machine).or_insert((to, 0, false));
                if generation > at.1 {
                    *at = (to, generation, false);
                }
                None
            }
            Note::Waits { host, .. } | Note::Doubted { host, .. } => {
                let when = self.now + 60_000 + self.below(60_000);
                self.people.entry(host).or_insert(when);
                None
            }
            Note::NotStarted {
                machine,
                last: true,
                ..
            } => {
                self.given_up.insert(machine);
                None
            }
            Note::Unsure { machine, .. } => {
                self.journal.unsure.insert(machine);
                None
            }
            Note::CutOff { .. }
            | Note::Lacks { .. }
            | Note::Said { .. }
            | Note::Up { .. }
            | Note::NotStarted { .. }
            | Note::Hangs { .. }
            | Note::Revived { .. }
            | Note::Ended { .. }
            | Note::Left { .. } => None,
        };
        self.plan();
        if let Some((host, fenced)) = recorded {
            self.tell(Input::Recorded { host, fenced });
        }
    }

    pub(super) fn fenced(&mut self, host: HostId, proof: &Proof) {
        self.journal.judged.remove(&host);
        // What was not known to be written is told again.
        let anew = self.journal.off.insert(host);
        for at in self.journal.at.values_mut().filter(|at| at.0 == host) {
            at.2 = true;
        }
        // One whose lease has run out is proved by that too.
        let renewed = self.disks.iter().filter_map(|d| d.changed.get(&host)).max();
        let on_word = renewed.is_none_or(|at| self.now - at < 88_000);
        if *proof == Proof::Controller && on_word && anew && self.mutation == Mutation::None {
            self.fenced_on_word.push(self.now);
            let lately = self
                .fenced_on_word
                .iter()
                .filter(|at| self.now - **at < 59_000)
                .count();
            if lately > (self.hosts.len() / 4).max(1) {
                self.breaks(format!(
                    "{lately} hosts are fenced on controllers' word within a minute"
                ));
            }
        }
    }

    pub(crate) fn plan(&mut self) {
        self.journal.revision += 1;
        let wards = self.hosts.iter().map(|(id, device)| {
            let ward = Ward {
                storage: device.array,
                name: id.to_string(),
                serial: id.to_string(),
                controller: true,
                off: self.journal.off.contains(id),
                judged: self.journal.judged.get(id).copied(),
                switched: self.journal.switched.get(id).map(|at| Span(self.now - at)),
            };
            (*id, ward)
        });
        let charges = self
            .journal
            .at
            .iter()
            .map(|(id, (host, generation, fallen))| {
                let charge = Charge {
                    name: id.to_string(),
                    host: *host,
                    generation: *generation,
                    fallen: *fallen,
                    tier: self.tiers[id],
                    after: None,
                    shared: self.shared.contains(id),
                    unsure: self.journal.unsure.contains(id),
                    boots_in: Some(Span(BOOT)),
                };
                (*id, charge)
            });
        let plan = Plan {
            stamp: Stamp(1, self.journal.revision),
            wards: wards.collect(),
            charges: charges.collect(),
            table: self.table(),
            on_word: self
                .fenced_on_word
                .iter()
                .map(|at| Span(self.now - at))
                .collect(),
        };
        self.tell(Input::Plan(Box::new(plan)));
    }

    pub(super) fn table(&self) -> Table {
        let place: Vec<HostId> = self.hosts.keys().copied().collect();
        let hosts = place.iter().map(|id| HostRow {
            id: Some(*id),
            name: id.to_string(),
            room: [100; 5],
            closed: self
                .journal
                .off
                .contains(id)
                .then(|| "it is off".to_owned())
                .or(self.hosts[id]
                    .shut_out
                    .then(|| "it reaches nothing".to_owned())),
            ..HostRow::default()
        });
        let machines = self.journal.at.iter().map(|(id, (host, ..))| MachineRow {
            id: Some(*id),
            name: id.to_string(),
            needs: [5; 5],
            kept: 5,
            tier: self.tiers[id],
            at: place.iter().position(|h| h == host),
            only: Some(Arc::new(
                place
                    .iter()
                    .map(|h| self.hosts[h].reaches(disk_of(*id)))
                    .collect(),
            )),
            ..MachineRow::default()
        });
        Table {
            hosts: hosts.collect(),
            machines: machines.collect(),
            groups: vec![],
            boot: None,
        }
    }
}
