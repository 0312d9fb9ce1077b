//! Where calls may go: management networks that an admin listed, and known protocol ports.

use ipnet::IpNet;
use std::net::SocketAddr;
use zastrugi_core::limits;

/// The port of host agents.
pub(crate) const AGENT_PORT: u16 = 7443;
/// The port of management controllers.
pub(crate) const BMC_PORT: u16 = 8443;
/// The port of time sources, and one for those that may not take it.
const TIME_PORTS: [u16; 2] = [123, 1123];
/// The same of name servers.
const NAME_PORTS: [u16; 2] = [53, 1053];

/// The same of servers that have buckets.
const STORE_PORTS: [u16; 2] = [443, 9443];

#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Networks(pub Vec<IpNet>);

#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
pub enum NotAllowed {
    #[error("“{0}” is not an address with a port")]
    NotAnAddress(String),
    #[error("{0} is in no management network; an admin can add it under Settings")]
    Outside(SocketAddr),
    #[error("port {0} is not one that Zastrugi speaks to ({AGENT_PORT} and {BMC_PORT} are)")]
    Port(u16),
    #[error("port {0} is not one of time sources (123 and 1123 are)")]
    TimePort(u16),
    #[error("port {0} is not one of name servers (53 and 1053 are)")]
    NamePort(u16),
    #[error("port {0} is not one of servers that have buckets (443 and 9443 are)")]
    StorePort(u16),
}

impl Networks {
    /// # Errors
    /// [`NotAllowed`] when the address lies outside, or its port is no known protocol's.
    pub fn check(&self, address: &str) -> Result<SocketAddr, NotAllowed> {
        let socket: SocketAddr = address
            .parse()
            .map_err(|_| NotAllowed::NotAnAddress(address.chars().take(60).collect()))?;
        if ![AGENT_PORT, BMC_PORT].contains(&socket.port()) {
            return Err(NotAllowed::Port(socket.port()));
        }
        if self.0.iter().any(|net| net.contains(&socket.ip())) {
            Ok(socket)
        } else {
            Err(NotAllowed::Outside(socket))
        }
    }

    /// Where time is asked for: a fixed question of 48 bytes, over UDP.
    ///
    /// # Errors
    /// [`NotAllowed`] likewise.
    pub fn check_time(&self, address: &str) -> Result<SocketAddr, NotAllowed> {
        self.check_at(address, TIME_PORTS, NotAllowed::TimePort)
    }

    /// Where names are asked for and changed.
    ///
    /// # Errors
    /// [`NotAllowed`] likewise.
    pub fn check_names(&self, address: &str) -> Result<SocketAddr, NotAllowed> {
        self.check_at(address, NAME_PORTS, NotAllowed::NamePort)
    }

    /// Where backups are kept.
    ///
    /// # Errors
    /// [`NotAllowed`] likewise.
    pub fn check_store(&self, address: &str) -> Result<SocketAddr, NotAllowed> {
        self.check_at(address, STORE_PORTS, NotAllowed::StorePort)
    }

    fn check_at(
        &self,
        address: &str,
        ports: [u16; 2],
        other: fn(u16) -> NotAllowed,
    ) -> Result<SocketAddr, NotAllowed> {
        let no = || NotAllowed::NotAnAddress(address.chars().take(60).collect());
        let socket: SocketAddr = address.parse().map_err(|_| no())?;
        if !ports.contains(&socket.port()) {
            return Err(other(socket.port()));
        }
        if self.0.iter().any(|net| net.contains(&socket.ip())) {
            Ok(socket)
        } else {
            Err(NotAllowed::Outside(socket))
        }
    }

    /// Reads one network a line or a comma.
    ///
    /// # Errors
    /// Words for the person who typed it.
    pub fn parse(text: &str) -> Result<Networks, String> {
        let parts = text.split([',', '\n', ' ']).map(str::trim);
        let read = |part: &str| {
            let short: String = part.chars().take(60).collect();
            let wrong = |_| format!("“{short}” is not a network such as 10.20.0.0/16.");
            part.parse::<IpNet>().map_err(wrong)
        };
        let all: Result<Vec<_>, _> = parts.filter(|p| !p.is_empty()).map(read).collect();
        let all = all?;
        limits::MANAGEMENT.check(all.len()).map(|()| Networks(all))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_outside_the_listed_networks_is_called() {
        let nets = Networks::parse("10.1.0.0/16, fd00::/8").unwrap();
        assert!(nets.check("10.1.2.3:7443").is_ok());
        assert!(nets.check("[fd00::1]:8443").is_ok());
        assert!(matches!(
            nets.check("10.2.0.1:7443"),
            Err(NotAllowed::Outside(_))
        ));
        assert!(matches!(
            nets.check("10.1.0.1:22"),
            Err(NotAllowed::Port(22))
        ));
        assert!(matches!(
            nets.check("host.example:7443"),
            Err(NotAllowed::NotAnAddress(_))
        ));
        assert!(Networks::parse("10.0.0.0/40").is_err());
    }
}
