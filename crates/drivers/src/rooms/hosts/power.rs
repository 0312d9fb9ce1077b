//! A host's power by its management controller: switched, read, proved.

use crate::{
    Drivers, Outcome, Turn,
    perform::done,
    redfish::{Controller, System},
};
use std::time::Duration;
use tokio::time::sleep;
use zastrugi_core::{
    estate::{Condition, FencingTest, Host},
    moment::{Moment, Span},
    rooms::{Event, hosts},
    runs::{Fault, FaultKind},
};

/// Between the two reads that prove a host off.
const APART: Duration = Duration::from_secs(3);

impl Drivers {
    /// Off, and read off twice, by the controller that shows the host's own serial.
    pub(super) async fn power_off(&self, host: &Host, turn: Turn<'_>) -> Result<Outcome, Fault> {
        let controller = self.controller(host).await?;
        if read(&controller, host).await?.power_state != "Off" {
            controller.reset("ForceOff").await?;
            let said = "switching off".to_owned();
            return Ok(Outcome::NotYet { said });
        }
        sleep(APART).await;
        if read(&controller, host).await?.power_state != "Off" {
            let said = "it was off and is on again".to_owned();
            return Ok(Outcome::NotYet { said });
        }
        let off = hosts::Event::Off {
            host: host.id,
            at: turn.now,
            proof: "its controller said so twice".into(),
        };
        Ok(done(vec![Event::Hosts(off)], "off, read twice"))
    }

    /// The same, with what came of it.
    pub(super) async fn test_off(
        &self,
        host: &Host,
        at: Moment,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let was_off = matches!(host.condition, Condition::Off { .. });
        let mut outcome = self.power_off(host, turn).await?;
        if let Outcome::Done { events, .. } = &mut outcome {
            let said = if was_off {
                events.clear();
                "it was off, and its controller said so twice".to_owned()
            } else {
                "switched off by its controller, and read off twice".to_owned()
            };
            let worked = true;
            let test = FencingTest { at, worked, said };
            let host = host.id;
            events.push(Event::Hosts(hosts::Event::FencingTested { host, test }));
        }
        Ok(outcome)
    }

    pub(super) async fn power_on(&self, host: &Host) -> Result<Outcome, Fault> {
        let controller = self.controller(host).await?;
        if read(&controller, host).await?.power_state != "On" {
            controller.reset("On").await?;
        }
        Ok(done(vec![], "on"))
    }

    /// Its agent says the time again; what it sees is taken in by whoever follows it.
    pub(super) async fn await_agent(
        &self,
        host: &Host,
        limit: Span,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let key = self.key_of(host).await?;
        match self.agent(host, &key).clock().await {
            Ok(_) => Ok(done(vec![], "answers")),
            Err(fault) if turn.waited < limit && fault.kind != FaultKind::Stranger => {
                let said = "on; its agent does not answer yet".to_owned();
                Ok(Outcome::NotYet { said })
            }
            Err(fault) => Err(fault),
        }
    }
}

async fn read(controller: &Controller<'_>, host: &Host) -> Result<System, Fault> {
    let system = controller.system().await?;
    if system.serial_number == host.hardware.serial {
        return Ok(system);
    }
    let said = format!(
        "The controller of {} shows the serial {}, not {}.",
        host.name, system.serial_number, host.hardware.serial
    );
    let remedy =
        "It is another host's: nothing is switched by it. Look at the address of the controller.";
    Err(Fault::new(FaultKind::Refused, said, remedy))
}
