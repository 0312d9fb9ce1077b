//! A guest is waited for and asked. That it does not come up, or answers badly, is what was to be found out: only a host that does
//! not answer is a fault.

use crate::{
    Drivers, Outcome, Turn,
    agent::Agent,
    album::Shot,
    perform::{done, premise},
};
use zastrugi_core::{
    estate::{Arrived, Came, Estate, Host, Machine, MachineState, Proof, Question, Reply},
    rooms::{
        Event,
        answers::{self, Step},
    },
    runs::{Fault, FaultKind},
};

/// What was seen of a guest that nobody waits for any more.
struct End {
    came: Came,
    said: String,
    replies: Vec<Reply>,
}

impl Drivers {
    pub(crate) async fn at_answers(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Try {
            machine,
            host,
            limit,
            must,
            ..
        } = step;
        let machine = estate.machines.get(machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let host = self.host_of(estate, machine.host.unwrap_or(*host))?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let now = agent.machine(&machine.uuid).await?;
        let over = turn.waited >= *limit;
        let (generation, as_of) = (now.generation, now.as_of);
        let state = now.state();
        let end = match &state {
            MachineState::Running { guest: true } => {
                let replies = asked(&agent, machine, must).await?;
                let bad = replies.iter().filter(|r| !r.fine).count();
                if bad > 0 && !over {
                    let said = format!("up; {bad} of {} answers are not good yet", must.len());
                    return Ok(Outcome::NotYet { said });
                }
                End {
                    came: Came::Up,
                    said: String::new(),
                    replies,
                }
            }
            MachineState::Off | MachineState::Planned => End::at(Came::Off, ""),
            MachineState::Paused(why) => End::at(Came::Halted, why),
            MachineState::Starting(phase) if over => {
                End::at(Came::Silent, &format!("it stands at {phase}"))
            }
            MachineState::Running { .. } | MachineState::Stopping if over => {
                End::at(Came::Silent, "its agent does not answer")
            }
            MachineState::Starting(phase) => {
                return Ok(Outcome::NotYet {
                    said: phase.clone(),
                });
            }
            MachineState::Running { .. } | MachineState::Stopping => {
                return Ok(Outcome::NotYet {
                    said: "up; waiting for its agent".into(),
                });
            }
        };
        let seen = super::machines::seen(machine, host, state, (generation, as_of));
        self.evidence(step, (machine, host), end, (seen, turn))
            .await
    }

    /// A machine that was not well, if it is by now: that is kept with what it was brought up from.
    pub(crate) async fn well_by_now(
        &self,
        estate: &Estate,
        arrived: &Arrived,
        turn: Turn<'_>,
    ) -> Result<Option<Event>, Fault> {
        let Some(machine) = estate.machines.get(&arrived.machine) else {
            return Ok(None);
        };
        let up = machine.state == (MachineState::Running { guest: true });
        let Some(host) = machine.host.filter(|_| up) else {
            return Ok(None);
        };
        let host = self.host_of(estate, host)?;
        let key = self.key_of(host).await?;
        let replies = asked(&self.agent(host, &key), machine, &machine.must).await?;
        if replies.iter().any(|r| !r.fine) {
            return Ok(None);
        }
        let proof = Proof {
            at: turn.now,
            host: host.name.clone(),
            copy: machine.name.clone(),
            took: turn.waited,
            booted: turn.waited,
            came: Came::Up,
            said: String::new(),
            replies,
            with: vec![],
            picture: None,
        };
        let tried = answers::Event::Tried {
            machine: machine.id,
            point: Some(arrived.point),
            proof: Box::new(proof),
        };
        Ok(Some(Event::Answers(tried)))
    }

    /// Kept as evidence, with what its screen shows.
    async fn evidence(
        &self,
        step: &Step,
        (machine, host): (&Machine, &Host),
        end: End,
        (seen, turn): (Event, Turn<'_>),
    ) -> Result<Outcome, Fault> {
        let Step::Try { point, with, .. } = step;
        let picture = match point {
            Some(_) => self.pictured(machine, host, turn).await?,
            None => None,
        };
        // A copy is there to be asked: what it took begins with its first byte.
        let took = match machine.proves {
            Some(_) => turn.now.since(machine.created),
            None => turn.waited,
        };
        let proof = Proof {
            at: turn.now,
            host: host.name.clone(),
            copy: machine.name.clone(),
            took,
            booted: turn.waited,
            came: end.came,
            said: end.said,
            replies: end.replies,
            with: with.clone(),
            picture,
        };
        let said = in_full(&proof);
        let tried = answers::Event::Tried {
            machine: machine.id,
            point: *point,
            proof: Box::new(proof),
        };
        Ok(done(vec![seen, Event::Answers(tried)], said))
    }

    /// What its screen shows now. A host that has no picture of it is no reason to try all of it again.
    async fn pictured(
        &self,
        machine: &Machine,
        host: &Host,
        turn: Turn<'_>,
    ) -> Result<Option<uuid::Uuid>, Fault> {
        let Some(album) = self.album() else {
            return Ok(None);
        };
        match self.picture(host, &machine.uuid, None).await {
            Ok(png) => {
                let shot = Shot {
                    machine: machine.id,
                    mark: turn.key.to_owned(),
                    at: turn.now,
                    why: "what a copy showed that was booted to prove a recovery point".into(),
                };
                album.keep(shot, png).await.map(Some)
            }
            Err(fault) if fault.kind == FaultKind::Refused => Ok(None),
            Err(fault) => Err(fault),
        }
    }
}

/// What came of it, with each answer that was not good.
fn in_full(proof: &Proof) -> String {
    let bad = proof.replies.iter().filter(|r| !r.fine);
    let bad = bad.map(|r| format!("; {}: {}", r.question, r.said));
    format!("{}{}", proof.words(), bad.collect::<String>())
}

impl End {
    fn at(came: Came, said: &str) -> End {
        End {
            came,
            said: said.to_owned(),
            replies: vec![],
        }
    }
}

/// Each question on its own; a guest that refuses one may answer the next.
async fn asked(
    agent: &Agent<'_>,
    machine: &Machine,
    must: &[Question],
) -> Result<Vec<Reply>, Fault> {
    let mut all = Vec::with_capacity(must.len());
    for question in must {
        let (fine, said) = match agent.question(&machine.uuid, question).await {
            Ok(answered) => answered.judged(question),
            Err(fault) if fault.kind == FaultKind::Refused => (false, fault.said),
            Err(fault) => return Err(fault),
        };
        all.push(Reply {
            question: question.clone(),
            fine,
            said,
        });
    }
    Ok(all)
}
