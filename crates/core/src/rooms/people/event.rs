//! What happens to people and to what they set for everybody.

use crate::{
    estate::{Estate, Pen},
    ids::PersonId,
    permits::Role,
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    SignedIn {
        person: PersonId,
        from: String,
    },
    /// A password was wrong. `name` only of somebody who exists: what else was typed may be a password.
    Refused {
        name: Option<String>,
        from: String,
        /// So many times of late.
        times: u32,
    },
    Added {
        person: PersonId,
        name: String,
        role: Role,
    },
    Changed {
        person: PersonId,
        name: String,
        role: Role,
        active: bool,
    },
    PasswordSet {
        person: PersonId,
        name: String,
    },
    /// An admin had one drawn for somebody who lost theirs.
    PasswordDrawn {
        person: PersonId,
        name: String,
    },
    /// The networks that calls may go to.
    Networks {
        added: Vec<String>,
        removed: Vec<String>,
    },
    /// The range from which new machines get their MAC addresses.
    Macs {
        range: String,
    },
}

fn times(n: u32) -> String {
    match n {
        1 => String::new(),
        n => format!(", {n} times of late"),
    }
}

impl Tale for Event {
    fn absorb(&self, _pen: &mut Pen<'_>) {
        match self {
            // People and settings are belongings, kept beside the journal.
            Event::SignedIn { .. }
            | Event::Refused { .. }
            | Event::Added { .. }
            | Event::Changed { .. }
            | Event::PasswordSet { .. }
            | Event::PasswordDrawn { .. }
            | Event::Networks { .. }
            | Event::Macs { .. } => {}
        }
    }

    fn tell(&self, _estate: &Estate) -> Option<Entry> {
        let (text, about) = match self {
            Event::SignedIn { person, from } => {
                (format!("Signed in from {from}"), vec![person.to_string()])
            }
            Event::Refused {
                name,
                from,
                times: n,
            } => {
                let who = name.as_deref().unwrap_or("a name that nobody has");
                let text = format!("A sign-in as {who} from {from} was refused{}", times(*n));
                (text, vec![])
            }
            Event::Added { person, name, role } => (
                format!("{name} may sign in, as {}", role.word()),
                vec![person.to_string()],
            ),
            Event::Changed {
                person,
                name,
                role,
                active,
            } => {
                let text = if *active {
                    format!("{name} is now {}", role.word())
                } else {
                    format!("{name} may not sign in any more")
                };
                (text, vec![person.to_string()])
            }
            Event::PasswordSet { person, name } => (
                format!("The password of {name} was changed"),
                vec![person.to_string()],
            ),
            Event::PasswordDrawn { person, name } => (
                format!("{name} was given a password for once; their sessions ended"),
                vec![person.to_string()],
            ),
            Event::Networks { added, removed } => {
                let part = |word: &str, all: &[String]| {
                    (!all.is_empty()).then(|| format!("{word} {}", all.join(", ")))
                };
                let parts = [part("added", added), part("removed", removed)];
                let parts: Vec<String> = parts.into_iter().flatten().collect();
                let text = format!("Management networks: {}", parts.join("; "));
                (text, vec![])
            }
            Event::Macs { range } => {
                let text = format!("New machines get MAC addresses that begin with {range}");
                (text, vec![])
            }
        };
        Some(Entry::new("people", text, about))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_refused_name_that_nobody_has_is_not_told() {
        let told = |event: Event| event.tell(&Estate::default()).unwrap().text;
        let refused = |name: Option<&str>, times| Event::Refused {
            name: name.map(str::to_owned),
            from: "192.0.2.7".into(),
            times,
        };
        assert_eq!(
            told(refused(None, 1)),
            "A sign-in as a name that nobody has from 192.0.2.7 was refused",
            "it may have been a password"
        );
        assert_eq!(
            told(refused(Some("ada"), 10)),
            "A sign-in as ada from 192.0.2.7 was refused, 10 times of late"
        );
        let networks = Event::Networks {
            added: vec!["10.0.0.0/8".into()],
            removed: vec![],
        };
        assert_eq!(told(networks), "Management networks: added 10.0.0.0/8");
    }
}
