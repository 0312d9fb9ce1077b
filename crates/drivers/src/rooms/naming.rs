//! Names of machines and hosts, entered at name servers and taken out there.

use crate::{
    Drivers, Outcome, Turn,
    dns::{NameServer, rooted, signer},
    perform::{done, premise},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use hickory_proto::rr::Name;
use std::{collections::BTreeSet, net::IpAddr};
use zastrugi_core::{
    estate::{Dns, Due, Entered, Estate, Host, Machine},
    evidence::Answer,
    ids::ClusterId,
    rooms::naming::{Event, Step},
    runs::{Fault, FaultKind},
};

/// What a name that is only tried is called, and where it leads: documentation's own network (RFC 5737).
const TRIAL: &str = "zastrugi-trial";
const NOWHERE: [u8; 4] = [192, 0, 2, 1];

/// Whose name it is.
#[derive(Clone, Copy)]
enum Named<'a> {
    Machine(&'a Machine),
    Host(&'a Host),
}

impl<'a> Named<'a> {
    fn entered(self) -> Option<&'a Entered> {
        match self {
            Named::Machine(machine) => machine.entered.as_deref(),
            Named::Host(host) => host.entered.as_deref(),
        }
    }
}

/// The first server of a zone that answers, and the zone.
struct Zone<'a> {
    server: NameServer,
    dns: &'a Dns,
    name: Name,
}

impl Drivers {
    /// Whether a server is in charge of a zone; nothing secret is sent.
    pub(crate) async fn zone_at(&self, server: &str, zone: &str) -> Result<Answer, Fault> {
        let at = self.networks().check_names(server)?;
        let server = NameServer { at, key: None };
        let serial = server.serial(&rooted(zone)?).await?;
        Ok(Answer::Zone { serial })
    }

    /// Where a name leads, and what an address leads back to.
    pub(crate) async fn named_at(
        &self,
        server: &str,
        name: &str,
        address: IpAddr,
    ) -> Result<Answer, Fault> {
        let at = self.networks().check_names(server)?;
        let server = NameServer { at, key: None };
        let forward = server.addresses(&rooted(name)?).await?;
        let back = server.back(address).await?;
        let plain = |n: &Name| n.to_ascii().trim_end_matches('.').to_owned();
        let back = back.iter().map(plain).collect();
        Ok(Answer::Named { forward, back })
    }

    pub(super) async fn at_naming(
        &self,
        estate: &Estate,
        step: &Step,
        _: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Try { dns, .. } => self.zone(dns).await?.try_it().await,
            Step::Bring { cluster, machine } | Step::Withdraw { cluster, machine } => {
                let Some(machine) = estate.machines.get(machine) else {
                    return Ok(done(vec![], "the machine is gone"));
                };
                let due = match step {
                    Step::Withdraw { .. } => machine.entered.as_ref().map(|_| Due::Withdraw),
                    Step::Bring { .. }
                    | Step::Try { .. }
                    | Step::Keep { .. }
                    | Step::BringHost { .. }
                    | Step::WithdrawHost { .. }
                    | Step::AskFrom { .. } => estate.name_due(machine),
                };
                let named = Named::Machine(machine);
                self.bring(estate, *cluster, named, due).await
            }
            Step::BringHost { cluster, host } | Step::WithdrawHost { cluster, host } => {
                let Some(host) = estate.hosts.get(host) else {
                    return Ok(done(vec![], "the host is gone"));
                };
                let due = match step {
                    Step::WithdrawHost { .. } => host.entered.as_ref().map(|_| Due::Withdraw),
                    Step::BringHost { .. }
                    | Step::Try { .. }
                    | Step::Keep { .. }
                    | Step::Bring { .. }
                    | Step::Withdraw { .. }
                    | Step::AskFrom { .. } => estate.host_name_due(host),
                };
                self.bring(estate, *cluster, Named::Host(host), due).await
            }
            Step::AskFrom { cluster, host } => {
                let host = self.host_of(estate, *host)?;
                self.told(estate, *cluster, host).await
            }
            Step::Keep { .. } => Err(premise("This is written down, not done.")),
        }
    }

    /// Does what is due for a name.
    async fn bring(
        &self,
        estate: &Estate,
        cluster: ClusterId,
        named: Named<'_>,
        due: Option<Due>,
    ) -> Result<Outcome, Fault> {
        let found = estate.clusters.get(&cluster).and_then(|c| c.dns.as_deref());
        let dns = found.ok_or_else(|| premise("Its cluster's machines have no names."))?;
        match due {
            None => Ok(done(vec![], "it is as it should be")),
            Some(Due::Withdraw) => self.zone(dns).await?.withdraw(named).await,
            Some(Due::Enter { name, addresses }) => {
                self.zone(dns).await?.enter(named, name, addresses).await
            }
        }
    }

    async fn zone<'a>(&self, dns: &'a Dns) -> Result<Zone<'a>, Fault> {
        let key = match &dns.key {
            None => None,
            Some(key) => {
                let text = self.secrets.open(key.secret).await?;
                let bytes = STANDARD.decode(text.trim()).map_err(|_| {
                    let said = format!("The secret of the key {} is not base64.", key.name);
                    Fault::new(FaultKind::Password, said, "Type it anew on the sheet.")
                })?;
                Some(signer(&key.name, &bytes)?)
            }
        };
        let name = rooted(&dns.zone)?;
        let mut last = None;
        for at in &dns.servers {
            let at = self.networks().check_names(at)?;
            let server = NameServer {
                at,
                key: key.clone(),
            };
            match server.serial(&name).await {
                Ok(Some(_)) => return Ok(Zone { server, dns, name }),
                Ok(None) => {
                    let said = format!("{at} is not in charge of {}.", dns.zone);
                    let remedy = "Name a server that has the zone as its primary.";
                    last = Some(Fault::new(FaultKind::Refused, said, remedy));
                }
                Err(fault) => last = Some(fault),
            }
        }
        Err(last.unwrap_or_else(|| premise("No server is named.")))
    }
}

