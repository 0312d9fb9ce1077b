//! A host's own console, as its management controller shows it: how it does, whether its agent is stuck, a few commands.

use crate::{
    fault::FaultKind,
    rooms::consoles::terminal::{Paper, time_of_day},
    world::World,
};
use serde::{Deserialize, Serialize};

/// Milliseconds between two lines of how it does.
const TOLD_EVERY: i64 = 5_000;

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct HostConsole {
    paper: Paper,
    line: String,
    /// The boot whose first lines were printed.
    boot: u64,
    until: i64,
    /// Lines of its installation that were printed.
    #[serde(default)]
    lines: usize,
}

/// What there is to tell of a host.
struct Standing {
    on: bool,
    boot: u64,
    name: String,
    software: String,
    guests: usize,
    still: usize,
    kept: u64,
    memory: u64,
    stuck: bool,
    /// What its firmware and its installation said.
    lines: Vec<String>,
    installed: bool,
}

impl HostConsole {
    fn advance(&mut self, host: &Standing, now: i64) {
        if !host.on {
            if self.boot == host.boot {
                self.boot = 0;
                self.paper.print("\r\n** no power **\r\n");
            }
            return;
        }
        self.lines = self.lines.min(host.lines.len());
        for line in host.lines.get(self.lines..).unwrap_or_default() {
            self.paper
                .print(&format!("\r\n{}  {line}", time_of_day(now)));
        }
        self.lines = host.lines.len();
        if !host.installed {
            return;
        }
        if self.boot != host.boot {
            self.boot = host.boot;
            self.until = now;
            let text = format!(
                "\r\n{} firmware, boot {}\r\nhypervisor {}\r\n{} > ",
                host.name, host.boot, host.software, host.name
            );
            self.paper.print(&text);
        }
        if now - self.until >= TOLD_EVERY {
            self.until = now;
            let state = if host.stuck {
                "agent: blocked for more than 120 s, its calls are not answered"
            } else {
                "agent: answers"
            };
            let text = format!(
                "\r{}  {} guests, {} standing still, memory {} of {} GiB; {state}\r\n{} > {}",
                time_of_day(now),
                host.guests,
                host.still,
                host.kept >> 30,
                host.memory >> 30,
                host.name,
                self.line
            );
            self.paper.print(&text);
        }
    }

    fn input(&mut self, typed: &str, host: &Standing) {
        if !host.on {
            return;
        }
        for c in typed.chars() {
            match c {
                '\r' | '\n' => {
                    let line = std::mem::take(&mut self.line);
                    let said = match line.trim() {
                        "" => String::new(),
                        "guests" => {
                            format!("{} on, {} standing still\r\n", host.guests, host.still)
                        }
                        "agent" if host.stuck => "blocked\r\n".into(),
                        "agent" => "answers\r\n".into(),
                        "help" => "guests  agent  help\r\n".into(),
                        _ => "not found; type help\r\n".into(),
                    };
                    let text = format!("\r\n{said}{} > ", host.name);
                    self.paper.print(&text);
                }
                '\u{8}' | '\u{7f}' if self.line.pop().is_some() => {
                    self.paper.print("\u{8} \u{8}");
                }
                c if c.is_control() => {}
                c if self.line.len() < 200 => {
                    self.line.push(c);
                    let text = c.to_string();
                    self.paper.print(&text);
                }
                _ => {}
            }
        }
    }
}

impl World {
    /// What a host's console printed since `from`, after what was typed.
    pub(crate) fn host_console(
        &self,
        name: &str,
        from: u64,
        typed: &str,
    ) -> Option<(u64, Vec<u8>)> {
        let (now, stuck) = (self.now(), self.hangs(name));
        let mut state = self.lock();
        let host = state.hosts.get(name)?;
        let on = host.guests.iter().filter_map(|(uuid, g)| {
            let record = state.volumes.get(&g.volume)?.records.get(uuid)?;
            Some(record.memory.kept)
        });
        let standing = Standing {
            on: host.power,
            boot: host.boot,
            name: name.to_owned(),
            software: host.software.clone(),
            guests: host.guests.len(),
            still: host.guests.values().filter(|g| g.frozen.is_some()).count(),
            kept: on.sum(),
            memory: host.memory,
            stuck,
            lines: host.bare.lines.clone(),
            installed: host.bare.is_installed(),
        };
        let console = &mut state.hosts.get_mut(name)?.console;
        console.advance(&standing, now);
        console.input(typed, &standing);
        Some(console.paper.since(from))
    }
    /// Whether the agent of a host takes calls and does not answer.
    fn hangs(&self, host: &str) -> bool {
        self.has_fault(host, FaultKind::Hang)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn standing(on: bool, boot: u64, stuck: bool) -> Standing {
        Standing {
            on,
            boot,
            name: "h1".into(),
            software: "4.2.1".into(),
            guests: 3,
            still: 1,
            kept: 8 << 30,
            memory: 64 << 30,
            stuck,
            lines: vec![],
            installed: true,
        }
    }

    #[test]
    fn it_tells_how_the_host_does_also_when_its_agent_is_stuck_or_its_power_is_gone() {
        let mut c = HostConsole::default();
        let read = |c: &HostConsole| String::from_utf8(c.paper.since(0).1).unwrap();
        c.advance(&standing(true, 1, false), 0);
        c.input("guests\r", &standing(true, 1, false));
        assert!(read(&c).contains("hypervisor 4.2.1"));
        assert!(read(&c).contains("3 on, 1 standing still"));
        c.advance(&standing(true, 1, true), 5_000);
        assert!(read(&c).contains("blocked for more than 120 s"));
        c.advance(&standing(false, 1, false), 6_000);
        c.input("help\r", &standing(false, 1, false));
        assert!(
            read(&c).ends_with("** no power **\r\n"),
            "nobody reads what is typed"
        );
        c.advance(&standing(true, 2, false), 7_000);
        assert!(read(&c).contains("boot 2"));
    }
}
