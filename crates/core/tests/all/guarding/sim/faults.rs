//! What goes wrong, whoever takes over, and a person who acts on what waits.

use super::*;

impl Sim {
    /// Looks, pulls the plug where it must, and vouches for it.
    pub(super) fn person(&mut self) {
        let due: Vec<HostId> = self
            .people
            .iter()
            .filter(|(_, at)| **at <= self.now)
            .map(|(h, _)| *h)
            .collect();
        for host in due {
            self.people.remove(&host);
            if self.silence(host) < 15_000 {
                continue;
            }
            if let Some(device) = self.hosts.get_mut(&host) {
                device.power = false;
                device.down();
            }
            self.say(format!(
                "a person pulls the plug of {host} and vouches for it"
            ));
            self.tell(Input::Declared { host });
        }
    }

    pub(super) fn break_something(&mut self) {
        let n = self.hosts.len() as u64;
        let host = HostId(1 + self.below(n));
        let (now, for_long, kind) = (self.now, 1000 * (1 + self.below(120)), self.below(18));
        let disk = usize::from(self.below(2) == 1);
        if kind == 10 {
            // A flicker that two looks see through.
            let until = now + 500 + self.below(2400);
            if let Some(device) = self.hosts.get_mut(&host) {
                device.flickers_until = until;
            }
            return self.say(format!("the controller of {host} says off for a moment"));
        }
        let Some(device) = self.hosts.get_mut(&host) else {
            return;
        };
        let what = match kind {
            0 | 1 => {
                device.power = false;
                device.down();
                "loses its power"
            }
            2 => {
                device.power = false;
                device.down();
                device.bmc_dead = true;
                "loses its power, and its controller with it"
            }
            3 | 4 => {
                device.stalled_until = now + for_long;
                "hangs"
            }
            5 => {
                device.agent_dead = !device.agent_dead;
                "its agent dies, or comes back"
            }
            6 => {
                device.mute = !device.mute;
                "is not heard, or is again"
            }
            7 => {
                device.deaf = !device.deaf;
                "hears nothing, or does again"
            }
            8 => {
                device.paths[disk] = !device.paths[disk];
                "loses a path, or has it back"
            }
            9 => {
                (device.bmc_dead, device.bmc_lame) = (for_long.is_multiple_of(2), !device.bmc_lame);
                "its controller misbehaves, or not"
            }
            16 => {
                device.unlinked = !device.unlinked;
                "its guests lose their links, or have them back"
            }
            17 => {
                (device.agent_dead, device.unlinked) = (true, true);
                "is cut off, and its guests with it"
            }
            15 => {
                device.array_dead = !device.array_dead;
                "its array answers nothing, or does again"
            }
            11 => {
                device.deaf = true;
                device.mute = true;
                "is cut off from the guard"
            }
            12 if !device.power => {
                device.comes_up(now);
                "comes back"
            }
            12 => "goes on",
            13 => return self.break_storage_or_journal(disk, for_long),
            _ => return self.break_guard(for_long),
        };
        self.say(format!("{host} {what}"));
    }

    pub(super) fn break_storage_or_journal(&mut self, disk: usize, for_long: u64) {
        if for_long.is_multiple_of(2) {
            self.disks[disk].stalled_until = self.now + for_long.min(50_000);
            return self.say(format!("volume {disk} stalls for {for_long} ms"));
        }
        self.journal.answers_from = self.now + for_long / 2;
        self.say(format!(
            "the journal answers nothing for {} ms",
            for_long / 2
        ));
    }

    pub(super) fn break_guard(&mut self, for_long: u64) {
        match self.below(3) {
            0 => {
                self.loss = if self.loss == 0 { 30 } else { 0 };
                self.say(format!("{} % of what is sent is lost", self.loss));
            }
            1 => {
                self.guard_sleeps_until = self.now + for_long;
                self.say(format!("the guard sleeps for {for_long} ms"));
            }
            _ => self.another_guard(),
        }
    }

    /// The guard dies; another one takes over with nothing but the journal. What was on its way to the journal is lost.
    pub(crate) fn another_guard(&mut self) {
        self.say("another guard takes over".into());
        self.messages
            .retain(|_, m| !matches!(m, Message::Written(_)));
        let fresh = Guard::new(
            self.mutation.times(),
            Moment(i64::try_from(self.now).unwrap_or(0)),
        );
        let lingers = match self.mutation {
            Mutation::Lingering => END,
            _ => DEPOSED,
        };
        let before = std::mem::replace(&mut self.guard, fresh);
        self.old = Some((before, self.now + lingers));
        self.began = self.now;
        self.heard.clear();
        self.plan();
    }

    pub(super) fn mend(&mut self) {
        self.say("everything is mended".into());
        let now = self.now;
        for device in self.hosts.values_mut() {
            // Volumes are given back once nothing old runs there.
            if !device.power || device.shut_out {
                device.comes_up(now);
            }
            device.stalled_until = device.stalled_until.min(now);
            (device.agent_dead, device.mute, device.deaf) = (false, false, false);
            (device.bmc_dead, device.bmc_lame, device.paths) = (false, false, [true, true]);
            (device.array_dead, device.shut_out, device.unlinked) = (false, false, false);
        }
        for disk in &mut self.disks {
            disk.stalled_until = 0;
        }
        (
            self.loss,
            self.guard_sleeps_until,
            self.journal.answers_from,
        ) = (0, 0, 0);
        self.people.clear();
    }
}
