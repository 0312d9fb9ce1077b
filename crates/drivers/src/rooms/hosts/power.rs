//! A host's power by its management controller: switched, read, proved.

use crate::{
    Drivers, Outcome, Turn,
    perform::done,
    redfish::{Controller, Switch, System, Telling},
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

/// A system that was told and hasn't done it after so long is stuck.
const STUCK: Span = Span::secs(60);

impl Drivers {
    /// Off, and read off twice, by the controller that shows the host's own serial.
    pub(super) async fn power_off(&self, host: &Host, turn: Turn<'_>) -> Result<Outcome, Fault> {
        let controller = self.controller(host).await?;
        if read(&controller, host).await?.power_state != "Off" {
            tell(&controller, Switch::Off, turn).await?;
            return not_yet("switching off", Switch::Off, &controller, turn);
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

    /// On, as its controller says it.
    pub(super) async fn power_on(&self, host: &Host, turn: Turn<'_>) -> Result<Outcome, Fault> {
        let controller = self.controller(host).await?;
        if read(&controller, host).await?.power_state == "On" {
            return Ok(done(vec![], "on"));
        }
        tell(&controller, Switch::On, turn).await?;
        not_yet("switching on", Switch::On, &controller, turn)
    }

    /// Its agent says the time again, and its first report was taken in: until then nobody knows that it does what it is told.
    pub(super) async fn await_agent(
        &self,
        host: &Host,
        limit: Span,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let key = self.key_of(host).await?;
        match self.agent(host, &key).clock().await {
            Ok(_) if host.is_gone() && turn.waited < limit => {
                let said = "it answers; what it reports is awaited".to_owned();
                Ok(Outcome::NotYet { said })
            }
            Ok(_) => Ok(done(vec![], "answers")),
            Err(fault) if turn.waited < limit && fault.kind != FaultKind::Stranger => {
                let said = "on; its agent does not answer yet".to_owned();
                Ok(Outcome::NotYet { said })
            }
            Err(fault) => Err(fault),
        }
    }
}

/// Tells it, if this step has not told it yet.
async fn tell(controller: &Controller<'_>, switch: Switch, turn: Turn<'_>) -> Result<(), Fault> {
    match controller
        .resets
        .begin(controller.address, switch, turn.key)
    {
        Telling::Already | Telling::Wait => Ok(()),
        Telling::Now => {
            let told = controller.reset(switch).await;
            match &told {
                Ok(()) => controller.resets.answered(controller.address, true),
                // Nobody knows whether it heard; what is read decides.
                Err(fault) if fault.leaves_open() => return Ok(()),
                Err(_) => controller.resets.answered(controller.address, false),
            }
            told
        }
    }
}

/// It was told and is read again; one that hasn't done it after so long won't. Whoever tries again tells it again.
fn not_yet(
    said: &str,
    switch: Switch,
    controller: &Controller<'_>,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    if turn.waited < STUCK {
        return Ok(Outcome::NotYet {
            said: said.to_owned(),
        });
    }
    controller.resets.answered(controller.address, false);
    let what = if switch == Switch::Off { "off" } else { "on" };
    let said = format!(
        "The controller of {} took the order to switch it {what} and has not done it for {STUCK}.",
        controller.host
    );
    let remedy = "Look at the controller; or switch the host by hand, and declare it off if that is what it shall be.";
    Err(Fault::new(FaultKind::Refused, said, remedy))
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
