//! Edits that a machine's host must be told.

use super::machines::boot;
use crate::{
    Drivers, Outcome, Turn,
    agent::Agent,
    perform::{done, premise, stamp},
};
use zastrugi_core::{
    estate::{Estate, Machine},
    rooms::{
        Event,
        edits::{self, Set, Step},
    },
    runs::Fault,
};

impl Drivers {
    pub(crate) async fn at_edit(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let (Step::Rewrite { machine, via, .. } | Step::Grow { machine, via, .. }) = step;
        let host = self.host_of(estate, *via)?;
        let key = self.key_of(host).await?;
        let gone = || premise("The machine is gone.");
        let machine = estate.machines.get(machine).ok_or_else(gone)?;
        let agent = self.agent(host, &key);
        match step {
            Step::Rewrite { sets, .. } => rewrite(&agent, estate, machine, sets, turn).await,
            Step::Grow { vcpus, memory, .. } => {
                agent
                    .grow(stamp(turn), &machine.uuid, *vcpus, *memory)
                    .await?;
                let grown = edits::Event::Grown {
                    machine: machine.id,
                    vcpus: *vcpus,
                    memory: *memory,
                };
                Ok(done(vec![Event::Edits(grown)], "given"))
            }
        }
    }
}

async fn rewrite(
    agent: &Agent<'_>,
    estate: &Estate,
    machine: &Machine,
    sets: &[Set],
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let mut then = Machine::clone(machine);
    sets.iter().for_each(|s| s.on_machine(&mut then));
    let boots = sets.iter().any(Set::boots);
    let boot = boots.then(|| boot(estate, &then));
    agent
        .rewrite(stamp(turn), &machine.uuid, sets, &then, boot)
        .await?;
    Ok(done(vec![], "written"))
}
