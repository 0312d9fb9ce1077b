//! What the guard orders, within which limits it may, and what becomes of it at the devices.

use super::*;

impl Sim {
    pub(super) fn order(&mut self, order: Order) {
        match order {
            Order::Record(note) => {
                if self.mutation == Mutation::Hasty
                    && let Note::Judged { host, .. } = &note
                {
                    self.hasty(*host);
                }
                let at = self.now.max(self.journal.answers_from) + 1 + self.below(400);
                self.number += 1;
                self.messages
                    .insert((at, self.number), Message::Written(note));
            }
            Order::SwitchOff { host } => {
                self.may_switch(host);
                self.send(Message::Ordered(order), 800);
            }
            Order::Withdraw { host, ask } => {
                self.may_cut(host, "shut out");
                self.say(format!("the guard has {host} shut out"));
                self.shut_out += 1;
                if self.mutation == Mutation::Trusting {
                    let refused = None;
                    self.tell(Input::Withdrawn { host, ask, refused });
                }
                self.send(Message::Ordered(order), 800);
            }
            Order::Reset { .. } => {
                self.breaks("nobody tells how guests do, and one is reset".into())
            }
            Order::Tell {
                host,
                volume,
                number,
            } => {
                self.told_by_lease += 1;
                if self.mutation == Mutation::Unheard {
                    let counter = self.disks[0].leases.get(&host).map_or(0, |w| w.counter);
                    let word = Word {
                        counter: counter + 1,
                        unlinked: true,
                        ended: number,
                    };
                    let leases = BTreeMap::from([(host, word)]);
                    self.tell(Input::Leases { volume, leases });
                }
                self.send(Message::Ordered(order), 800);
            }
            Order::End { machine, host, .. } => {
                self.ended_before += 1;
                if self.mutation == Mutation::Unconfirmed {
                    let result = Ok(());
                    self.tell(Input::Ended {
                        machine,
                        host,
                        result,
                    });
                }
                self.send(Message::Ordered(order), 800);
            }
            Order::ReadPower { .. } | Order::Start { .. } => {
                self.send(Message::Ordered(order), 800)
            }
        }
    }

    pub(super) fn hasty(&mut self, host: HostId) {
        for (machine, (at, generation, _)) in self.journal.at.clone() {
            let other = self.hosts.keys().copied().find(|h| *h != host);
            if let Some(other) = other.filter(|_| at == host) {
                let order = Order::Start {
                    machine,
                    host: other,
                    boot: self.hosts[&other].boot,
                    generation: generation + 1,
                    fenced: vec![(host, generation)],
                };
                self.send(Message::Ordered(order), 800);
            }
        }
    }

    /// The limits on taking a host's power away.
    pub(super) fn may_switch(&mut self, host: HostId) {
        self.switched_off += 1;
        self.say(format!("the guard has {host} switched off"));
        if let Some(last) = self.journal.switched.insert(host, self.now)
            && self.now - last < 600_000
        {
            self.breaks(format!("{host} was switched off twice within ten minutes"));
        }
        self.may_cut(host, "switched off");
    }

    /// The limits on taking anything away from a host.
    pub(super) fn may_cut(&mut self, host: HostId, how: &str) {
        if self.silence(host) < 15_000 {
            let ago = self.silence(host);
            self.breaks(format!("{host} was heard {ago} ms ago and is {how}"));
        }
        let there: Vec<HostId> = self
            .hosts
            .keys()
            .copied()
            .filter(|h| !self.journal.off.contains(h))
            .collect();
        let unseen = there.iter().filter(|h| self.silence(**h) >= 15_000).count();
        if unseen * 2 > there.len() {
            let all = there.len();
            self.breaks(format!(
                "{host} is {how} while {unseen} of {all} are unseen"
            ));
        }
    }

    pub(super) fn silence(&self, host: HostId) -> u64 {
        let heard = if self.by_the_old {
            &self.heard_ever
        } else {
            &self.heard
        };
        self.now - heard.get(&host).copied().unwrap_or(self.began)
    }

    pub(super) fn arrives(&mut self, message: Message) {
        match message {
            Message::Told(input) => self.tell(input),
            Message::Beat(number, input, ended) => {
                if self.now >= self.guard_sleeps_until {
                    self.notes_beat(number, &input, &ended);
                    self.tell(input);
                }
            }
            Message::Ordered(Order::Tell {
                host,
                volume,
                number,
            }) => {
                let disk = usize::try_from(volume.0).unwrap_or(0);
                let now = self.now;
                let mut others = self.hosts.iter().filter(|(h, d)| {
                    **h != host && d.up(now) && !d.agent_dead && !d.deaf && d.reaches(disk)
                });
                if others.next().is_some() {
                    self.disks[disk].told.insert(host, number);
                }
            }
            Message::Ordered(Order::End {
                machine,
                host,
                boot,
                generation,
            }) => self.ends(machine, (host, boot), generation),
            Message::Ordered(Order::ReadPower { host, ask }) => self.reads(host, ask),
            Message::Ordered(Order::SwitchOff { host }) => self.switches(host),
            Message::Ordered(Order::Withdraw { host, ask }) => self.withdraws(host, ask),
            Message::Ordered(Order::Start {
                machine,
                host,
                boot,
                generation,
                fenced,
            }) if boot == self.hosts[&host].boot => {
                self.starts(machine, host, generation, &fenced);
            }
            Message::Ordered(Order::Start { .. }) => {}
            Message::Ordered(Order::Record(_) | Order::Reset { .. }) => {}
            Message::Written(note) => self.written(note),
        }
    }

