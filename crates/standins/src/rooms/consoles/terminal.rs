//! The text console of a simulated guest: what it prints while it boots, a prompt to sign in, a small shell. All in the
//! guest's own time, which stands still while it is moved.

use crate::{
    rooms::machines::firmware::LOCKED, rooms::machines::guest::BOOT, rooms::storage::volume::Record,
};
use serde::{Deserialize, Serialize};
use std::fmt::Write;

/// The most that is remembered.
const HISTORY: usize = 64 << 10;
/// From then on the kernel speaks.
const LOADED: i64 = 3_500;
/// Guest milliseconds between two ticks of the clock.
const TICK: i64 = 100;

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
enum Does {
    /// Firmware, loader, kernel: lines come by themselves.
    #[default]
    Boots,
    /// The recovery key of its disk is asked for.
    Key,
    Name,
    Password,
    Shell,
    Clock,
    Ping(String),
    Write,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Console {
    paper: Paper,
    line: String,
    does: Does,
    name: String,
    /// Lines of the boot that were printed.
    shown: usize,
    /// Guest time up to which a running command has printed.
    until: i64,
    count: u64,
    /// Columns and rows of the terminal that it is shown on, once told.
    size: Option<(u64, u64)>,
}

/// What was printed, as much of it as is remembered.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Paper {
    /// Bytes that were forgotten before `kept`.
    past: u64,
    kept: Vec<u8>,
}

impl Paper {
    pub(crate) fn print(&mut self, text: &str) {
        self.kept.extend(text.as_bytes());
        if self.kept.len() > HISTORY {
            let over = self.kept.len() - HISTORY;
            self.kept.drain(..over);
            self.past += u64::try_from(over).unwrap_or(0);
        }
    }
    fn end(&self) -> u64 {
        self.past + u64::try_from(self.kept.len()).unwrap_or(0)
    }
    /// What was printed since `from`, and where it begins: earlier things are forgotten.
    pub(crate) fn since(&self, from: u64) -> (u64, Vec<u8>) {
        // Somebody who has seen more than there is looks at another boot.
        let from = if from > self.end() { 0 } else { from };
        let begins = from.max(self.past);
        let skip = usize::try_from(begins - self.past).unwrap_or(0);
        (begins, self.kept[skip..].to_vec())
    }
}

/// What the console needs to know of its guest.
pub(crate) struct Around<'a> {
    pub(crate) record: &'a Record,
    pub(crate) host_serial: &'a str,
    pub(crate) phase: &'a str,
    /// Guest milliseconds since power-on; they stand still with it.
    pub(crate) up: i64,
    /// The guest's clock, in milliseconds since 1970.
    pub(crate) clock: i64,
    /// Addresses that answer a ping, asked one at a time.
    pub(crate) answers: &'a dyn Fn(&str) -> bool,
    /// What its cluster software says of itself.
    pub(crate) cluster: &'a dyn Fn() -> String,
}

/// What a guest does to itself because of what was typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wish {
    PowerOff,
    Crash,
    /// Its first disk, with the key in its chip.
    Encrypt,
    /// The recovery key was typed.
    Unlock,
    /// Installs the agent from the image in its drive.
    Agent,
}

impl Console {
    fn print(&mut self, text: &str) {
        self.paper.print(text);
    }
    pub(crate) fn since(&self, from: u64) -> (u64, Vec<u8>) {
        self.paper.since(from)
    }
    pub(crate) fn resize(&mut self, columns: u64, rows: u64) {
        self.size = Some((columns, rows));
    }
    /// Its last lines, as a screen shows them.
    pub(crate) fn tail(&self, most: usize) -> Vec<String> {
        let (_, bytes) = self.paper.since(0);
        let text = String::from_utf8_lossy(&bytes).into_owned();
        // A line that begins anew overwrites what stood there.
        let shown = |line: &str| {
            line.rsplit('\r')
                .find(|p| !p.is_empty())
                .unwrap_or("")
                .to_owned()
        };
        let lines: Vec<String> = text.split('\n').map(shown).collect();
        lines[lines.len().saturating_sub(most)..].to_vec()
    }
    pub(crate) fn writes(&self) -> bool {
        self.does == Does::Write
    }

