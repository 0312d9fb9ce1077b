//! What a guest does with its seed at its first boot: once for each instance, whatever its disk holds already.

use super::seed::{Files, Seed, text_of};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::fmt::Write as _;

/// What came of it, as the guest keeps it on its disk.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct Applied {
    pub(crate) instance: String,
    pub(crate) host_name: String,
    pub(crate) done: Vec<String>,
    pub(crate) failed: Vec<String>,
}

/// The zones that this guest has.
const ZONES: [&str; 12] = [
    "UTC",
    "Etc/UTC",
    "Africa/Nairobi",
    "America/Halifax",
    "America/Lima",
    "Asia/Singapore",
    "Asia/Tokyo",
    "Atlantic/Reykjavik",
    "Australia/Hobart",
    "Europe/Berlin",
    "Europe/Lisbon",
    "Europe/Oslo",
];

impl Applied {
    /// Reads the seed and does what it says.
    pub(crate) fn by(seed: &Seed, instance: &str) -> Applied {
        let read = seed.cidata().and_then(|files| Applied::of(&files));
        let unread = || Applied {
            instance: instance.to_owned(),
            host_name: String::new(),
            done: vec![],
            failed: vec!["the seed: it can't be read".into()],
        };
        read.filter(|a| a.instance == instance)
            .unwrap_or_else(unread)
    }

    fn of(files: &Files) -> Option<Applied> {
        let meta: Value = serde_json::from_str(&text_of(files, "meta-data")?).ok()?;
        let mut applied = Applied {
            instance: meta["instance-id"].as_str()?.to_owned(),
            host_name: meta["local-hostname"]
                .as_str()
                .unwrap_or_default()
                .to_owned(),
            done: Vec::new(),
            failed: Vec::new(),
        };
        applied
            .done
            .push(format!("host name {}", applied.host_name));
        let user = text_of(files, "user-data").unwrap_or_default();
        match user
            .strip_prefix("#cloud-config\n")
            .map(serde_json::from_str::<Value>)
        {
            Some(Ok(told)) => applied.obey(&told),
            Some(Err(_)) | None => applied.failed.push("user data: can't be read".into()),
        }
        let network = text_of(files, "network-config").unwrap_or_default();
        if let Ok(told) = serde_json::from_str::<Value>(&network) {
            applied.servers(&told);
        }
        let environment = text_of(files, "ovf-env.xml").unwrap_or_default();
        for line in environment.lines().filter(|l| l.contains("<Property ")) {
            let value = |name: &str| line.split(&format!("{name}=\"")).nth(1)?.split('"').next();
            let (key, value) = (
                value("oe:key").unwrap_or_default(),
                value("oe:value").unwrap_or_default(),
            );
            applied.done.push(format!("{key} is {value}"));
        }
        Some(applied)
    }

    fn obey(&mut self, told: &Value) {
        for user in told["users"].as_array().into_iter().flatten() {
            let keys = user["ssh_authorized_keys"].as_array().map_or(0, Vec::len);
            let password = match user["passwd"].as_str() {
                Some(hash) if hash.starts_with("$6$") => ", password",
                Some(_) => ", a password that it can't check",
                None => "",
            };
            let name = user["name"].as_str().unwrap_or_default();
            let keys = if keys == 1 {
                "a key".to_owned()
            } else {
                format!("{keys} keys")
            };
            self.done.push(format!("user {name}: {keys}{password}"));
        }
        match told["timezone"].as_str() {
            Some(zone) if ZONES.contains(&zone) => self.done.push(format!("time zone {zone}")),
            Some(zone) => self
                .failed
                .push(format!("time zone {zone}: it has no such zone")),
            None => {}
        }
        for (n, command) in told["runcmd"].as_array().into_iter().flatten().enumerate() {
            let command = command.as_str().unwrap_or_default();
            match ends_with(command) {
                0 => self.done.push(format!("command {}", n + 1)),
                code => self
                    .failed
                    .push(format!("command {} ended with {code}: {command}", n + 1)),
            }
        }
    }

    fn servers(&mut self, told: &Value) {
        let cards = told["ethernets"].as_object();
        for card in cards.into_iter().flat_map(|c| c.values()) {
            let all = card["nameservers"]["addresses"].as_array();
            let all: Vec<&str> = all
                .into_iter()
                .flatten()
                .filter_map(Value::as_str)
                .collect();
            if !all.is_empty() {
                self.done.push(format!("name servers {}", all.join(", ")));
            }
        }
    }

    /// As its console prints it.
    pub(crate) fn lines(&self) -> String {
        let mut out = format!("instance {}\r\n", self.instance);
        for (word, all) in [("done", &self.done), ("failed", &self.failed)] {
            for line in all {
                let _ = write!(out, "{word:8}{line}\r\n");
            }
        }
        out
    }
}

/// With what a command ends in this guest's shell, which knows few.
fn ends_with(command: &str) -> u8 {
    let mut words = command.split_whitespace();
    match (words.next(), words.next()) {
        (Some("false"), _) => 1,
        (Some("exit"), Some(code)) => code.parse().unwrap_or(2),
        (
            Some("true" | "exit" | "echo" | "touch" | "mkdir" | "systemctl" | "sh" | "install"),
            _,
        ) => 0,
        (Some(_), _) => 127,
        (None, _) => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a command that came to nothing counts as done.
    #[test]
    fn a_guest_says_what_it_could_not_do() {
        let mut applied = Applied {
            instance: String::new(),
            host_name: String::new(),
            done: vec![],
            failed: vec![],
        };
        applied.obey(&serde_json::json!({"timezone": "Mars/Base", "runcmd": ["touch /a", "exit 3", "frobnicate"]}));
        assert_eq!(applied.done, ["command 1"]);
        assert_eq!(
            applied.failed,
            [
                "time zone Mars/Base: it has no such zone",
                "command 2 ended with 3: exit 3",
                "command 3 ended with 127: frobnicate"
            ]
        );
    }
}
