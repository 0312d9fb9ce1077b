//! Hosts: leases, watchdogs and clocks of their own, and what they say once a second.

use super::*;

#[derive(Debug, Clone, Default)]
pub(crate) struct Device {
    pub(crate) power: bool,
    /// Comes up then.
    pub(super) boots_until: u64,
    pub(crate) stalled_until: u64,
    pub(crate) agent_dead: bool,
    pub(super) boot: u64,
    /// Thousandths of real time.
    pub(super) rate: u64,
    pub(crate) watchdog: bool,
    pub(super) frozen: bool,
    /// When it last sent a renewal that arrived, and when the next is due.
    pub(super) renewed: u64,
    pub(super) due: u64,
    pub(super) guests: BTreeMap<MachineId, (u64, u64)>,
    /// What it hears and says.
    pub(crate) deaf: bool,
    pub(crate) mute: bool,
    pub(crate) paths: [bool; 2],
    pub(crate) bmc_dead: bool,
    /// Takes orders and does nothing.
    pub(crate) bmc_lame: bool,
    /// Says off without being so until then.
    pub(super) flickers_until: u64,
    /// Whether its volumes lie on an array that can be told, whether that answers, and whether it has shut it out.
    pub(crate) array: bool,
    pub(crate) array_dead: bool,
    pub(crate) shut_out: bool,
    /// Nobody reaches its guests.
    pub(crate) unlinked: bool,
    /// Machines that it ended since its boot.
    pub(super) fell: BTreeSet<MachineId>,
    /// By volume, under which number it ended what it ran because its lease there told it.
    pub(super) ended: [u64; 2],
}

impl Device {
    pub(super) fn age(&self, now: u64) -> u64 {
        (now - self.renewed) * self.rate / 1000
    }
    pub(super) fn up(&self, now: u64) -> bool {
        self.power && now >= self.boots_until && now >= self.stalled_until
    }
    /// Whether its guests write, or may go on to write without anybody looking first.
    pub(super) fn may_write(&self, now: u64) -> bool {
        self.power && !self.frozen && !self.shut_out && self.age(now) < FREEZE
    }
    pub(crate) fn runs(&self, machine: MachineId) -> bool {
        self.guests.contains_key(&machine)
    }
    pub(super) fn reaches(&self, volume: usize) -> bool {
        self.paths[volume] && !self.shut_out
    }
    pub(super) fn down(&mut self) {
        self.guests.clear();
        self.fell.clear();
        self.frozen = false;
        self.stalled_until = 0;
    }
    pub(super) fn comes_up(&mut self, now: u64) {
        self.power = true;
        self.boot += 1;
        (self.renewed, self.due) = (now, now);
        self.boots_until = now + COMES_UP;
        self.down();
    }
}

impl Sim {
    pub(super) fn lives(&mut self, host: HostId) {
        let (now, stalled) = (
            self.now,
            [self.disks[0].stalled_until, self.disks[1].stalled_until],
        );
        let Some(device) = self.hosts.get_mut(&host) else {
            return;
        };
        if !device.power || now < device.boots_until {
            return;
        }
        // The hardware's own clock goes on whatever hangs.
        if device.watchdog && device.age(now) >= RESET {
            device.comes_up(now);
            return self.say(format!("{host}: its watchdog resets it"));
        }
        if now < device.stalled_until {
            return;
        }
        if device.age(now) >= FREEZE && !device.frozen {
            device.frozen = true;
            self.story.push((now, format!("{host} freezes its guests")));
        }
        if now >= device.due {
            device.due = now + RENEW * 1000 / device.rate;
            let reached: Vec<usize> = (0..2)
                .filter(|v| device.reaches(*v) && stalled[*v] <= now)
                .collect();
            let unlinked = device.unlinked && !device.guests.is_empty();
            let told = reached.iter().filter_map(|v| {
                let disk = &self.disks[*v];
                let number = *disk.told.get(&host)?;
                let lately = disk
                    .leases
                    .get(&host)
                    .is_some_and(|w| w.counter <= number + 6);
                (unlinked && lately && number > device.ended[*v]).then_some((*v, number))
            });
            let told: Vec<(usize, u64)> = told.collect();
            if !told.is_empty() {
                told.iter().for_each(|(v, n)| device.ended[*v] = *n);
                device.fell.extend(device.guests.keys());
                device.guests.clear();
                for lease in self.leases.values_mut().filter(|l| l.holder == Some(host)) {
                    lease.holder = None;
                }
                self.story
                    .push((now, format!("{host} ends what it runs: its lease told it")));
            }
            for volume in &reached {
                let word = self.disks[*volume].leases.entry(host).or_default();
                word.counter += 1;
                (word.unlinked, word.ended) = (unlinked, device.ended[*volume]);
                self.disks[*volume].changed.insert(host, now);
            }
            if reached.is_empty() {
                device.due = now + 1000;
            } else {
                device.renewed = now;
                device.frozen = false;
                // Before guests go on it is looked who holds their leases.
                let leases = &self.leases;
                device.guests.retain(|m, (g, _)| {
                    leases[m].holder == Some(host) && leases[m].generation == *g
                });
            }
        }
        if now.is_multiple_of(1000) && !device.agent_dead && !device.mute {
            self.beats(host);
        }
    }

    pub(super) fn beats(&mut self, host: HostId) {
        let now = self.now;
        let device = &self.hosts[&host];
        let running = device.guests.iter().map(|(m, (g, since))| {
            let (disk, gone) = (disk_of(*m), host.0.is_multiple_of(2));
            let volume = VolumeId(disk as u64);
            let lacks = (!device.reaches(disk)).then_some(Lack::Volume { volume, gone });
            Running {
                machine: *m,
                generation: *g,
                answers: now - since >= BOOT,
                pulse: None,
                held: lacks.is_some(),
                lacks,
            }
        });
        let beat = Input::Heard {
            host,
            boot: device.boot,
            watchdog: device.watchdog,
            running: running.collect(),
        };
        let paths = [0, 1].map(|v| device.reaches(v));
        let ended = device.fell.clone();
        self.send(Message::Beat(now, beat, ended), 1500);
        for (n, disk) in self.disks.clone().into_iter().enumerate() {
            if paths[n] && disk.stalled_until <= now {
                let volume = VolumeId(n as u64);
                let leases = disk.leases;
                self.send(Message::Told(Input::Leases { volume, leases }), 1500);
            }
        }
    }
}
