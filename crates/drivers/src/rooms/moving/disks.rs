//! Moving a machine's disks to another volume: the host that runs it copies; it is asked how far it is.

use crate::{
    Drivers, Outcome, Turn,
    agent::{Agent, WireCopy},
    fault::words,
    perform::{done, stamp},
};
use zastrugi_core::{
    estate::{Estate, Host, Machine, Volume},
    ids::VolumeId,
    moment::Span,
    rooms::{
        Event,
        moving::{self, Step},
    },
    runs::{Fault, FaultKind},
};

/// What a step says of a copy.
struct Way<'a> {
    machine: &'a Machine,
    via: &'a Host,
    from: VolumeId,
    to: &'a Volume,
}

fn way<'a>(estate: &'a Estate, step: &Step) -> Result<Way<'a>, Fault> {
    let gone = |what: &str| {
        Fault::new(
            FaultKind::Premise,
            format!("The {what} is gone."),
            "Cancel the run.",
        )
    };
    let Step::MoveDisks {
        machine,
        via,
        from,
        to,
        ..
    } = step
    else {
        return Err(gone("step"));
    };
    Ok(Way {
        machine: estate
            .machines
            .get(machine)
            .ok_or_else(|| gone("machine"))?,
        from: *from,
        via: estate.hosts.get(via).ok_or_else(|| gone("host"))?,
        to: estate.volumes.get(to).ok_or_else(|| gone("volume"))?,
    })
}

impl Drivers {
    /// One look at a copy: begins it if nobody did, and tells how far it is.
    pub(super) async fn at_disks(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let way = way(estate, step)?;
        let key = self.key_of(way.via).await?;
        let agent = self.agent(way.via, &key);
        // Perhaps they are there already, whoever began it.
        if let Some(there) = arrived(&agent, &way, turn).await? {
            return Ok(there);
        }
        let known = agent.copying(&way.machine.uuid).await.ok();
        let told = match known.filter(|c| c.to == way.to.uid && c.stage == "running") {
            Some(told) => told,
            None => {
                agent
                    .copy_disks(stamp(turn), &way.machine.uuid, &way.to.uid)
                    .await?
            }
        };
        match told.stage.as_str() {
            "failed" => Err(failed(&way, &told)),
            // The next look finds them there.
            _ => Ok(Outcome::NotYet { said: told.said() }),
        }
    }

    /// Stops a copy that somebody gave up; what has gone over already has.
    pub(super) async fn give_up_disks(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let way = way(estate, step)?;
        let key = self.key_of(way.via).await?;
        let agent = self.agent(way.via, &key);
        match agent.stop_copying(stamp(turn), &way.machine.uuid).await {
            Ok(told) if told.stage == "done" => {}
            Ok(told) => {
                return Ok(Outcome::NotYet {
                    said: words(&told.why),
                });
            }
            Err(fault) if fault.kind == FaultKind::Refused => {
                let said = "not begun; the disks stay where they are".into();
                return Ok(Outcome::NotYet { said });
            }
            Err(fault) => return Err(fault),
        }
        Ok(match arrived(&agent, &way, turn).await? {
            Some(there) => there,
            None => Outcome::NotYet {
                said: "the disks stay where they are".into(),
            },
        })
    }
}

/// What it means if the disks are where they shall be.
async fn arrived(
    agent: &Agent<'_>,
    way: &Way<'_>,
    turn: Turn<'_>,
) -> Result<Option<Outcome>, Fault> {
    let seen = agent.machine(&way.machine.uuid).await?;
    let there = seen.volume == way.to.uid;
    Ok(there.then(|| moved(way, seen.generation, turn.waited)))
}

fn moved(way: &Way<'_>, generation: u64, took: Span) -> Outcome {
    let moved = Event::Moving(moving::Event::DisksMoved {
        machine: way.machine.id,
        generation,
        from: way.from,
        to: way.to.id,
        took,
    });
    done(vec![moved], format!("the disks are on {}", way.to.name))
}

fn failed(way: &Way<'_>, told: &WireCopy) -> Fault {
    let said = format!("{}: {}.", way.machine.name, words(&told.why));
    Fault::new(
        FaultKind::Refused,
        said,
        "The machine goes on with its disks where they were. Mend what is said, then retry.",
    )
}
