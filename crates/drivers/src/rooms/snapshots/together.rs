//! Snapshots of one instant: every machine stands still before the first snapshot is asked for, and says after the last one whether it
//! held. Where one does not, none of them stays.

use crate::{
    Drivers, Outcome, Turn,
    agent::{SnapshotWish as Wish, WireTaken},
    fault::words,
    perform::{done, premise, stamp},
};
use futures::future::{BoxFuture, join_all};
use std::time::{Duration, Instant};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Host, Machine},
    moment::Span,
    rooms::{
        Event,
        snapshots::{self, Member, Step},
    },
    runs::{Fault, FaultKind},
};

/// Nobody's file systems stand still longer.
const STILL: Duration = Duration::from_secs(20);
/// From when the first snapshot is asked for until the last is there: what writes past its file systems is caught by this alone.
const WITHIN: Duration = Duration::from_millis(100);
/// So often it is tried to be within; after that it counts that all stood still, however long it took.
const PROMPT: usize = 3;
/// A host that was busy is given this many more chances.
const TRIES: usize = 5;
/// Next to nothing is folded; looked at so often.
const FOLDS: usize = 50;

/// One of them, with whom to ask.
struct Asked<'a> {
    member: &'a Member,
    machine: &'a Machine,
    host: &'a Host,
    key: String,
}

/// What went wrong, in words; and whether it may be better at once.
struct Why {
    fault: Fault,
    again: bool,
}

impl Why {
    fn of(fault: Fault) -> Why {
        Why {
            fault,
            again: false,
        }
    }

    fn said(said: String, again: bool) -> Why {
        let remedy = "None of them has a snapshot. Mend what is said, then retry.";
        Why {
            fault: Fault::new(FaultKind::Refused, said, remedy),
            again,
        }
    }
}

type Taken = (WireTaken, Duration);

impl Drivers {
    pub(super) async fn at_one_instant(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Together { members, name, .. } = step else {
            return Err(premise("It is of one machine."));
        };
        let all = self.asked(estate, members).await?;
        // One that an earlier attempt left is of another instant: nobody knows whether all stood still for it.
        self.forgotten(&all, turn).await?;
        let mut tried = 1;
        loop {
            match self.attempt(&all, step, turn).await {
                Ok((_, within)) if within > WITHIN && tried < PROMPT => {
                    self.forgotten(&all, turn).await?;
                    tried += 1;
                }
                Ok((taken, within)) => {
                    let mut events: Vec<Event> = Vec::new();
                    for (one, told) in all.iter().zip(&taken) {
                        events.push(Event::Snapshots(one.event(step, told)));
                    }
                    let within =
                        Span::millis(u64::try_from(within.as_millis()).unwrap_or(u64::MAX));
                    events.push(Event::Snapshots(snapshots::Event::Together {
                        machines: members.iter().map(|m| m.machine).collect(),
                        name: name.clone(),
                        within,
                    }));
                    let said = format!(
                        "all stood still; the last was there {within} after the first was asked for"
                    );
                    return Ok(done(events, said));
                }
                Err(why) => {
                    self.forgotten(&all, turn).await?;
                    if !why.again || tried >= TRIES {
                        return Err(why.fault);
                    }
                    tried += 1;
                }
            }
        }
    }

    /// Nobody wants them any more.
    pub(super) async fn none_of_them(
        &self,
        estate: &Estate,
        members: &[Member],
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let all = self.asked(estate, members).await?;
        let known = |a: &Asked<'_>| a.machine.snapshots.get(a.member.snapshot).is_some();
        if !all.iter().any(known) {
            self.forgotten(&all, turn).await?;
        }
        let said = "no snapshot was taken".into();
        Ok(Outcome::NotYet { said })
    }

