//! Templates at hosts that reach their volumes; and what a copy is of, in an agent's words.

use crate::{
    Drivers, Outcome, Turn,
    agent::{Agent, WireCopying},
    fault::words,
    perform::{done, premise, stamp},
};
use serde_json::{Value, json};
use zastrugi_core::{
    copying::Source,
    estate::{Estate, Machine, Template, Version},
    ids::{MachineId, TemplateId},
    rooms::{
        Event,
        templates::{Event as Told, Step},
    },
    runs::{Fault, FaultKind},
};

impl Drivers {
    pub(crate) async fn at_template(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.via())?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        match step {
            Step::Make { .. } => make(&agent, estate, step, turn).await,
            Step::Remove {
                template, version, ..
            } => {
                let (_, of) = found(estate, *template, *version)?;
                let volume = uid(estate, of)?;
                agent.remove_version(stamp(turn), volume, &of.uuid).await?;
                let gone = Told::Removed {
                    template: *template,
                    version: *version,
                };
                Ok(done(vec![Event::Templates(gone)], "removed"))
            }
            Step::Whole { machine, .. } => {
                let machine = at(estate, *machine)?;
                let said = agent.make_whole(stamp(turn), &machine.uuid, true).await?;
                over(&said, machine, |said| Told::Whole {
                    machine: machine.id,
                    copied: said.copied(),
                    took: said.took(),
                })
            }
        }
    }

    /// What is being copied ends; what was there before stays.
    pub(crate) async fn give_up_template(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.via())?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        match step {
            Step::Make {
                template, version, ..
            } => {
                let (_, of) = found(estate, *template, *version)?;
                agent
                    .remove_version(stamp(turn), uid(estate, of)?, &of.uuid)
                    .await?;
                let said = "nothing is left of it".into();
                Ok(Outcome::NotYet { said })
            }
            Step::Whole { machine, .. } => {
                let machine = at(estate, *machine)?;
                agent.make_whole(stamp(turn), &machine.uuid, false).await?;
                let said = "it lies on its version as before".into();
                Ok(Outcome::NotYet { said })
            }
            Step::Remove { .. } => self.at_template(estate, step, turn).await,
        }
    }
}

fn at(estate: &Estate, machine: MachineId) -> Result<&Machine, Fault> {
    let machine = estate.machines.get(&machine);
    machine
        .map(|m| &**m)
        .ok_or_else(|| premise("The machine is gone."))
}

fn found(
    estate: &Estate,
    template: TemplateId,
    version: u32,
) -> Result<(&Template, &Version), Fault> {
    let template = estate.templates.get(&template);
    let both = template.and_then(|t| Some((&**t, t.version(version)?)));
    both.ok_or_else(|| premise("The version is gone."))
}

fn uid<'a>(estate: &'a Estate, version: &Version) -> Result<&'a str, Fault> {
    let volume = estate.volumes.get(&version.volume);
    let uid = volume.map(|v| v.uid.as_str());
    uid.ok_or_else(|| premise("Its volume is gone."))
}

/// Done, failed in the host's words, or on its way.
fn over(
    said: &WireCopying,
    machine: &Machine,
    told: impl FnOnce(&WireCopying) -> Told,
) -> Result<Outcome, Fault> {
    match said.stage.as_str() {
        "done" => {
            let words = format!("{} copied in {}", said.copied(), said.took());
            Ok(done(vec![Event::Templates(told(said))], words))
        }
        "failed" => Err(failed(&machine.name, said)),
        _ => Ok(Outcome::NotYet { said: said.said() }),
    }
}

pub(super) fn failed(name: &str, said: &WireCopying) -> Fault {
    let text = format!("{name}: {}.", words(&said.why));
    let remedy = "Nothing of the copy is left. Mend what is said, then retry.";
    Fault::new(FaultKind::Refused, text, remedy)
}

/// What a copy is of, in an agent's words.
pub(super) fn source(estate: &Estate, source: Source) -> Result<Value, Fault> {
    match source {
        Source::Template { template, version } => {
            let (_, of) = found(estate, template, version)?;
            Ok(json!({"volume": uid(estate, of)?, "template": of.uuid}))
        }
        Source::Machine { machine, snapshot } => {
            let machine = at(estate, machine)?;
            Ok(json!({"machine": machine.uuid, "snapshot": snapshot}))
        }
        Source::Package { .. } => Err(premise("An archive is looked through first.")),
        Source::Point(_) => Err(premise("A recovery point is brought first.")),
    }
}

async fn make(
    agent: &Agent<'_>,
    estate: &Estate,
    step: &Step,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let Step::Make {
        template,
        version,
        machine,
        snapshot,
        seal,
        ..
    } = step
    else {
        return Err(premise("No version is made."));
    };
    let (named, of) = found(estate, *template, *version)?;
    let machine = at(estate, *machine)?;
    let from = source(
        estate,
        Source::Machine {
            machine: machine.id,
            snapshot: *snapshot,
        },
    )?;
    let keys: Vec<Value> = of.disks.iter().map(|d| json!(d.key)).collect();
    let body = json!({"name": format!("{} {version}", named.name), "from": from, "seal": seal, "disks": keys});
    let said = agent
        .make_version(stamp(turn), (uid(estate, of)?, &of.uuid), body)
        .await?;
    over(&said, machine, |said| Told::Made {
        template: *template,
        version: *version,
        takes: said.takes(),
        sealed: said.sealed(),
        took: said.took(),
    })
}
