//! Service fronts: an address for machines behind a load balancer.

use super::Controller;
use crate::{
    ids::{BalancerId, FrontId, NetworkId, SecretRef, SiteId},
    moment::{Moment, Span},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, net::IpAddr};

/// A load balancer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Balancer {
    pub id: BalancerId,
    pub name: String,
    pub site: SiteId,
    pub access: Controller,
    /// The token that it takes orders with.
    pub key: Option<SecretRef>,
    pub software: String,
    /// False until it was read once.
    pub known: bool,
}

impl Balancer {
    pub fn answers(&self) -> bool {
        self.known && self.access.silent.is_none()
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Front {
    pub id: FrontId,
    pub name: String,
    pub balancer: BalancerId,
    /// The network in which its address lies; its machines are those of the cluster that has it.
    pub network: NetworkId,
    pub address: IpAddr,
    pub port: u16,
    /// Machines with this label are its members.
    pub label: Line,
    /// The port on which each of them serves.
    pub serves: u16,
    pub manner: Manner,
    /// What it shows to whoever comes by TLS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<Box<Certificate>>,
    /// False while the run that makes it hasn't finished.
    pub ready: bool,
    /// Its members as the balancer last said, by `address:port`; none: it has no such front.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<BTreeMap<String, Seen>>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// A certificate with what it says, and where the key that belongs to it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Certificate {
    pub shown: Shown,
    pub key: SecretRef,
}

/// A chain of certificates, the front's own first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Shown {
    /// RFC 7468.
    pub pem: String,
    /// The names that it is for.
    pub names: Vec<String>,
    pub from: Moment,
    pub until: Moment,
}

impl Shown {
    /// How long before it runs out somebody is reminded of it.
    pub const REMIND: Span = Span::days(30);

    pub fn standing(&self, now: Moment) -> Validity {
        if self.until <= now {
            Validity::Over
        } else if self.from > now {
            Validity::Early
        } else if self.until.since(now) < Self::REMIND {
            Validity::Ending
        } else {
            Validity::Good
        }
    }
}

/// How a certificate stands at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Validity {
    /// Its time has not come yet.
    Early,
    Good,
    /// Good, and soon no more.
    Ending,
    Over,
}

/// How connections are passed on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manner {
    pub protocol: Protocol,
    pub method: Method,
    pub sticks: Sticks,
    pub health: Health,
    /// How long open connections may take to end when a member is taken out.
    pub drain: Span,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Protocol {
    Tcp,
    Http,
    /// HTTP behind TLS, which ends at the balancer.
    Https,
}

/// Who gets the next connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Method {
    RoundRobin,
    LeastConnections,
    /// The same for one sender, as long as the members stay the same.
    Source,
}

/// Whether somebody who comes again gets the same member.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sticks {
    No,
    Cookie,
    Source,
}

/// How it is seen whether a member serves.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Health {
    pub check: Check,
    pub every: Span,
    /// So many failures in a row take it out, so many successes bring it back.
    pub falls: u8,
    pub rises: u8,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Check {
    /// A connection is taken.
    Tcp,
    Http {
        path: Line,
        status: u16,
        /// What the answer must hold; empty: anything.
        #[serde(default, skip_serializing_if = "str::is_empty")]
        text: Line,
    },
}

/// A member as the balancer sees it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seen {
    /// It gets new connections if it serves.
    pub admitted: bool,
    pub state: MemberState,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum MemberState {
    Serves,
    /// With the balancer's words.
    Fails(String),
    /// Taken out; connections that are open go on.
    Drains,
    Out,
}

impl Protocol {
    pub const ALL: [Protocol; 3] = [Protocol::Tcp, Protocol::Http, Protocol::Https];
    /// Whether requests are read, and not only bytes passed on.
    pub fn reads(self) -> bool {
        self != Protocol::Tcp
    }
    pub fn word(self) -> &'static str {
        match self {
            Protocol::Tcp => "TCP",
            Protocol::Http => "HTTP",
            Protocol::Https => "HTTPS",
        }
    }
}

impl Method {
    pub const ALL: [Method; 3] = [Method::RoundRobin, Method::LeastConnections, Method::Source];
    pub fn word(self) -> &'static str {
        match self {
            Method::RoundRobin => "round robin",
            Method::LeastConnections => "least connections",
            Method::Source => "source",
        }
    }
}

impl Sticks {
    pub const ALL: [Sticks; 3] = [Sticks::No, Sticks::Cookie, Sticks::Source];
    pub fn word(self) -> &'static str {
        match self {
            Sticks::No => "none",
            Sticks::Cookie => "cookie",
            Sticks::Source => "source",
        }
    }
}

impl Manner {
    /// What is usual.
    pub fn usual(protocol: Protocol) -> Self {
        let check = match protocol {
            Protocol::Tcp => Check::Tcp,
            Protocol::Http | Protocol::Https => Check::Http {
                path: "/".into(),
                status: 200,
                text: "".into(),
            },
        };
        Manner {
            protocol,
            method: Method::RoundRobin,
            sticks: Sticks::No,
            health: Health {
                check,
                every: Span::secs(5),
                falls: 3,
                rises: 2,
            },
            drain: Span::secs(30),
        }
    }
    pub fn sentence(&self) -> String {
        let sticks = match self.sticks {
            Sticks::No => String::new(),
            Sticks::Cookie => ", the same member again by cookie".into(),
            Sticks::Source => ", the same member again by source".into(),
        };
        let check = match &self.health.check {
            Check::Tcp => "a connection is taken".to_owned(),
            Check::Http { path, status, text } if text.is_empty() => {
                format!("{path} answers {status}")
            }
            Check::Http { path, status, text } => format!("{path} answers {status} with “{text}”"),
        };
        format!(
            "{}, {}{sticks}. Healthy where {check}, asked every {} s: out after {} failures, back after {}. {} s for open connections when a member is taken out.",
            self.protocol.word(),
            self.method.word(),
            self.health.every.0 / 1000,
            self.health.falls,
            self.health.rises,
            self.drain.0 / 1000
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, nobody is told of a certificate in time, or clients are refused while it is called good.
    #[test]
    fn a_certificate_is_good_until_the_moment_that_it_says() {
        let (from, until) = (Moment(0), Moment(0).plus(Span::days(90)));
        let shown = Shown {
            pem: String::new(),
            names: Vec::new(),
            from,
            until,
        };
        let at = |days| shown.standing(from.plus(Span::days(days)));
        assert_eq!(shown.standing(Moment(-1)), Validity::Early);
        assert_eq!([at(0), at(60)], [Validity::Good; 2]);
        assert_eq!(
            shown.standing(from.plus(Span(Span::days(60).0 + 1))),
            Validity::Ending
        );
        assert_eq!(shown.standing(until.before(Span(1))), Validity::Ending);
        assert_eq!([at(90), at(91)], [Validity::Over; 2]);
    }
}
