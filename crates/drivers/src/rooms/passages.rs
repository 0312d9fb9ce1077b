//! What lies between the stages of a recovery plan: most of it needs no device, only somebody who knows what time it is. That a guest's
//! command does not end well is what a drill is there to find out; only a host that does not answer is a fault.

use crate::{
    Drivers, Outcome, Turn,
    perform::{done, premise},
};
use zastrugi_core::{
    estate::{Arrived, Came, Estate, Passage, PassageKind, Question},
    ids::{HostId, MachineId},
    moment::Span,
    rooms::{
        Event,
        passages::{self, Of, Reached, Step},
        plans,
    },
    runs::{Fault, FaultKind},
};

/// A command in a guest, and how long it may take until it ends well.
struct Command<'a> {
    machine: MachineId,
    host: HostId,
    line: &'a str,
    limit: Span,
}

fn told(event: passages::Event, said: impl Into<String>) -> Outcome {
    done(vec![Event::Passages(event)], said)
}

fn known(estate: &Estate, of: Of) -> Result<&Passage, Fault> {
    let found = estate.passages.get(&of.passage);
    found
        .map(|p| &**p)
        .ok_or_else(|| premise("Nothing is known of how this plan is carried out."))
}

impl Drivers {
    pub(crate) async fn at_passage(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Open { .. } | Step::Ask { .. } | Step::Turn { .. } | Step::End { .. } => {
                Ok(noted(step, turn))
            }
            Step::Hear { of, mark } => heard(known(estate, *of)?, (*of, *mark), turn),
            Step::Pause { of, mark, time } => Ok(match turn.waited >= *time {
                true => told(
                    went((*of, *mark), turn, true, String::new()),
                    format!("{time} passed"),
                ),
                false => Outcome::NotYet {
                    said: format!("{} of {time} passed", turn.waited),
                },
            }),
            Step::Command {
                of,
                mark,
                machine,
                host,
                command,
                limit,
            } => {
                let command = Command {
                    machine: *machine,
                    host: *host,
                    line: command,
                    limit: *limit,
                };
                self.command(estate, (*of, *mark), command, turn).await
            }
            Step::Judge {
                of,
                stage,
                mark,
                copies,
            } => Ok(judged(
                estate,
                known(estate, *of)?,
                (*of, *mark, *stage),
                copies,
                turn,
            )),
            Step::Mend {
                of,
                stage,
                mark,
                copies,
            } => {
                let stage = (*of, *mark, *stage);
                self.mended(estate, known(estate, *of)?, stage, copies, turn)
                    .await
            }
            Step::Close { of, stage, copies } => {
                let reached = reached(estate, known(estate, *of)?, *stage, copies);
                let good = reached.iter().filter(|r| r.good).count();
                let said = format!("{good} of {} machines came up well", reached.len());
                let closed = passages::Event::Closed {
                    passage: of.passage,
                    stage: *stage,
                    at: turn.now,
                    reached,
                };
                Ok(told(closed, said))
            }
        }
    }

    /// Again until it ends well, for as long as it may.
    async fn command(
        &self,
        estate: &Estate,
        of: (Of, u64),
        command: Command<'_>,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let machine = estate.machines.get(&command.machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let host = self.host_of(estate, machine.host.unwrap_or(command.host))?;
        let key = self.key_of(host).await?;
        let question = Question::Run {
            command: command.line.to_owned(),
        };
        let asked = self.agent(host, &key);
        let (fine, said) = match asked.question(&machine.uuid, &question).await {
            Ok(answered) => answered.judged(&question),
            Err(fault) if fault.kind == FaultKind::Refused => (false, fault.said),
            Err(fault) => return Err(fault),
        };
        match fine || turn.waited >= command.limit {
            true => Ok(told(went(of, turn, fine, said.clone()), said)),
            false => Ok(Outcome::NotYet { said }),
        }
    }
}

/// What is only written down.
fn noted(step: &Step, turn: Turn<'_>) -> Outcome {
    let at = turn.now;
    match step {
        Step::Open { of, stage } => {
            let opened = passages::Event::Opened {
                passage: of.passage,
                stage: *stage,
                at,
            };
            told(opened, "")
        }
        Step::Ask { of, mark } => {
            let asked = passages::Event::Asked {
                passage: of.passage,
                mark: *mark,
                at,
            };
            told(asked, "asked")
        }
        Step::Turn { of, from } => {
            let turned = plans::Event::Turned {
                plan: of.plan,
                from: *from,
                at,
            };
            done(vec![Event::Plans(turned)], "")
        }
        Step::End { of } => {
            let ended = passages::Event::Ended {
                passage: of.passage,
                at,
            };
            told(ended, "")
        }
        Step::Hear { .. }
        | Step::Judge { .. }
        | Step::Mend { .. }
        | Step::Pause { .. }
        | Step::Command { .. }
        | Step::Close { .. } => done(vec![], ""),
    }
}