    async fn asked<'a>(
        &self,
        estate: &'a Estate,
        members: &'a [Member],
    ) -> Result<Vec<Asked<'a>>, Fault> {
        let mut all = Vec::new();
        for member in members {
            let machine = estate.machines.get(&member.machine);
            let machine = machine.ok_or_else(|| premise("One of the machines is gone."))?;
            let host = self.host_of(estate, super::at_home(machine, member.via))?;
            all.push(Asked {
                member,
                machine,
                host,
                key: self.key_of(host).await?,
            });
        }
        Ok(all)
    }

    /// All of them at the same time; boxed, as the compiler does not see of the whole that it can be sent.
    async fn each<'a, T: Send>(
        &'a self,
        all: &'a [Asked<'a>],
        ask: impl Fn(&'a Drivers, &'a Asked<'a>) -> BoxFuture<'a, Result<T, Why>>,
    ) -> Result<Vec<T>, Why> {
        let answers = join_all(all.iter().map(|one| ask(self, one))).await;
        answers.into_iter().collect()
    }

    /// Still, taken, let go on: what came of each, and how long the taking took.
    async fn attempt(
        &self,
        all: &[Asked<'_>],
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<(Vec<WireTaken>, Duration), Why> {
        let id = Uuid::new_v4();
        let frozen = self
            .each(all, |d, one| Box::pin(d.frozen(one, id, turn)))
            .await;
        let taken = match frozen {
            Ok(_) => {
                let began = Instant::now();
                let taken = self.each(all, |d, one| {
                    Box::pin(d.taken_still(one, step, (id, began), turn))
                });
                taken.await
            }
            Err(why) => Err(why),
        };
        // Whatever came of it, nobody is left standing.
        let held = self
            .each(all, |d, one| Box::pin(d.thawed(one, id, turn)))
            .await;
        let taken: Vec<Taken> = taken?;
        held?;
        let within = taken.iter().map(|(_, at)| *at).max().unwrap_or_default();
        Ok((taken.into_iter().map(|(told, _)| told).collect(), within))
    }

    async fn frozen(&self, one: &Asked<'_>, id: Uuid, turn: Turn<'_>) -> Result<(), Why> {
        let agent = self.agent(one.host, &one.key);
        let for_ms = u64::try_from(STILL.as_millis()).unwrap_or(0);
        let told = agent
            .freeze(stamp(turn), &one.machine.uuid, &id, for_ms)
            .await;
        let told = told.map_err(Why::of)?;
        match told.stage.as_str() {
            "still" => Ok(()),
            _ => Err(Why::said(
                format!("{}: {}", one.machine.name, words(&told.why)),
                false,
            )),
        }
    }

    async fn taken_still(
        &self,
        one: &Asked<'_>,
        step: &Step,
        (id, began): (Uuid, Instant),
        turn: Turn<'_>,
    ) -> Result<Taken, Why> {
        let Step::Together { name, note, .. } = step else {
            return Err(Why::of(premise("It is of one machine.")));
        };
        let wish = Wish {
            name,
            note,
            quiet: true,
            memory: false,
            frozen: Some(id),
        };
        let agent = self.agent(one.host, &one.key);
        let told = agent
            .snapshot(stamp(turn), &one.machine.uuid, &one.member.snapshot, &wish)
            .await;
        let told = told.map_err(Why::of)?;
        match told.stage.as_str() {
            "done" => Ok((told, began.elapsed())),
            _ => Err(Why::said(
                format!("{}: {}", one.machine.name, words(&told.why)),
                true,
            )),
        }
    }

    async fn thawed(&self, one: &Asked<'_>, id: Uuid, turn: Turn<'_>) -> Result<(), Why> {
        let agent = self.agent(one.host, &one.key);
        let held = agent.thaw(stamp(turn), &one.machine.uuid, &id).await;
        match held.map_err(Why::of)? {
            true => Ok(()),
            false => {
                let said = format!(
                    "{} did not stand still until the last snapshot was there.",
                    one.machine.name
                );
                Err(Why::said(said, true))
            }
        }
    }

    /// Those of this step that are there go.
    async fn forgotten(&self, all: &[Asked<'_>], turn: Turn<'_>) -> Result<(), Fault> {
        let gone = self.each(all, |d, one| {
            Box::pin(async move {
                let agent = d.agent(one.host, &one.key);
                let ids = [one.member.snapshot];
                // What is folded is in the way of another attempt.
                for _ in 0..FOLDS {
                    let told = agent
                        .forget_snapshots(stamp(turn), &one.machine.uuid, &ids)
                        .await;
                    if told.map_err(Why::of)?.stage == "done" {
                        break;
                    }
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
                Ok(())
            })
        });
        gone.await.map(drop).map_err(|why| why.fault)
    }
}

impl Asked<'_> {
    fn event(&self, step: &Step, told: &WireTaken) -> snapshots::Event {
        let (name, note, ends) = match step {
            Step::Together {
                name, note, ends, ..
            } => (name.as_str(), note.as_str(), *ends),
            Step::Take { .. } | Step::Back { .. } | Step::Forget { .. } => ("", "", None),
        };
        let (machine, parent) = (self.machine, self.machine.snapshots.rests_on);
        let taken = told.snapshot(
            (self.member.snapshot, name, note),
            ends,
            parent,
            machine.disks.len(),
        );
        snapshots::Event::Taken {
            machine: machine.id,
            snapshot: Box::new(taken),
            still: told.still(),
        }
    }
}