    /// Prints what is due.
    pub(crate) fn advance(&mut self, around: &Around<'_>) {
        match self.does.clone() {
            Does::Boots => self.boot(around),
            Does::Clock => {
                while self.until + TICK <= around.up {
                    self.until += TICK;
                    let clock = around.clock - (around.up - self.until);
                    let text = format!("\r{}", time_of_day(clock));
                    self.print(&text);
                }
            }
            Does::Ping(to) => {
                while self.until + 1000 <= around.up {
                    self.until += 1000;
                    self.count += 1;
                    let text = if (around.answers)(&to) {
                        format!(
                            "answer from {to}: seq={} time=0.{} ms\r\n",
                            self.count,
                            2 + self.count % 6
                        )
                    } else {
                        format!("no answer from {to}: seq={}\r\n", self.count)
                    };
                    self.print(&text);
                }
            }
            Does::Write => {
                while self.until + 1000 <= around.up {
                    self.until += 1000;
                    self.count += 256;
                    let text = format!("\r{} MiB written", self.count);
                    self.print(&text);
                }
            }
            Does::Key if around.phase != LOCKED => {
                self.does = Does::Boots;
                self.boot(around);
            }
            Does::Name | Does::Password | Does::Shell | Does::Key => {}
        }
    }

    fn boot(&mut self, around: &Around<'_>) {
        if around.phase == "installer" {
            if self.shown == 0 {
                self.shown = 1;
                self.print("Installer: writing the system to disk 1\r\n");
            }
            return;
        }
        if around.phase == LOCKED {
            self.shown = self.shown.max(3);
            self.does = Does::Key;
            return self.print("Disk 1 is encrypted, and the security chip does not hold its key.\r\nRecovery key: ");
        }
        while let Some((at, line)) = BOOT.get(self.shown)
            && *at <= around.up
            // Where no loader is found, nothing comes after it.
            && (around.phase != "loader" || *at < LOADED)
        {
            self.shown += 1;
            let text = format!("{line}\r\n");
            self.print(&text);
        }
        if around.phase == "up" {
            for (_, line) in BOOT.iter().skip(self.shown) {
                let text = format!("{line}\r\n");
                self.print(&text);
            }
            self.shown = BOOT.len();
            self.greet(&around.record.name);
        }
    }

    fn greet(&mut self, name: &str) {
        self.does = Does::Name;
        let text = format!("\r\nPilot Linux 12 on {name}\r\n\r\n{name} name: ");
        self.print(&text);
    }

    fn prompt(&mut self, around: &Around<'_>) {
        self.does = Does::Shell;
        let text = format!("{}@{}:~$ ", self.name, around.record.name);
        self.print(&text);
    }

    /// Somebody types.
    pub(crate) fn input(&mut self, text: &str, around: &Around<'_>) -> Option<Wish> {
        let mut out = None;
        for c in text.chars() {
            match c {
                '\u{3}' => {
                    self.line.clear();
                    if matches!(
                        self.does,
                        Does::Clock | Does::Ping(_) | Does::Write | Does::Shell
                    ) {
                        self.print("^C\r\n");
                        self.prompt(around);
                    }
                }
                '\r' | '\n' => {
                    let line = std::mem::take(&mut self.line);
                    if !matches!(
                        self.does,
                        Does::Boots | Does::Clock | Does::Ping(_) | Does::Write
                    ) {
                        self.print("\r\n");
                        out = out.or(self.enter(line.trim(), around));
                    }
                }
                '\u{8}' | '\u{7f}' => self.rub_out(),
                c if c.is_control() => {}
                c if self.line.len() < 400 => {
                    if matches!(self.does, Does::Name | Does::Shell) {
                        let text = c.to_string();
                        self.print(&text);
                    }
                    if matches!(
                        self.does,
                        Does::Name | Does::Shell | Does::Password | Does::Key
                    ) {
                        self.line.push(c);
                    }
                }
                _ => {}
            }
        }
        out
    }

    fn rub_out(&mut self) {
        if self.line.pop().is_some() && self.does != Does::Password {
            self.print("\u{8} \u{8}");
        }
    }

    fn enter(&mut self, line: &str, around: &Around<'_>) -> Option<Wish> {
        match self.does {
            Does::Name => {
                if line.is_empty() {
                    self.greet(&around.record.name);
                } else {
                    self.name = line.chars().take(20).collect();
                    self.does = Does::Password;
                    self.print("password: ");
                }
                None
            }
            // A simulated guest takes any key.
            Does::Key if line.is_empty() => {
                self.print("Recovery key: ");
                None
            }
            Does::Key => {
                self.print("Disk 1: unlocked\r\n");
                self.does = Does::Boots;
                Some(Wish::Unlock)
            }
            // A simulated guest lets everybody in.
            Does::Password => {
                self.print("\r\nWelcome. Type help for what can be done here.\r\n");
                self.prompt(around);
                None
            }
            _ => self.command(line, around),
        }
    }

