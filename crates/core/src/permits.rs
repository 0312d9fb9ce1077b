//! Who may do what. Decided here and nowhere else; what is not allowed below is denied.

use crate::ids::PersonId;
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr};

/// What a person is here for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Looks at everything, changes nothing.
    Viewer,
    /// Runs machines.
    Operator,
    /// Also hosts, clusters, people and settings.
    Admin,
}

/// A kind of thing that somebody may be allowed to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Act {
    Look,
    /// Create, power, edit, delete and recover machines; answer runs about them.
    Machines,
    /// Remove a machine for good.
    Purge,
    /// Scan for, claim, edit and hand back hosts.
    Hosts,
    Clusters,
    /// Arrays, volumes, networks.
    Storage,
    /// Say what is done when a site is gone; that is tried and carried out by whoever runs machines.
    Plans,
    /// Send images that machines boot from.
    Images,
    People,
    Settings,
}

impl Act {
    pub const ALL: [Act; 10] = [
        Act::Look,
        Act::Machines,
        Act::Purge,
        Act::Hosts,
        Act::Clusters,
        Act::Storage,
        Act::Plans,
        Act::Images,
        Act::People,
        Act::Settings,
    ];
}

/// What one person may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Permits {
    role: Role,
}

impl Permits {
    pub fn of(role: Role) -> Self {
        Self { role }
    }
    pub fn allow(self, act: Act) -> bool {
        match self.role {
            Role::Viewer => matches!(act, Act::Look),
            Role::Operator => matches!(act, Act::Look | Act::Machines | Act::Images),
            Role::Admin => true,
        }
    }
}

impl Role {
    pub const ALL: [Role; 3] = [Role::Viewer, Role::Operator, Role::Admin];

    pub fn word(self) -> &'static str {
        match self {
            Role::Viewer => "viewer",
            Role::Operator => "operator",
            Role::Admin => "admin",
        }
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

impl FromStr for Role {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        Role::ALL
            .into_iter()
            .find(|r| r.word() == text)
            .ok_or_else(|| "Choose viewer, operator or admin.".into())
    }
}

/// Who did something: a person, or Zastrugi itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Who {
    pub person: Option<PersonId>,
    pub name: String,
}

impl Who {
    pub fn itself() -> Self {
        Who {
            person: None,
            name: "Zastrugi".into(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_role_may_do_what_the_one_below_may() {
        for act in Act::ALL {
            assert!(Permits::of(Role::Admin).allow(act));
            if Permits::of(Role::Viewer).allow(act) {
                assert!(Permits::of(Role::Operator).allow(act));
            }
        }
        assert!(!Permits::of(Role::Viewer).allow(Act::Machines));
        assert!(!Permits::of(Role::Operator).allow(Act::Hosts));
        assert!(!Permits::of(Role::Operator).allow(Act::Purge));
        assert!(!Permits::of(Role::Operator).allow(Act::Plans));
    }
}
