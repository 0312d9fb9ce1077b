//! A host that another manager owns: read, heard once more, taken, and what ran on it compared.

use crate::{
    Drivers, Outcome, Turn,
    agent::Agent,
    fault::words,
    perform::{done, stamp},
};
use std::collections::BTreeMap;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Host},
    evidence::Answer,
    ids::SecretRef,
    inventory::Inventory,
    moment::{Moment, Span},
    rooms::hosts,
    runs::{Fault, FaultKind},
};

/// How much less than time passed an uptime may have grown: clocks are read one after the other.
const SLACK: Span = Span::secs(2);

impl Drivers {
    /// A password that is refused is an answer: it is not tried again as long as that is known.
    pub(crate) async fn inventory(
        &self,
        address: &str,
        pin: &str,
        password: SecretRef,
    ) -> Result<Answer, Fault> {
        match self.read_inventory((address, address, pin), password).await {
            Ok(inventory) => Ok(Answer::Inventory(Box::new(inventory))),
            Err(fault) if fault.kind == FaultKind::Password => Ok(Answer::Refused {
                why: words(fault.said.trim_end_matches('.')),
            }),
            Err(fault) => Err(fault),
        }
    }

    async fn read_inventory(
        &self,
        (name, address, pin): (&str, &str, &str),
        password: SecretRef,
    ) -> Result<Inventory, Fault> {
        self.allowed(address)?;
        let agent = Agent {
            name,
            http: &self.http,
            address,
            pin,
            key: "",
        };
        agent.inventory(&self.secrets.open(password).await?).await
    }

    /// Nothing is changed by it: whoever gave the orders gives none any more.
    pub(super) async fn hear_silence(
        &self,
        host: &Host,
        password: SecretRef,
        former: &str,
    ) -> Result<Outcome, Fault> {
        let at = (
            host.name.as_str(),
            host.access.address.as_str(),
            host.access.pin.as_str(),
        );
        let inventory = self.read_inventory(at, password).await?;
        let refused = |said: String, remedy: &str| Fault::new(FaultKind::Refused, said, remedy);
        let Some(owner) = inventory.former else {
            let said = format!("{} belongs to nobody now.", host.name);
            return Err(refused(said, "Cancel the run and claim it instead."));
        };
        if owner.id != former {
            let said = format!("{} belongs to {} now.", host.name, owner.name);
            return Err(refused(said, "Cancel the run and read the hosts again."));
        }
        owner.is_gone().map_err(|what| {
            let remedy = "Switch it off; once no order of it was seen for 10 minutes, try again. Nothing has happened so far.";
            refused(format!("{what}."), remedy)
        })?;
        Ok(done(vec![], format!("silent for {}", owner.silent)))
    }

    pub(super) async fn take(
        &self,
        estate: &Estate,
        host: &Host,
        (password, former): (SecretRef, &str),
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let password = self.secrets.open(password).await?;
        let agent = super::unclaimed(self, host);
        let ours = self.installation();
        let claimed = agent
            .take_over(stamp(turn), ours, &password, former)
            .await?;
        self.taken(estate, host, claimed, turn).await
    }

    /// Each that ran when the host was read has been on for as long since.
    pub(super) async fn compare_uptimes(
        &self,
        estate: &Estate,
        host: &Host,
        (read, before): (Moment, &BTreeMap<Uuid, Span>),
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let key = self.key_of(host).await?;
        let report = self.agent(host, &key).state().await?;
        let passed = turn.now.since(read);
        let ran_on = |uuid: &Uuid, was: Span| {
            let now = report.load.machines.get(uuid).and_then(|l| l.up_ms);
            now.is_some_and(|now| Span(now).plus(SLACK) >= was.plus(passed))
        };
        let name = |uuid: &Uuid| {
            let found = estate.machine_with_uuid(uuid);
            found.map_or_else(|| uuid.to_string(), |m| m.name.clone())
        };
        let not = before.iter().filter(|(uuid, was)| !ran_on(uuid, **was));
        let not: Vec<String> = not.map(|(uuid, _)| name(uuid)).collect();
        let on = before.len() - not.len();
        let said = format!("{on} of {} ran on", before.len());
        let event = hosts::Event::RanOn {
            host: host.id,
            on,
            not,
        };
        Ok(done(vec![event.into()], said))
    }
}
