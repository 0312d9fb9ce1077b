//! Claiming a host, its power by its controller, leaving its cluster, handing it back.

mod power;
mod taking;

use crate::{
    Drivers, Outcome, Turn,
    agent::{Agent, Claimed, greet},
    perform::{done, premise, stamp},
};
use zastrugi_core::{
    estate::{Access, Bmc, Condition, Estate, Host},
    ids::{HostId, SecretRef},
    observe::adopt,
    rooms::{
        Event,
        hosts::{self, Step},
        machines,
    },
    runs::Fault,
};

/// It knows no key of ours yet.
fn unclaimed<'a>(drivers: &'a Drivers, host: &'a Host) -> Agent<'a> {
    Agent {
        name: &host.name,
        http: &drivers.http,
        address: &host.access.address,
        pin: &host.access.pin,
        key: "",
    }
}

impl Drivers {
    pub(crate) async fn at_host(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.host())?;
        match step {
            Step::Claim { host: id, password } => {
                self.claim(estate, *id, host, *password, turn).await
            }
            Step::HearSilence {
                password, former, ..
            } => self.hear_silence(host, *password, former).await,
            Step::Take {
                password, former, ..
            } => self.take(estate, host, (*password, former), turn).await,
            Step::CompareUptimes { read, up, .. } => {
                self.compare_uptimes(estate, host, (*read, up), turn).await
            }
            Step::Leave { .. } => {
                let key = self.key_of(host).await?;
                self.agent(host, &key).leave(stamp(turn)).await?;
                let left = hosts::Event::Left { host: host.id };
                Ok(done(vec![left.into()], ""))
            }
            Step::Release { .. } => self.release(host, turn).await,
            Step::PowerOff { .. } => self.power_off(host, turn).await,
            Step::TestOff { at, .. } => self.test_off(host, *at, turn).await,
            Step::PowerOn { .. } => self.power_on(host, turn).await,
            Step::AwaitAgent { limit, .. } => self.await_agent(host, *limit, turn).await,
            Step::Forget { .. } | Step::Vacate { .. } | Step::Serve { .. } => {
                Err(premise("This is written down, not done."))
            }
        }
    }

    /// Our key is forgotten by the host with this, so an answer that was lost can't be had again: a host that says it is
    /// nobody's was released. Its secrets are forgotten here only once that is written.
    async fn release(&self, host: &Host, turn: Turn<'_>) -> Result<Outcome, Fault> {
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        if let Err(fault) = agent.release(stamp(turn)).await {
            let now = greet(&self.http, &host.access.address).await.ok();
            let free = now.is_some_and(|g| g.pin == host.access.pin && g.owner.is_none());
            if !free {
                return Err(fault);
            }
        }
        let released = hosts::Event::Released { host: host.id };
        Ok(done(vec![released.into()], ""))
    }

    async fn claim(
        &self,
        estate: &Estate,
        id: HostId,
        host: &Host,
        password: SecretRef,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let password = self.secrets.open(password).await?;
        self.claim_with(estate, id, host, &password, turn).await
    }

    /// Takes a host over with the first password of its agent.
    pub(super) async fn claim_with(
        &self,
        estate: &Estate,
        id: HostId,
        host: &Host,
        password: &str,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let agent = unclaimed(self, host);
        let claimed = agent
            .claim(stamp(turn), &self.installation, password)
            .await?;
        debug_assert_eq!(id, host.id);
        self.taken(estate, host, claimed, turn).await
    }

    /// A host that is ours now, with everything that it said of itself.
    async fn taken(
        &self,
        estate: &Estate,
        host: &Host,
        claimed: Claimed,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let key = self.secrets.keep(claimed.key).await?;
        let bmc = match claimed.bmc {
            Some(bmc) => {
                let key = self.secrets.keep(bmc.password).await?;
                Some(Bmc {
                    address: bmc.address,
                    pin: bmc.pin,
                    user: Bmc::USER.into(),
                    key: Some(key),
                })
            }
            None => None,
        };
        let report = claimed.state.read();
        let ours = Host {
            access: Access {
                key: Some(key),
                ..host.access.clone()
            },
            bmc,
            condition: Condition::Steady,
            installing: None,
            seen: (report.boot, report.seq),
            initiator: report.initiator.clone(),
            uplinks: report.uplinks.clone(),
            networks: report.networks.clone(),
            ..host.clone()
        };
        let mut events = vec![Event::Hosts(hosts::Event::Claimed(Box::new(ours.clone())))];
        events.extend(report.machines.iter().map(|seen| {
            Event::Machines(machines::Event::Adopted(Box::new(adopt(
                estate, &ours, seen, turn.now,
            ))))
        }));
        Ok(done(
            events,
            format!("{} machines found", report.machines.len()),
        ))
    }
}
