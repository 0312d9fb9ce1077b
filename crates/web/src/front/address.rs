//! Whose request it is: the address of the connection; or what a listed proxy says, and nobody else.

use ipnet::IpNet;
use std::net::IpAddr;

/// The client's address. `said` are the values of `X-Forwarded-For`, in order.
///
/// The last address that is no listed proxy counts: what stands before it was written by whoever sent it.
pub(super) fn client<'a>(
    peer: IpAddr,
    proxies: &[IpNet],
    said: impl Iterator<Item = &'a str>,
) -> IpAddr {
    let peer = peer.to_canonical();
    if !listed(peer, proxies) {
        return peer;
    }
    let chain: Vec<&str> = said.flat_map(|line| line.split(',')).collect();
    let mut client = peer;
    for step in chain.into_iter().rev() {
        let Ok(address) = step.trim().parse::<IpAddr>() else {
            break;
        };
        client = address.to_canonical();
        if !listed(client, proxies) {
            break;
        }
    }
    client
}

pub(super) fn listed(address: IpAddr, proxies: &[IpNet]) -> bool {
    let address = address.to_canonical();
    proxies.iter().any(|net| net.contains(&address))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn who(peer: &str, said: &[&str]) -> String {
        let proxies = [
            "10.0.0.0/24".parse().unwrap(),
            "127.0.0.1/32".parse().unwrap(),
        ];
        client(peer.parse().unwrap(), &proxies, said.iter().copied()).to_string()
    }

    #[test]
    fn only_a_listed_proxy_is_believed_and_only_about_whom_it_met() {
        assert_eq!(
            who("203.0.113.9", &["198.51.100.1"]),
            "203.0.113.9",
            "a stranger's header says nothing"
        );
        assert_eq!(who("10.0.0.1", &["198.51.100.1"]), "198.51.100.1");
        assert_eq!(
            who("10.0.0.1", &["192.0.2.66, 198.51.100.1"]),
            "198.51.100.1",
            "what the client wrote itself is not believed"
        );
        assert_eq!(
            who("10.0.0.1", &["192.0.2.66", "198.51.100.1, 10.0.0.2"]),
            "198.51.100.1",
            "two proxies in a row"
        );
        assert_eq!(who("10.0.0.1", &["nonsense"]), "10.0.0.1");
        assert_eq!(who("10.0.0.1", &[]), "10.0.0.1");
        assert_eq!(who("::ffff:10.0.0.1", &["198.51.100.1"]), "198.51.100.1");
    }
}
