//! Moving a machine: the destination is asked to await it, the source to send it, and both are asked where it is.

mod disks;

use crate::{
    Drivers, Outcome, Turn,
    agent::{Agent, WireMove},
    fault::words,
    perform::{done, stamp},
};
use serde_json::json;
use zastrugi_core::{
    estate::{Estate, Host, Machine, MachineState, Moved},
    ids::{HostId, MachineId},
    migration::{Course, MAX_ROUNDS},
    rooms::{
        Event, machines,
        moving::{self, Line, Step},
    },
    runs::{Fault, FaultKind},
};

/// What a step says of a move.
struct Leg<'a> {
    machine: &'a Machine,
    from: &'a Host,
    to: &'a Host,
    line: &'a Line,
    foretold: &'a Course,
}

fn premise(said: &str) -> Fault {
    Fault::new(FaultKind::Premise, said, "Cancel the run.")
}

fn leg<'a>(estate: &'a Estate, step: &'a Step) -> Result<Leg<'a>, Fault> {
    let Step::Move {
        machine,
        from,
        to,
        line,
        foretold,
    } = step
    else {
        return Err(premise("This is no move."));
    };
    let host = |id: &HostId| {
        estate
            .hosts
            .get(id)
            .ok_or_else(|| premise("A host is gone."))
    };
    let found: Option<&std::sync::Arc<Machine>> = estate.machines.get::<MachineId>(machine);
    Ok(Leg {
        machine: found.ok_or_else(|| premise("The machine is gone."))?,
        from: host(from)?,
        to: host(to)?,
        line,
        foretold,
    })
}

impl Drivers {
    /// One look at a move: begins it if nobody did, and tells how far it is.
    pub(crate) async fn at_move(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        if matches!(step, Step::MoveDisks { .. }) {
            return self.at_disks(estate, step, turn).await;
        }
        let leg = leg(estate, step)?;
        let key = self.key_of(leg.from).await?;
        let source = self.agent(leg.from, &key);
        if let Some(waits) = self.out_first(estate, &source, &leg, turn).await? {
            return Ok(waits);
        }
        let told = match self.send(&source, &leg, turn).await {
            Ok(told) => told,
            // The source is silent, or no longer has it: perhaps it is there already.
            Err(fault) => {
                return match self.arrived(&leg).await {
                    Some(generation) => Ok(moved(&leg, generation, None, turn)),
                    None => Err(fault),
                };
            }
        };
        match told.stage.as_str() {
            "running" => Ok(Outcome::NotYet { said: told.said() }),
            "done" => Ok(moved(&leg, told.generation, Some(&told), turn)),
            _ => Err(failed(&leg, &told)),
        }
    }

    /// A member of a front is taken out before its move begins.
    async fn out_first(
        &self,
        estate: &Estate,
        source: &Agent<'_>,
        leg: &Leg<'_>,
        turn: Turn<'_>,
    ) -> Result<Option<Outcome>, Fault> {
        if zastrugi_core::fronts::of_machine(estate, leg.machine).is_empty() {
            return Ok(None);
        }
        // Whatever was begun goes on, and one that is silent is not asked for more.
        match source.sending(&leg.machine.uuid).await {
            Ok(told) if leg.is(&told) => Ok(None),
            Err(fault) if fault.kind != FaultKind::Refused => Ok(None),
            Ok(_) | Err(_) => self.drained(estate, leg.machine, turn).await,
        }
    }

    async fn send(
        &self,
        source: &Agent<'_>,
        leg: &Leg<'_>,
        turn: Turn<'_>,
    ) -> Result<WireMove, Fault> {
        let uuid = &leg.machine.uuid;
        // What is under way, or has just ended well, needs nobody's promise again.
        let ours =
            |told: &WireMove| leg.is(told) && matches!(told.stage.as_str(), "running" | "done");
        if let Some(told) = source.sending(uuid).await.ok().filter(ours) {
            return Ok(told);
        }
        let key = self.key_of(leg.to).await?;
        let destination = self.agent(leg.to, &key);
        let awaited = destination
            .arrive(stamp(turn), uuid, &leg.from.name)
            .await?;
        let line = leg.line;
        let body = json!({
            "to": awaited.address, "ticket": awaited.ticket, "host": leg.to.name, "network": line.network,
            "bandwidth": line.bandwidth.0, "target_ms": line.target.0, "max_rounds": MAX_ROUNDS,
            "slow": line.slow, "force": line.force, "generation": leg.machine.generation + 1
        });
        source.send_machine(stamp(turn), uuid, body).await
    }

