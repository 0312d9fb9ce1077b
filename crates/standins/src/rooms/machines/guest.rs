//! A simulated guest: the phases of its boot, and how busy it is.

use crate::{
    rooms::consoles::screen::Screen,
    rooms::consoles::terminal::Console,
    rooms::storage::volume::{Record, Size, Temper},
};
use serde::{Deserialize, Serialize};

/// File systems that stand still for several snapshots at once.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Still {
    pub(crate) id: String,
    /// Virtual milliseconds; nobody is kept waiting longer.
    pub(crate) until: i64,
}

/// A machine that is on, as its host keeps it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Guest {
    pub(crate) volume: String,
    pub(crate) generation: u64,
    /// Virtual milliseconds.
    pub(crate) started: i64,
    /// `disk`, `image` or `network`.
    #[serde(default = "disk")]
    pub(crate) from: String,
    pub(crate) stopping: Option<i64>,
    /// Why it is halted, and since when.
    #[serde(default)]
    pub(crate) paused: Option<(String, i64)>,
    /// Since when it stands still in the middle of a move.
    #[serde(default)]
    pub(crate) frozen: Option<i64>,
    /// Its file systems stand still, for whom and until when at most.
    #[serde(default)]
    pub(crate) still: Option<Still>,
    /// What it prints; not kept over a restart of the stand-ins.
    #[serde(skip)]
    pub(crate) console: Console,
    /// What its graphical screen shows, likewise.
    #[serde(skip)]
    pub(crate) screen: Screen,
    /// Its kernel stopped so many milliseconds after its start.
    #[serde(default)]
    pub(crate) crashed: Option<i64>,
    /// Since when nothing of it goes on, and since when its agent alone is silent.
    #[serde(default)]
    pub(crate) hung: Option<i64>,
    #[serde(default)]
    pub(crate) mute: Option<i64>,
    /// With what it was started, or was given since; none: with what its record says.
    #[serde(default)]
    pub(crate) now: Option<Size>,
    /// Its disk can't be read until somebody types its recovery key; when that began to be asked for, it stands there.
    #[serde(default)]
    pub(crate) locked: bool,
    /// Nothing on its disk boots.
    #[serde(default)]
    pub(crate) spoilt: bool,
    /// Bytes that it waits to write.
    #[serde(default)]
    pub(crate) unwritten: u64,
}

fn disk() -> String {
    "disk".into()
}

/// How long after power-on each phase ends, in virtual milliseconds.
const PHASES: [(&str, i64); 4] = [
    ("firmware", 2_000),
    ("loader", 3_500),
    ("kernel", 8_000),
    ("services", 14_000),
];
/// From an image or the network an installer runs first, and then it boots from its disk.
const INSTALLS: [(&str, i64); 3] = [
    ("firmware", 2_000),
    ("loader of what it boots from", 5_000),
    ("installer", 22_000),
];
/// What a guest says while it boots: (milliseconds since it started, line).
pub(crate) const BOOT: [(i64, &str); 14] = [
    (100, "Firmware 3.2 for virtual machines"),
    (400, "Memory test passed"),
    (900, "Disk 1: ready"),
    (2100, "Loader 2: Pilot Linux 12"),
    (3600, "[    0.000000] Pilot Linux 12, kernel 6.9.4"),
    (4300, "[    0.412210] clocksource: paravirtual clock"),
    (5200, "[    1.204417] virtio disk: 1 found"),
    (6100, "[    2.310054] virtio net: link is up"),
    (7400, "[    3.877120] root: mounted"),
    (8600, "  started  time synchronisation"),
    (9900, "  started  name resolution"),
    (11200, "  started  guest agent"),
    (12500, "  started  secure shell"),
    (13600, "  reached  everything that was asked for"),
];
const STOP_TAKES: i64 = 6_000;