fn went((of, mark): (Of, u64), turn: Turn<'_>, good: bool, said: String) -> passages::Event {
    passages::Event::Went {
        passage: of.passage,
        mark,
        at: turn.now,
        good,
        said,
    }
}

/// Whether somebody has answered.
fn heard(passage: &Passage, of: (Of, u64), turn: Turn<'_>) -> Result<Outcome, Fault> {
    let mut all = passage.stages.iter().flat_map(|s| &s.then);
    let between = all.find(|b| b.mark == of.1);
    let between = between.ok_or_else(|| premise("Nobody asks that."))?;
    Ok(match between.good {
        Some(good) => {
            let said = if good { "confirmed" } else { "denied" };
            told(went(of, turn, good, between.said.clone()), said)
        }
        None => Outcome::NotYet {
            said: "waits for a person".into(),
        },
    })
}

/// Whether all of a stage is well; else somebody is asked.
fn judged(
    estate: &Estate,
    passage: &Passage,
    (of, mark, stage): (Of, u64, usize),
    copies: &[(MachineId, String)],
    turn: Turn<'_>,
) -> Outcome {
    let reached = reached(estate, passage, stage, copies);
    let bad: Vec<&Reached> = reached.iter().filter(|r| !r.good).collect();
    let asked = passages::Event::Asked {
        passage: of.passage,
        mark,
        at: turn.now,
    };
    match bad.len() {
        0 => told(went((of, mark), turn, true, String::new()), "all are well"),
        n => told(asked, format!("{n} are not well; a person is asked")),
    }
}

fn one(
    estate: &Estate,
    passage: &Passage,
    machine: &Arrived,
    copies: &[(MachineId, String)],
) -> Reached {
    let point = machine.point.found(estate).ok();
    let from = match passage.kind {
        // Its copy was of that instant, whatever came since.
        PassageKind::Drill => None,
        PassageKind::Failover => point.map(|p| (p.taken, None)),
        PassageKind::Move => point.map(|p| (p.taken, p.equal)),
    };
    let lost = |said: &str| Reached {
        machine: machine.machine,
        host: String::new(),
        booted: None,
        good: false,
        said: said.to_owned(),
        from,
    };
    if let Some(good) = machine.good {
        return Reached {
            good,
            ..lost(&machine.said)
        };
    }
    let Some((_, copy)) = copies.iter().find(|(of, _)| *of == machine.machine) else {
        return lost("it was left out");
    };
    let proof = point.and_then(|p| p.proof.as_deref());
    match proof.filter(|p| p.copy == *copy && p.at >= passage.began) {
        Some(proof) => Reached {
            machine: machine.machine,
            host: proof.host.clone(),
            booted: (proof.came == Came::Up).then_some(proof.booted),
            good: proof.is_good(),
            said: proof.words(),
            from,
        },
        None => lost(
            "what it answered is not known any more: its point is gone, or was proven otherwise since",
        ),
    }
}

/// Of a stage those that are not well, by what they were brought up from.
fn unwell<'a>(
    estate: &Estate,
    passage: &'a Passage,
    stage: usize,
    copies: &[(MachineId, String)],
) -> Vec<&'a Arrived> {
    let all = passage.stages.get(stage);
    let all = all.into_iter().flat_map(|s| &s.machines);
    all.filter(|m| !one(estate, passage, m, copies).good)
        .collect()
}

impl Drivers {
    /// Those that were not well are asked again, until all are, or somebody says that it may go on as it is.
    async fn mended(
        &self,
        estate: &Estate,
        passage: &Passage,
        (of, mark, stage): (Of, u64, usize),
        copies: &[(MachineId, String)],
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let mut all = passage.stages.iter().flat_map(|s| &s.then);
        let between = all.find(|b| b.mark == mark);
        let between = between.ok_or_else(|| premise("Nobody asks that."))?;
        if between.ended.is_some() {
            return Ok(done(vec![], "all were well"));
        }
        let unwell = unwell(estate, passage, stage, copies);
        let mut events = Vec::new();
        for machine in &unwell {
            events.extend(self.well_by_now(estate, machine, turn).await?);
        }
        let left = unwell.len() - events.len();
        let said = match (left, between.good) {
            (0, _) => "all are well",
            (_, Some(_)) => "somebody said that it may go on",
            (n, None) => {
                let said = format!("{n} are not well yet; a person is asked");
                return Ok(Outcome::NotYet { said });
            }
        };
        // That all came up after all is good; that it went on without some is not.
        let good = left == 0;
        events.push(Event::Passages(went(
            (of, mark),
            turn,
            good,
            between.said.clone(),
        )));
        Ok(done(events, said))
    }
}

/// What came of the machines of a stage: what their copies answered, as it is kept with the points that they are of.
fn reached(
    estate: &Estate,
    passage: &Passage,
    stage: usize,
    copies: &[(MachineId, String)],
) -> Vec<Reached> {
    let Some(passed) = passage.stages.get(stage) else {
        return vec![];
    };
    let all = passed.machines.iter();
    all.map(|m| one(estate, passage, m, copies)).collect()
}