    /// The generation under which the machine runs at its destination, if it does.
    async fn arrived(&self, leg: &Leg<'_>) -> Option<u64> {
        let key = self.key_of(leg.to).await.ok()?;
        let there = self.agent(leg.to, &key);
        let seen = there.machine(&leg.machine.uuid).await.ok()?;
        let runs = seen.state() != MachineState::Off;
        let newer = seen.generation > leg.machine.generation || leg.machine.host == Some(leg.to.id);
        (runs && newer).then_some(seen.generation)
    }

    /// Stops a move that somebody gave up; what has happened already has.
    pub(crate) async fn give_up_move(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        if matches!(step, Step::MoveDisks { .. }) {
            return self.give_up_disks(estate, step, turn).await;
        }
        let leg = leg(estate, step)?;
        let key = self.key_of(leg.from).await?;
        let source = self.agent(leg.from, &key);
        let told = match source.stop_sending(stamp(turn), &leg.machine.uuid).await {
            Ok(told) if leg.is(&told) => told,
            // Nothing of it was begun there.
            Ok(_) => return Ok(not_begun()),
            Err(fault) if fault.kind == FaultKind::Refused => return Ok(not_begun()),
            Err(fault) => return Err(fault),
        };
        Ok(match told.stage.as_str() {
            "done" => moved(&leg, told.generation, Some(&told), turn),
            // It ends at its next look around, or the lease is changing hands just now.
            "running" => Outcome::Unsettled,
            _ => Outcome::NotYet {
                said: words(&told.why),
            },
        })
    }
}

fn not_begun() -> Outcome {
    Outcome::NotYet {
        said: "not begun; the machine stays where it is".into(),
    }
}

impl Leg<'_> {
    /// Whether a host speaks of this move, and not of an earlier one from there: by the lease's next generation, which
    /// the estate may have seen already.
    fn is(&self, told: &WireMove) -> bool {
        let held = self.machine.generation;
        let seen = self.machine.host == Some(self.to.id) && told.generation == held;
        seen || told.generation == held + 1
    }
}

fn moved(leg: &Leg<'_>, generation: u64, told: Option<&WireMove>, turn: Turn<'_>) -> Outcome {
    let machine = leg.machine.id;
    let Some(told) = told else {
        let seen = Event::Machines(machines::Event::Seen {
            machine,
            state: leg.machine.state.clone(),
            host: Some(leg.to.id),
            generation,
            as_of: None,
        });
        let events = vec![
            seen,
            Event::Moving(moving::Event::Moving { machine, to: None }),
        ];
        return done(events, "it is there; its source can't tell how it went");
    };
    let mut foretold = leg.foretold.clone();
    foretold.rounds.truncate(Moved::MOST_ROUNDS);
    let measured = told.measured();
    let rounds = match measured.rounds.len() {
        1 => "1 round".to_owned(),
        n => format!("{n} rounds"),
    };
    let said = format!(
        "{} in {rounds}, {}; it stood still for {} ms, {} ms were foretold",
        measured.total,
        measured.took,
        measured.stood_still.0,
        foretold.stands_still().0
    );
    let event = Event::Moving(moving::Event::Moved {
        machine,
        generation,
        moved: Box::new(Moved {
            at: turn.now,
            from: leg.from.id,
            to: leg.to.id,
            measured,
            foretold: Some(foretold),
        }),
    });
    done(vec![event], said)
}

fn failed(leg: &Leg<'_>, told: &WireMove) -> Fault {
    let said = format!("{}: {}.", leg.machine.name, words(&told.why));
    let remedy = if leg.line.force {
        "The machine goes on where it was. Look at the hosts and their network; then retry."
    } else {
        "The machine goes on where it was. Retry, or begin anew and let it be slowed or moved all the same."
    };
    Fault::new(FaultKind::Refused, said, remedy)
}
