//! Random runs under random scripts, and the index of holds against a list.

use super::*;

/// Random plans: each step may wait for some of those before it.
fn plans() -> impl Strategy<Value = Vec<Vec<usize>>> {
    prop::collection::vec(
        prop::collection::vec(any::<prop::sample::Index>(), 0..3),
        1..8,
    )
    .prop_map(|steps| {
        steps
            .iter()
            .enumerate()
            .map(|(i, after)| {
                if i == 0 {
                    vec![]
                } else {
                    after.iter().map(|a| a.index(i)).collect()
                }
            })
            .collect()
    })
}

/// What becomes of a run under a script; checked at every move.
struct Play {
    plan: Plan,
    run: Run,
    calls: Vec<u32>,
    closed: u32,
    /// Steps that stand in line behind another run.
    line: Vec<usize>,
}

impl Play {
    fn tell(&mut self, input: Input) -> Vec<Order> {
        let needs = needs(&self.plan);
        advance(&mut self.run, &self.plan, &needs, input, NOW)
    }

    /// What a device or the table of locks says to an order, by the script's next word.
    fn answer(&mut self, order: &Order, word: u8) -> Result<Option<Input>, TestCaseError> {
        Ok(Some(match *order {
            Order::Want { step } if word == 3 => {
                self.line.push(step);
                Input::Refused {
                    step,
                    behind: RunId(99),
                    since: Revision(3),
                }
            }
            Order::Want { step } if word == 4 => Input::Barred { step, fault: no() },
            Order::Want { step } if word == 5 => Input::Reached {
                step,
                said: "so".into(),
            },
            Order::Want { step } => Input::Granted {
                step,
                fence: Revision(9),
            },
            Order::Perform { step, attempt, .. } => {
                let state = self.run.step(step).unwrap().clone();
                let before = &self.plan.steps[step].after;
                let early = before
                    .iter()
                    .any(|i| self.run.phase(*i) != Some(Phase::Done));
                prop_assert!(!early, "step {step} came early");
                prop_assert_eq!(state.phase, Phase::Running);
                prop_assert_eq!(state.attempt, attempt);
                self.calls[step] += 1;
                match word {
                    0 => Input::Failed {
                        step,
                        fault: silent(),
                    },
                    1 => Input::Failed { step, fault: no() },
                    2 => Input::NotYet {
                        step,
                        said: "busy".into(),
                    },
                    _ => Input::Succeeded {
                        step,
                        said: String::new(),
                    },
                }
            }
            Order::Close => {
                self.closed += 1;
                return Ok(None);
            }
            Order::Freed { .. } | Order::Keep { .. } | Order::Tell(_) => return Ok(None),
        }))
    }

    fn counts(&self) -> Result<(), TestCaseError> {
        let mut naive = [0; 6];
        for s in self.run.steps() {
            naive[match s.phase {
                Phase::Waiting => 0,
                Phase::Queued { .. } => 1,
                Phase::Running => 2,
                Phase::Done => 3,
                Phase::Failed => 4,
                Phase::Skipped => 5,
            }] += 1;
        }
        let t = self.run.tally;
        if self.run.state.open() {
            let kept = [t.waiting, t.queued, t.running, t.done, t.failed, t.skipped];
            prop_assert_eq!(naive, kept);
        }
        Ok(())
    }
}