    fn command(&mut self, line: &str, around: &Around<'_>) -> Option<Wish> {
        let mut words = line.split_whitespace();
        let (command, first) = (words.next().unwrap_or_default(), words.next());
        let said = match (command, first) {
            ("", _) => String::new(),
            ("help", _) => {
                "uptime  date  clock  ip addr  free  ping ADDRESS  dd  stty  serial  generation  first-boot  firmware  encrypt  cluster status  agent install  crash  poweroff  exit\r\nCtrl-C stops what runs\r\n".into()
            }
            ("uptime", _) => format!("up {} s\r\n", around.up / 1000),
            ("date", _) => format!("{} UTC\r\n", time_of_day(around.clock)),
            ("serial", _) => format!("host {}\r\n", around.host_serial),
            ("generation", _) => format!("{}\r\n", around.record.generation_id),
            ("first-boot", _) => around.record.first_boot.as_ref().map_or_else(|| "nothing was told yet\r\n".into(), |a| a.lines()),
            ("hostname", _) => format!("{}\r\n", host_name(around.record)),
            ("ip", _) => addresses(around.record),
            ("free", _) => {
                let mib = |bytes: u64| bytes >> 20;
                let size = around.record.memory.size;
                let used = size / 100 * (30 + u64::from(around.record.temper.busy.min(100)) / 2);
                format!(
                    "total {} MiB  used {} MiB  free {} MiB\r\n",
                    mib(size),
                    mib(used),
                    mib(size - used)
                )
            }
            ("ping", Some(to)) => {
                self.start(Does::Ping(to.chars().take(60).collect()), around);
                return None;
            }
            ("ping", None) => "ping whom? Type an address.\r\n".into(),
            ("agent", Some("install")) if around.record.boot.image.is_none() => "There is nothing in the drive.\r\n".into(),
            ("agent", Some("install")) => {
                self.print("Installed from the drive; the agent answers now.\r\n");
                self.prompt(around);
                return Some(Wish::Agent);
            }
            ("agent", _) => "agent install takes it from the drive\r\n".into(),
            ("firmware", _) => around.record.firmware_words(),
            ("encrypt", _) if around.record.firmware.chip.is_none() => "This machine has no security chip to keep a key in.\r\n".into(),
            ("encrypt", _) => {
                self.print("Disk 1 is encrypted; the security chip keeps its key.\r\n");
                self.prompt(around);
                return Some(Wish::Encrypt);
            }
            ("cluster", Some("status")) => (around.cluster)(),
            ("cluster", _) => "cluster status shows who writes\r\n".into(),
            ("clock", _) => {
                self.start(Does::Clock, around);
                return None;
            }
            ("dd", _) => {
                self.start(Does::Write, around);
                return None;
            }
            ("poweroff", _) => {
                self.print("Stopping everything.\r\n");
                return Some(Wish::PowerOff);
            }
            ("stty", _) => {
                let (columns, rows) = self.size.unwrap_or((80, 24));
                format!("{rows} rows, {columns} columns\r\n")
            }
            ("crash", _) => {
                self.print("The kernel is told to stop.\r\n");
                return Some(Wish::Crash);
            }
            ("exit", _) => {
                self.greet(&around.record.name);
                return None;
            }
            (other, _) => format!("{}: not found; type help\r\n", other.chars().take(40).collect::<String>()),
        };
        self.print(&said);
        self.prompt(around);
        None
    }

    fn start(&mut self, does: Does, around: &Around<'_>) {
        self.does = does;
        self.until = around.up;
        self.count = 0;
    }
}

/// As it was told, else as its machine is called.
fn host_name(record: &Record) -> &str {
    record
        .first_boot
        .as_ref()
        .map_or(record.name.as_str(), |a| a.host_name.as_str())
}

pub(crate) fn time_of_day(ms: i64) -> String {
    let of_day = ms.rem_euclid(86_400_000);
    let (s, tenth) = (of_day / 1000, of_day % 1000 / 100);
    format!("{:02}:{:02}:{:02}.{tenth}", s / 3600, s / 60 % 60, s % 60)
}

