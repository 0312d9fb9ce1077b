//! What a host is told of its cluster's names: asked from the host itself, at the servers in charge, forward and back.

use crate::{
    Drivers, Outcome,
    agent::Told,
    perform::{done, premise},
};
use zastrugi_core::{
    estate::{Entered, Estate, Host},
    ids::ClusterId,
    runs::{Fault, FaultKind},
};

/// Names that one host is asked of: its own first. Whoever is told so many is told the others too.
const MOST: usize = 32;

impl Drivers {
    pub(super) async fn told(
        &self,
        estate: &Estate,
        cluster: ClusterId,
        host: &Host,
    ) -> Result<Outcome, Fault> {
        let found = estate.clusters.get(&cluster);
        let dns = found.and_then(|c| c.dns.as_deref());
        let dns = dns.ok_or_else(|| premise("Its cluster's machines have no names."))?;
        let others = estate.hosts_in(cluster).filter(|h| h.id != host.id);
        let names = others.filter_map(|h| h.entered.as_deref());
        let known: Vec<&Entered> = host
            .entered
            .as_deref()
            .into_iter()
            .chain(names)
            .take(MOST)
            .collect();
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let mut last = None;
        for server in &dns.servers {
            match agent.resolve(server, &known).await {
                Ok(told) => {
                    return verdict(&host.name, &known, &told).map(|said| done(vec![], said));
                }
                Err(fault) => last = Some(fault),
            }
        }
        Err(last.unwrap_or_else(|| premise("No server is named.")))
    }
}

/// What is otherwise than it was entered.
fn verdict(host: &str, known: &[&Entered], told: &Told) -> Result<String, Fault> {
    let wrong = |said: String| {
        let remedy = "Look whether this host asks the same name server as the others, and who changed the name there; then retry.";
        Fault::new(FaultKind::Refused, said, remedy)
    };
    let (mut forward, mut back) = (0, 0);
    for entered in known {
        let name = &entered.name;
        let heard = told.addresses(name);
        if heard != entered.addresses {
            let words = |all: &std::collections::BTreeSet<std::net::IpAddr>| match all.len() {
                0 => "nowhere".to_owned(),
                _ => all
                    .iter()
                    .map(ToString::to_string)
                    .collect::<Vec<_>>()
                    .join(", "),
            };
            let (leads, meant) = (words(&heard), words(&entered.addresses));
            return Err(wrong(format!(
                "{host} is told that {name} leads to {leads}, not to {meant}."
            )));
        }
        forward += 1;
        for address in entered.addresses.iter().filter(|_| entered.back) {
            if !told.leads_back(address, name) {
                return Err(wrong(format!(
                    "{host} is not told that {address} leads back to {name}."
                )));
            }
            back += 1;
        }
    }
    Ok(match (forward, back) {
        (0, _) => "no name of a host is entered".to_owned(),
        (1, 0) => "told 1 name; none leads back".to_owned(),
        (n, 0) => format!("told {n} names; none leads back"),
        (1, 1) => "told 1 name, forward and back".to_owned(),
        (n, b) if b >= n => format!("told {n} names, forward and back"),
        (n, b) => format!("told {n} names; {b} lead back"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::IpAddr;

    fn entered(name: &str, address: &str, back: bool) -> Entered {
        let addresses = [address.parse::<IpAddr>().unwrap()].into();
        Entered {
            name: name.into(),
            addresses,
            back,
        }
    }

    fn told(names: &str, back: &str) -> Told {
        serde_json::from_str(&format!(r#"{{"names": {names}, "addresses": {back}}}"#)).unwrap()
    }

    /// If this fails, a host that is told other names than the others counts as verified.
    #[test]
    fn a_name_that_leads_elsewhere_or_nowhere_or_not_back_is_said() {
        let a = entered("a.quay.example", "10.0.0.1", true);
        let b = entered("b.quay.example", "fd00::2", false);
        let known = [&a, &b];
        let both = r#"{"a.quay.example": ["10.0.0.1"], "b.quay.example": ["fd00::2"]}"#;
        let back = r#"{"10.0.0.1": ["A.quay.example."]}"#;
        let said = verdict("h", &known, &told(both, back));
        assert_eq!(said.unwrap(), "told 2 names; 1 lead back");
        let said =
            |names: &str, back: &str| verdict("h", &known, &told(names, back)).unwrap_err().said;
        let elsewhere = both.replace("10.0.0.1", "10.0.0.9");
        assert_eq!(
            said(&elsewhere, back),
            "h is told that a.quay.example leads to 10.0.0.9, not to 10.0.0.1."
        );
        let nowhere = both.replace("\"fd00::2\"", "");
        assert_eq!(
            said(&nowhere, back),
            "h is told that b.quay.example leads to nowhere, not to fd00::2."
        );
        assert_eq!(
            said(both, "{}"),
            "h is not told that 10.0.0.1 leads back to a.quay.example."
        );
        let other = back.replace("A.", "c.");
        assert_eq!(
            said(both, &other),
            "h is not told that 10.0.0.1 leads back to a.quay.example."
        );
    }

    /// If this fails, a step that asked nothing is told as if names had been found right.
    #[test]
    fn where_nothing_was_entered_nothing_is_claimed() {
        assert_eq!(
            verdict("h", &[], &told("{}", "{}")).unwrap(),
            "no name of a host is entered"
        );
    }
}