proptest! {
    /// If this fails, a device is told something before what it rests on is done, or after a person said stop, or a run
    /// never ends, or its figures are wrong.
    #[test]
    fn no_step_is_performed_early_or_after_a_stop_and_every_run_ends(
        after in plans(),
        script in prop::collection::vec(0u8..12, 0..200),
        stop in prop::option::of(0usize..60),
    ) {
        let plan = plan(&after);
        let run = a_run(&plan);
        let calls = vec![0; plan.steps.len()];
        let mut play = Play { plan, run, calls, closed: 0, line: vec![] };
        let mut queue = play.tell(Input::Start);
        let mut script = script.into_iter();
        let mut begun_at_stop = None;
        for move_ in 0..3000 {
            if stop == Some(move_) && play.run.state.open() {
                queue.extend(play.tell(Input::Cancel));
                prop_assert_eq!(play.run.tally.queued, 0, "whoever stood in line has left it");
                begun_at_stop = Some(play.run.steps().map(|s| s.began).collect::<Vec<_>>());
            }
            let Some(order) = queue.pop() else {
                if let Some(step) = play.line.pop() {
                    queue = play.tell(Input::Again { step });
                    if !queue.is_empty() { continue; }
                }
                queue = play.tell(Input::Settle);
                if queue.is_empty() && play.run.state == RunState::NeedsYou {
                    queue = play.tell(Input::Retry);
                }
                if queue.is_empty() && play.line.is_empty() { break; }
                continue;
            };
            let word = script.next().unwrap_or(9);
            let Some(input) = play.answer(&order, word)? else { continue };
            let more = play.tell(input.clone());
            if let Input::Succeeded { step, .. } = input {
                // An answer that comes a second time changes nothing.
                let before = play.run.clone();
                let again = play.tell(Input::Succeeded { step, said: "again".into() });
                prop_assert_eq!(&before, &play.run);
                prop_assert_eq!(again, vec![]);
            }
            queue.extend(more);
            play.counts()?;
        }
        prop_assert_eq!(play.closed, 1, "a run closes once");
        if let Some(begun) = begun_at_stop {
            prop_assert_eq!(play.run.state, RunState::Cancelled);
            let now: Vec<_> = play.run.steps().map(|s| s.began).collect();
            prop_assert_eq!(begun, now, "nothing begins after a stop");
        } else {
            prop_assert_eq!(play.run.state, RunState::Done);
        }
    }

    /// Who is in the way, and who is next, as a plain scan of all steps says. If this fails, two runs change one thing at the
    /// same time, or one waits for ever.
    #[test]
    fn the_index_of_holds_says_what_a_scan_says(
        moves in prop::collection::vec((0u64..4, 0usize..3, 0u8..4, 1u64..9), 0..60),
        objects in prop::collection::vec((0u64..3, any::<bool>(), 0u64..3, any::<bool>()), 12),
        asks in (0u64..3, any::<bool>()),
    ) {
        let lock = |n: u64, exclusive: bool| Lock { object: Object::Machine(MachineId(n)), exclusive };
        let needs_of = |run: u64| -> Vec<Needs> {
            (0..3).map(|n| {
                let (a, x, b, y) = objects[usize::try_from(run).unwrap() * 3 + n];
                let mut locks = vec![lock(a, x)];
                if b != a { locks.push(lock(b, y)); }
                Needs { locks, ..Needs::default() }
            }).collect()
        };
        let mut runs = Runs::default();
        for id in 0..4 {
            let run = Run::new(RunId(id), String::new(), Who::itself(), Uuid::nil(), 3, NOW);
            runs.put(Arc::new(run), Arc::new(needs_of(id)));
        }
        for (run, step, phase, since) in moves {
            let mut state = runs.get(RunId(run)).unwrap().step(step).unwrap().clone();
            let (behind, since) = (RunId(9), Revision(since));
            state.phase = [Phase::Waiting, Phase::Queued { behind, since }, Phase::Running, Phase::Done][usize::from(phase)];
            runs.set(RunId(run), step, state);
        }
        let asked = [lock(asks.0, asks.1)];
        let (me, since) = ((RunId(3), 0), Revision(5));
        let clashing = |run: u64, step: usize| needs_of(run)[step].locks.iter().any(|l| l.clashes(&asked[0]));
        let naive = (0..4).any(|run| (0..3).any(|step| {
            let phase = runs.get(RunId(run)).unwrap().phase(step).unwrap();
            let ahead = match phase {
                Phase::Running => true,
                Phase::Queued { since: s, .. } => (s, RunId(run), step) < (since, me.0, me.1),
                _ => false,
            };
            ahead && (RunId(run), step) != me && clashing(run, step)
        }));
        prop_assert_eq!(runs.in_the_way(&asked, me.0, me.1, since).is_some(), naive);
        // Whoever could go on once this is given back is among those who are asked again.
        let next = runs.next_in_line(&asked);
        for run in 0..4 {
            for step in 0..3 {
                let id = RunId(run);
                let Some(Phase::Queued { since, .. }) = runs.get(id).unwrap().phase(step) else { continue };
                let own = &needs_of(run)[step].locks;
                let free = runs.in_the_way(own, id, step, since).is_none();
                let about = own.iter().any(|l| l.clashes(&asked[0]));
                prop_assert!(!(free && about) || next.contains(&(id, step)), "run {run} step {step} would wait for ever");
            }
        }
        // Taken apart again, nothing is left.
        for id in 0..4 { runs.remove(RunId(id)); }
        prop_assert_eq!(runs, Runs::default());
    }
}