impl Guest {
    pub(crate) fn started(volume: String, generation: u64, started: i64, from: String) -> Self {
        Guest {
            volume,
            generation,
            started,
            from,
            stopping: None,
            console: Default::default(),
            screen: Default::default(),
            crashed: None,
            hung: None,
            mute: None,
            frozen: None,
            still: None,
            paused: None,
            locked: false,
            spoilt: false,
            unwritten: 0,
            now: None,
        }
    }
    /// Its disk can be read now.
    pub(crate) fn goes_on(&mut self, now: i64) {
        self.locked = false;
        self.started = self.started.max(now - super::firmware::ASKS_AFTER);
    }
    /// A reset from inside: it boots again, still on.
    pub(crate) fn boot_again(&mut self, now: i64) {
        self.started = now;
        self.from = disk();
        self.console = Console::default();
        self.screen = Screen::default();
        (self.hung, self.mute, self.crashed) = (None, None, None);
    }
    /// Heartbeats of its agent and operations of its disks and cards since its start, for a guest that has an agent.
    pub(crate) fn pulse(&self, now: i64, temper: Temper) -> Option<(i64, i64)> {
        if !temper.agent {
            return None;
        }
        let up = match self.spoilt {
            true => i64::MAX,
            false => self.started + PHASES[3].1,
        };
        let halted = self.paused.as_ref().map(|(_, since)| *since);
        let until = |stopped: [Option<i64>; 4]| stopped.into_iter().flatten().fold(now, i64::min);
        let beats = until([self.hung, self.mute, self.frozen, halted])
            .saturating_sub(up)
            .max(0)
            / 1_000;
        let moved = (until([self.hung, self.frozen, halted, None]) - self.started).max(0) / 500;
        Some((beats, moved))
    }
    /// The phase it is in: `firmware` … `services`, `up`, `stopping` or `off`.
    pub(crate) fn phase(&self, now: i64, temper: Temper) -> &'static str {
        if self.crashed.is_some() {
            return "crashed";
        }
        if self.paused.is_some() {
            return "paused";
        }
        match self.stopping {
            Some(asked) if !temper.stubborn && now - asked >= STOP_TAKES => return "off",
            Some(_) if !temper.stubborn => return "stopping",
            _ => {}
        }
        let mut since = self.frozen.unwrap_or(now) - self.started;
        if self.locked && since >= super::firmware::ASKS_AFTER {
            return super::firmware::LOCKED;
        }
        if self.spoilt && since >= PHASES[0].1 {
            return "loader";
        }
        if self.from != "disk" {
            if let Some((name, _)) = INSTALLS.iter().find(|(_, end)| since < *end) {
                return name;
            }
            since -= INSTALLS[2].1;
        }
        PHASES
            .iter()
            .find(|(_, end)| since < *end)
            .map_or("up", |(name, _)| name)
    }
}

/// CPU in MHz and memory touched in bytes: a daily curve, with noise from a seed.
pub(crate) fn load(
    record: &Record,
    uuid: &str,
    phase: &str,
    base_mhz: u64,
    now: i64,
) -> (u64, u64) {
    if phase != "up" {
        return (
            base_mhz * u64::from(record.vcpus) / 4,
            record.memory.size / 8,
        );
    }
    let minute = now.div_euclid(60_000);
    let hour = (minute.rem_euclid(1440)) as f64 / 60.0;
    let day = 0.25 + 0.75 * (-((hour - 13.0) / 5.0).powi(2)).exp();
    let busy = f64::from(record.temper.busy) / 100.0;
    let noise = 0.8 + 0.4 * unit(hash(uuid) ^ minute.unsigned_abs());
    let capacity = (base_mhz * u64::from(record.vcpus)) as f64;
    let cpu = (capacity * busy * day * noise).min(capacity);
    let active = record.memory.size as f64 * (0.3 + 0.5 * busy * day).min(1.0);
    (whole(cpu), whole(active))
}

#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "`as` saturates"
)]
pub(crate) fn whole(figure: f64) -> u64 {
    figure.max(0.0) as u64
}

/// FNV-1a, so that the same machine always draws the same curve.
pub(crate) fn hash(text: &str) -> u64 {
    text.bytes().fold(0xcbf2_9ce4_8422_2325, |h, b| {
        (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3)
    })
}

fn unit(x: u64) -> f64 {
    let x = (x ^ (x >> 31)).wrapping_mul(0x94d0_49bb_1331_11eb);
    ((x ^ (x >> 29)) >> 11) as f64 / (1u64 << 53) as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a guest that its host halts seems to live, and whoever mistakes a halt for a hang is not found.
    #[test]
    fn a_guest_that_is_halted_shows_no_sign_of_life_and_none_is_taken_back() {
        let mut g = Guest::started("v".into(), 1, 0, "disk".into());
        let calm = Temper::default();
        let before = g.pulse(60_000, calm);
        g.paused = Some(("no path".into(), 60_000));
        assert_eq!(g.pulse(90_000, calm), before);
        // As when its volume is reached again.
        g.paused = None;
        g.started += 30_000;
        assert_eq!(g.pulse(90_000, calm), before);
        assert!(g.pulse(92_000, calm) > before);
    }

    #[test]
    fn a_guest_boots_through_its_phases_and_stops_when_asked() {
        let mut g = Guest::started("v".into(), 1, 0, "disk".into());
        let calm = Temper::default();
        assert_eq!(
            [0, 2_500, 5_000, 9_000, 14_000].map(|t| g.phase(t, calm)),
            ["firmware", "loader", "kernel", "services", "up"]
        );
        g.from = "network".into();
        assert_eq!(
            [3_000, 10_000, 22_500, 40_000].map(|t| g.phase(t, calm)),
            [
                "loader of what it boots from",
                "installer",
                "firmware",
                "up"
            ],
            "installed, then booted from its disk"
        );
        g.from = "disk".into();
        g.stopping = Some(20_000);
        assert_eq!(g.phase(21_000, calm), "stopping");
        assert_eq!(g.phase(26_000, calm), "off");
        assert_eq!(
            g.phase(
                26_000,
                Temper {
                    stubborn: true,
                    ..calm
                }
            ),
            "up"
        );
    }
}