impl Zone<'_> {
    async fn try_it(&self) -> Result<Outcome, Fault> {
        let name = rooted(&self.dns.name_of(TRIAL))?;
        let there = BTreeSet::from([IpAddr::from(NOWHERE)]);
        self.server.enter(&self.name, &name, &there).await?;
        let read = self.server.addresses(&name).await?;
        self.server
            .enter(&self.name, &name, &BTreeSet::new())
            .await?;
        if read == there {
            return Ok(done(vec![], "entered, read, taken out"));
        }
        let said = format!("{} took a name and does not tell it.", self.server.at);
        Err(Fault::new(FaultKind::Garbled, said, "Look at its log."))
    }

    /// What somebody else entered is never overwritten.
    async fn enter(
        &self,
        named: Named<'_>,
        name: String,
        addresses: BTreeSet<IpAddr>,
    ) -> Result<Outcome, Fault> {
        let full = rooted(&name)?;
        let before = named.entered();
        let there = self.server.addresses(&full).await?;
        let known = before.filter(|e| e.name == name).map(|e| &e.addresses);
        let foreign = |a: &IpAddr| !addresses.contains(a) && known.is_none_or(|k| !k.contains(a));
        if there.iter().any(foreign) {
            let at: Vec<String> = there.iter().map(ToString::to_string).collect();
            let said = format!(
                "{name} is {} already, entered by somebody else.",
                at.join(", ")
            );
            let remedy = "Give it another name, or take that one out at the server; then retry.";
            return Err(Fault::new(FaultKind::Refused, said, remedy));
        }
        self.server.enter(&self.name, &full, &addresses).await?;
        if let Some(before) = before {
            self.forget(before, &name, &addresses).await?;
        }
        let mut back = true;
        for address in &addresses {
            back &= self.lead_back(*address, &full, before).await?;
        }
        let said = if back {
            name.clone()
        } else {
            format!("{name}, without a way back")
        };
        let entered = Entered {
            name,
            addresses,
            back,
        };
        let event = match named {
            Named::Machine(machine) => Event::Entered {
                machine: machine.id,
                entered,
            },
            Named::Host(host) => Event::HostEntered {
                host: host.id,
                entered,
            },
        };
        Ok(done(vec![event.into()], said))
    }

    /// The address leads to the name, unless somebody else has it lead elsewhere. Answers whether it does.
    async fn lead_back(
        &self,
        address: IpAddr,
        name: &Name,
        before: Option<&Entered>,
    ) -> Result<bool, Fault> {
        let old = before.map(|e| rooted(&e.name)).transpose()?;
        let ours = |to: &Name| to == name || Some(to) == old.as_ref();
        if !self.server.back(address).await?.iter().all(ours) {
            return Ok(false);
        }
        self.server.lead_back(address, name).await
    }

    /// What stood there before and does no more.
    async fn forget(
        &self,
        before: &Entered,
        name: &str,
        addresses: &BTreeSet<IpAddr>,
    ) -> Result<(), Fault> {
        let old = rooted(&before.name)?;
        if before.name != name && self.dns.holds(&before.name) {
            self.server
                .enter(&self.name, &old, &BTreeSet::new())
                .await?;
        }
        for address in before.addresses.difference(addresses) {
            self.server.lead_nowhere(*address, &old).await?;
        }
        Ok(())
    }

    async fn withdraw(&self, named: Named<'_>) -> Result<Outcome, Fault> {
        let Some(entered) = named.entered() else {
            return Ok(done(vec![], "nothing is entered"));
        };
        let name = rooted(&entered.name)?;
        if self.dns.holds(&entered.name) {
            let there = self.server.addresses(&name).await?;
            if there.is_subset(&entered.addresses) {
                self.server
                    .enter(&self.name, &name, &BTreeSet::new())
                    .await?;
            }
        }
        for address in &entered.addresses {
            self.server.lead_nowhere(*address, &name).await?;
        }
        let name = entered.name.clone();
        let event = match named {
            Named::Machine(machine) => Event::Withdrawn {
                machine: machine.id,
                name,
            },
            Named::Host(host) => Event::HostWithdrawn {
                host: host.id,
                name,
            },
        };
        Ok(done(vec![event.into()], "taken out"))
    }
}