    /// Ends a machine at its host, if it is the one that is meant.
    pub(super) fn ends(
        &mut self,
        machine: MachineId,
        (host, boot): (HostId, u64),
        generation: u64,
    ) {
        let now = self.now;
        let Some(device) = self.hosts.get_mut(&host) else {
            return;
        };
        if !device.up(now) || device.agent_dead || device.deaf {
            return;
        }
        let other = device
            .guests
            .get(&machine)
            .is_some_and(|g| g.0 != generation);
        let runs = device.guests.contains_key(&machine) && device.reaches(disk_of(machine));
        let result = if device.boot != boot || other || runs {
            let said = "it runs, or another one is meant".into();
            Err(Refusal { said, open: false })
        } else {
            if device.guests.remove(&machine).is_some() {
                device.fell.insert(machine);
            }
            Ok(())
        };
        self.say(format!("{host} is told to end {machine}: {result:?}"));
        if !self.hosts[&host].mute {
            let input = Input::Ended {
                machine,
                host,
                result,
            };
            self.send(Message::Told(input), 800);
        }
    }

    pub(super) fn reads(&mut self, host: HostId, ask: u64) {
        let device = &self.hosts[&host];
        if device.bmc_dead {
            return;
        }
        let serial = host.to_string();
        let off = !device.power || self.now < device.flickers_until;
        let said = if off {
            Power::Off { serial }
        } else {
            Power::On { serial }
        };
        self.send(Message::Told(Input::Power { host, ask, said }), 800);
    }

    pub(super) fn switches(&mut self, host: HostId) {
        let Some(device) = self.hosts.get_mut(&host).filter(|d| !d.bmc_dead) else {
            return;
        };
        if !device.bmc_lame {
            device.power = false;
            device.down();
        }
        let input = Input::Switched {
            host,
            refused: None,
        };
        self.send(Message::Told(input), 800);
    }

    pub(super) fn withdraws(&mut self, host: HostId, ask: u64) {
        let Some(device) = self.hosts.get_mut(&host).filter(|d| !d.array_dead) else {
            return;
        };
        device.shut_out = true;
        self.say(format!("{host} is shut out"));
        let refused = None;
        self.send(Message::Told(Input::Withdrawn { host, ask, refused }), 800);
    }

    pub(super) fn starts(
        &mut self,
        machine: MachineId,
        host: HostId,
        generation: u64,
        fenced: &[(HostId, u64)],
    ) {
        let device = &self.hosts[&host];
        let reaches = device.reaches(disk_of(machine)) && !device.frozen;
        if !device.up(self.now) || device.agent_dead || device.deaf {
            return;
        }
        let lease = self.leases[&machine];
        let proved = lease
            .holder
            .filter(|h| fenced.contains(&(*h, lease.generation)));
        // One that runs it already says so.
        let again = lease.holder == Some(host) && device.guests.contains_key(&machine);
        let free = lease.holder.is_none() || proved.is_some();
        let result = if !reaches {
            let said = "it does not reach its volume".into();
            Err(Refusal { said, open: false })
        } else if again {
            Ok(lease.generation)
        } else if free && generation > lease.generation {
            if let Some(old) = proved {
                let before = &self.hosts[&old];
                let runs = before
                    .guests
                    .get(&machine)
                    .is_some_and(|(g, _)| *g == lease.generation);
                if runs && before.may_write(self.now) {
                    self.breaks(format!(
                        "{machine} is started on {host} while {old} may write its disk"
                    ));
                }
            }
            let lease = Lease {
                holder: Some(host),
                generation,
            };
            self.leases.insert(machine, lease);
            let since = self.now;
            if let Some(device) = self.hosts.get_mut(&host) {
                device.guests.insert(machine, (generation, since));
                device.fell.remove(&machine);
            }
            self.restarted += 1;
            self.say(format!("{machine} starts on {host} under {generation}"));
            Ok(generation)
        } else {
            let said = format!("{:?} holds it at {}", lease.holder, lease.generation);
            Err(Refusal { said, open: false })
        };
        let input = Input::Started {
            machine,
            host,
            result,
        };
        if !self.hosts[&host].mute {
            self.send(Message::Told(input), 800);
        }
    }
}