fn addresses(record: &Record) -> String {
    let mut out = String::new();
    let seeded = record
        .seed
        .as_ref()
        .map(crate::rooms::machines::seed::addresses);
    for (n, nic) in record.nics.iter().enumerate() {
        let _ = write!(out, "eth{n}: {}", nic.mac);
        let given = seeded.clone().unwrap_or_default();
        let all = if given.is_empty() {
            &nic.addresses
        } else {
            &given
        };
        for address in all {
            let _ = write!(out, "  {address}");
        }
        out.push_str("\r\n");
    }
    out.push_str("lo: 127.0.0.1\r\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rooms::storage::volume::Memory;

    fn record() -> Record {
        serde_json::from_value(
            serde_json::json!({"name": "db", "vcpus": 1, "video": 0, "disks": [],
            "memory": {"kept": 1u64 << 30, "size": 1u64 << 30, "max": 1u64 << 30},
            "nics": [{"mac": "02:5a:00:00:00:01", "addresses": ["10.0.0.9"]}]}),
        )
        .unwrap()
    }

    struct Guest {
        console: Console,
        record: Record,
        seen: u64,
    }

    impl Guest {
        fn at(&mut self, up: i64, typed: &str) -> (String, Option<Wish>) {
            let phase = if up < 14_000 { "kernel" } else { "up" };
            let answers = |to: &str| to == "10.0.0.1";
            let around = Around {
                record: &self.record,
                host_serial: "SN1",
                phase,
                up,
                clock: up,
                answers: &answers,
                cluster: &String::new,
            };
            self.console.advance(&around);
            let out = self.console.input(typed, &around);
            let (begins, bytes) = self.console.since(self.seen);
            self.seen = begins + bytes.len() as u64;
            (String::from_utf8(bytes).unwrap(), out)
        }
    }

    fn guest() -> Guest {
        Guest {
            console: Console::default(),
            record: record(),
            seen: 0,
        }
    }

    #[test]
    fn it_boots_asks_for_a_name_and_has_a_shell() {
        let mut g = guest();
        assert!(
            g.at(5_000, "")
                .0
                .ends_with("clocksource: paravirtual clock\r\n")
        );
        assert!(g.at(15_000, "").0.ends_with("db name: "));
        assert_eq!(g.at(16_000, "ann\r").0, "ann\r\npassword: ");
        let welcome = g.at(17_000, "secret\r").0;
        assert!(!welcome.contains("secret"), "never shown");
        assert!(welcome.ends_with("ann@db:~$ "));
        assert!(
            g.at(18_000, "uptme\u{8}\u{8}\u{8}time\r")
                .0
                .contains("up 18 s")
        );
        assert!(g.at(19_000, "ip addr\r").0.contains("10.0.0.9"));
        assert!(g.at(20_000, "free\r").0.contains("total 1024 MiB"));
        assert!(g.at(21_000, "frobnicate\r").0.contains("not found"));
        assert_eq!(g.at(22_000, "poweroff\r").1, Some(Wish::PowerOff));
        assert_eq!(
            record().memory.size,
            Memory {
                kept: 1 << 30,
                size: 1 << 30,
                max: 1 << 30
            }
            .size
        );
    }

    #[test]
    fn the_clock_ticks_in_the_guests_own_time() {
        let mut g = guest();
        g.at(15_000, "ann\rx\rclock\r");
        assert_eq!(g.at(15_350, "").0, "\r00:00:15.1\r00:00:15.2\r00:00:15.3");
        assert_eq!(g.at(15_350, "").0, "", "it stands still with its guest");
        assert!(g.at(15_400, "\u{3}").0.ends_with("$ "));
    }

    #[test]
    fn a_ping_tells_who_answers_and_dd_writes_until_it_is_stopped() {
        let mut g = guest();
        g.at(15_000, "ann\rx\rping 10.0.0.1\r");
        assert!(g.at(16_000, "").0.contains("answer from 10.0.0.1: seq=1"));
        g.at(16_100, "\u{3}ping 10.0.0.2\r");
        assert!(g.at(17_200, "").0.contains("no answer from 10.0.0.2"));
        g.at(17_300, "\u{3}dd\r");
        assert!(g.console.writes());
        assert!(g.at(18_400, "").0.contains("256 MiB written"));
        g.at(18_500, "\u{3}");
        assert!(!g.console.writes());
    }

    #[test]
    fn what_is_long_past_is_forgotten() {
        let mut g = guest();
        for _ in 0..5000 {
            g.console.print("0123456789abcdefghij\r\n");
        }
        let (begins, bytes) = g.console.since(0);
        assert_eq!(bytes.len(), HISTORY);
        assert_eq!(begins, 5000 * 22 - HISTORY as u64);
        assert_eq!(g.console.since(u64::MAX).1.len(), HISTORY, "another boot");
    }
}
