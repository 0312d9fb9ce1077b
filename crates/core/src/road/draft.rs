//! What every kind of proposal fills in while it is assessed.

use super::{
    Assessment, Fill, Listed, Place, PlannedStep, Tale, When, Work, foretell::foretell, held,
    outlook, reach,
};
use crate::{
    estate::{AnyPoint, Estate, Fact, Host, Machine, MachineState, Pen, Site, StoredPoint, Volume},
    finding::{Finding, Rule},
    first_boot,
    ids::{HostId, MachineId, RunId, SiteId, VolumeId},
    limits,
    moment::Moment,
    placement::{Choice, Ledger},
    view::View,
};
use std::{cmp::Reverse, collections::BTreeSet, ops::Range, sync::Arc};

/// The most that one proposal may name.
pub const MOST_CHOSEN: usize = limits::CHOSEN.most;

pub struct Draft<'a, S: Work> {
    pub view: &'a View,
    pub now: Moment,
    pub title: String,
    findings: Vec<Finding>,
    places: Vec<Place>,
    listed: Vec<Listed>,
    fills: Vec<Fill>,
    refused: Vec<(String, String)>,
    interrupted: Vec<(MachineId, String)>,
    steps: Vec<PlannedStep<S>>,
    /// Hosts that are handed back.
    pub leaving: BTreeSet<HostId>,
    intents: Vec<S::Event>,
    sites: Vec<Site>,
    run: RunId,
    next: u64,
}

impl<'a, S: Work> Draft<'a, S> {
    pub(super) fn new(view: &'a View, now: Moment) -> Self {
        let next = view.estate.next.max(1);
        Draft {
            view,
            now,
            title: String::new(),
            findings: Vec::new(),
            places: Vec::new(),
            listed: Vec::new(),
            fills: Vec::new(),
            refused: Vec::new(),
            interrupted: Vec::new(),
            steps: Vec::new(),
            leaving: Default::default(),
            intents: Vec::new(),
            sites: Vec::new(),
            run: RunId(next),
            next: next + 1,
        }
    }
    pub fn estate(&self) -> &'a Estate {
        &self.view.estate
    }
    /// A number for a new entity; the run has the first.
    pub fn number(&mut self) -> u64 {
        self.next += 1;
        self.next - 1
    }
    pub fn run(&self) -> RunId {
        self.run
    }
    pub fn found(&mut self, finding: Finding) {
        self.findings.push(finding);
    }
    pub fn found_all(&mut self, findings: impl IntoIterator<Item = Finding>) {
        self.findings.extend(findings);
    }
    pub fn intend(&mut self, event: S::Event) {
        self.intents.push(event);
    }
    pub fn interrupts(&mut self, machine: &Machine) {
        if machine.carries {
            let name = &machine.name;
            let text = format!(
                "This manager runs in {name}: until it is on again nobody sees this page or watches a cluster without keepers."
            );
            self.found(Finding::mind(Rule::Keepers, name, text));
        }
        self.interrupted.push((machine.id, machine.name.clone()));
    }
    /// Adds a step and answers its number, for those that come after it.
    pub fn step(&mut self, step: S, title: String, after: &[usize], field: Option<&str>) -> usize {
        self.steps.push(PlannedStep {
            step,
            title,
            after: after.to_vec(),
            turn: vec![],
            field: field.map(str::to_owned),
            when: When::default(),
        });
        self.steps.len() - 1
    }

    /// A step that was planned begins only when all of these are done, or one of them stands still.
    pub fn takes_turn(&mut self, step: usize, behind: &[usize]) {
        if let Some(planned) = self.steps.get_mut(step) {
            planned.turn = behind.to_vec();
        }
    }

    /// What the proposal names, each once; more than one proposal may name is a *stop*, and nothing is looked at.
    pub fn chosen<T: Ord + Copy>(&mut self, named: &[T]) -> Vec<T> {
        let mut once = BTreeSet::new();
        let mut chosen = named.to_vec();
        chosen.retain(|id| once.insert(*id));
        if chosen.len() > MOST_CHOSEN {
            let n = chosen.len();
            let text = format!("{n} are selected; one run takes up to {MOST_CHOSEN}.");
            let stop = Finding::stop(Rule::Count, "selection", text);
            self.found(stop.remedy("Take them in several runs."));
            chosen.clear();
        }
        chosen
    }
    /// The machines that the proposal names, each once, as far as they are there.
    pub fn machines(&mut self, named: &[MachineId]) -> Vec<Arc<Machine>> {
        let chosen = self.chosen(named);
        let found = chosen.into_iter().filter_map(|id| self.machine(id));
        found.cloned().collect()
    }
    /// A machine that the proposal names, if it is there; else a *stop*.
    pub fn machine(&mut self, id: MachineId) -> Option<&'a Arc<Machine>> {
        let found = self.view.estate.machines.get(&id);
        if found.is_none() {
            let text = "This machine is gone; somebody removed it.";
            self.found(Finding::stop(Rule::Exists, id.to_string(), text));
        }
        found
    }
    /// A recovery point that the proposal names, if it is there; else a *stop* at the field `point`.
    pub fn point<A: Copy + Into<AnyPoint>>(&mut self, at: Option<A>) -> Option<(A, StoredPoint)> {
        let none = || Finding::stop(Rule::Exists, "recovery point", "Choose the recovery point.");
        let found = at.ok_or_else(none).and_then(|at| {
            let point = at.into().found(self.estate())?;
            Ok((at, point.clone()))
        });
        match found {
            Ok(found) => Some(found),
            Err(stop) => {
                self.found(stop.at("point"));
                None
            }
        }
    }
    /// A host that the proposal names, if it is there; else a *stop*.
    pub fn host(&mut self, id: HostId) -> Option<&'a Arc<Host>> {
        let found = self.view.estate.hosts.get(&id);
        if found.is_none() {
            self.found(Finding::stop(
                Rule::Exists,
                id.to_string(),
                "This host is gone; it was handed back.",
            ));
        }
        found
    }
    /// A volume that the proposal names, if it is there; else a *stop*.
    pub fn volume(&mut self, id: VolumeId) -> Option<&'a Arc<Volume>> {
        let found = self.view.estate.volumes.get(&id);
        if found.is_none() {
            let text = "This volume is gone.";
            self.found(Finding::stop(Rule::Exists, id.to_string(), text));
        }
        found
    }
    /// Whether it is known what the machine does; else a *stop* with what can be done.
    pub fn knows(&mut self, machine: &Machine) -> bool {
        let Some((host, since)) = self.estate().unknown(machine) else {
            return true;
        };
        let name = &machine.name;
        let ago = self.now.since(since);
        let text = format!(
            "What {name} does is unknown: it was on {}, which has not answered for {ago}.",
            host.name
        );
        let stop = Finding::stop(Rule::HostOpen, name, text).at("machines");
        let because = host.out_of_reach().unwrap_or_default();
        self.found(stop.because(because).remedy(reach::remedy(host)));
        false
    }
    /// Whether it is a machine of its own; a replica holds what its original held and nothing else: a *stop* with what can be done.
    pub fn is_own(&mut self, machine: &Machine, field: &str) -> bool {
        let Some(replica) = &machine.replica else {
            return true;
        };
        let (name, of) = (&machine.name, &replica.name);
        let text = format!("{name} is a replica: it holds what {of} held, and nothing else.");
        let stop = Finding::stop(Rule::Held, name, text).at(field);
        self.found(stop.remedy(format!(
            "Make a copy of one of its points, or make {name} a machine of its own, on its page."
        )));
        false
    }
    /// Off, with a record on another volume too: which one is meant its hosts can't tell; a *stop*.
    fn is_one(&mut self, machine: &Machine) -> bool {
        let other = self.estate().lies_twice(machine);
        let Some(other) = other.filter(|_| machine.is_off()) else {
            return true;
        };
        let name = &machine.name;
        let text = format!("A second record of {name} lies on {}.", other.name);
        let stop = Finding::stop(Rule::State, name, text).at("machines");
        self.found(
            stop.remedy("Settle it on that volume's page first: forget it, or take that one."),
        );
        false
    }
    /// A host that reaches the machine's volume: its own, else any of its cluster that answers; else a *stop*.
    pub fn via(&mut self, machine: &Machine) -> Option<HostId> {
        if !self.is_one(machine) {
            return None;
        }
        let estate = self.estate();
        let own = machine
            .host
            .and_then(|h| estate.hosts.get(&h))
            .filter(|h| h.accepts_work());
        // Any of the cluster serves; which one differs by machine, so that none has all the work.
        let others = || {
            let cluster = machine.cluster?;
            let open: Vec<_> = estate
                .hosts_in(cluster)
                .filter(|h| h.accepts_work())
                .collect();
            let n = usize::try_from(machine.id.0)
                .unwrap_or(0)
                .checked_rem(open.len())?;
            open.get(n).copied()
        };
        let found = own.or_else(others).map(|h| h.id);
        if found.is_none() {
            let text = format!("No host that reaches {} answers.", machine.name);
            self.found(
                Finding::stop(Rule::HostOpen, &machine.name, text)
                    .remedy("Look at the hosts of its cluster; one must answer."),
            );
        }
        found
    }

    /// The host that something is done to the disks of a machine at: its own, while it is on.
    pub fn at_home(&mut self, machine: &Machine, field: &str) -> Option<HostId> {
        let via = self.via(machine)?;
        if machine.host.is_none_or(|own| own == via) {
            return Some(via);
        }
        let name = &machine.name;
        let own = machine.host.and_then(|h| self.estate().hosts.get(&h));
        let host = own.map_or("Its host", |h| h.name.as_str());
        let text = format!(
            "{host} takes no orders now; only there can anything be done to the disks of {name} while it is on."
        );
        self.found(Finding::stop(Rule::HostOpen, name, text).at(field));
        None
    }
    /// Whether anything can be changed at a machine's disks and cards now, and by which host; else a *stop*.
    pub fn at_rest(&mut self, machine: &Machine, field: &str) -> Option<HostId> {
        if !self.knows(machine) || !self.is_own(machine, field) {
            return None;
        }
        let name = &machine.name;
        let stop = |rule, text: String| Finding::stop(rule, name, text).at(field);
        let busy = match machine.state {
            MachineState::Planned => Some("being made"),
            MachineState::Stopping => Some("being stopped"),
            MachineState::Off
            | MachineState::Starting(_)
            | MachineState::Running { .. }
            | MachineState::Paused(_) => machine.arriving.is_some().then_some("being moved"),
        };
        let problem = match (machine.deleted, busy) {
            (Some(_), _) => {
                let text = format!("{name} was deleted; bring it back first.");
                Some(stop(Rule::Deleted, text))
            }
            (None, Some(busy)) => {
                let stop = stop(Rule::State, format!("{name} is {busy}."));
                Some(stop.remedy("Wait until that is over."))
            }
            (None, None) => None,
        };
        match problem {
            Some(problem) => {
                self.found(problem);
                None
            }
            None => self.at_home(machine, field),
        }
    }
    /// The site of this name, or a new one; else a *stop*.
    pub fn site(&mut self, name: &str) -> Option<SiteId> {
        let name = name.trim();
        let words = match name.chars().count() {
            0 => Some("Choose a site, or type the name of a new one.".to_owned()),
            n => limits::GROUP.check(n).err(),
        };
        if let Some(words) = words {
            self.found(Finding::stop(Rule::Name, "site", words).at("site"));
            return None;
        }
        if let Some(site) = self.estate().site_named(name) {
            return Some(site.id);
        }
        let id = SiteId(self.number());
        self.sites.push(Site {
            id,
            name: name.to_owned(),
        });
        let text = format!("{name} is added as a new site.");
        self.found(Finding::clear(Rule::Name, name, text));
        Some(id)
    }

    /// A machine that comes into being; `host`: none where it stays off.
    pub fn lists(&mut self, machine: &Machine, host: Option<HostId>) {
        let host = host.and_then(|h| self.estate().hosts.get(&h));
        let addresses: Vec<_> = machine
            .nics
            .iter()
            .flat_map(|n| &n.addresses)
            .map(ToString::to_string)
            .collect();
        let booted = machine.first_boot.as_ref();
        let edition = booted.and_then(|b| {
            self.estate()
                .first_boots
                .get(&b.document)?
                .version(b.version)
        });
        let told = edition.and_then(|e| first_boot::told(e, machine, self.estate()).ok());
        self.listed.push(Listed {
            host_name: told.map(|t| t.host_name).unwrap_or_default(),
            name: machine.name.clone(),
            place: host.map_or_else(|| "stays off".into(), |h| h.name.clone()),
            addresses: addresses.join(", "),
        });
    }
    pub fn placed(&mut self, machine: &Machine, choice: &Choice) {
        let name = |id: &HostId| {
            self.view
                .estate
                .hosts
                .get(id)
                .map_or_else(|| id.to_string(), |h| h.name.clone())
        };
        let host_name = name(&choice.host);
        self.found_minds(machine, choice, &host_name);
        if self.refused.is_empty() {
            let dearer = choice
                .others
                .iter()
                .map(|(id, _)| (name(id), "would end fuller".to_owned()));
            let refused = choice.refused.iter().map(|(id, why)| {
                let words = why
                    .iter()
                    .filter(|o| o.stops())
                    .map(crate::placement::Obstacle::words);
                (name(id), words.collect::<Vec<_>>().join("; "))
            });
            self.refused = dearer.chain(refused).collect();
        }
        self.places.push(Place {
            machine: machine.name.clone(),
            host: choice.host,
            host_name,
        });
    }
    fn found_minds(&mut self, machine: &Machine, choice: &Choice, host: &str) {
        let minds: Vec<_> = choice
            .minds
            .iter()
            .map(|o| o.finding(&machine.name, host))
            .collect();
        self.found_all(minds);
    }
    /// Held memory of the hosts that got something, before and after.
    pub fn filled(&mut self, before: &Ledger, after: &Ledger) {
        for row in after.rows() {
            let was = before
                .row(row.host.id)
                .map_or(row.host.reserve(), crate::placement::Account::taken);
            if row.taken() != was {
                self.fills.push(Fill {
                    host: row.host.id,
                    name: row.host.name.clone(),
                    before: was,
                    after: row.taken(),
                    installed: row.host.hardware.memory,
                });
            }
        }
    }

    /// A draft in the words of another room, perhaps of an estate as it will be: what it plans becomes a part of this by
    /// [`Draft::take_in`], or is thrown away.
    pub fn beside<'b, T: Work>(&self, view: &'b View) -> Draft<'b, T> {
        Draft {
            run: self.run,
            next: self.next,
            ..Draft::new(view, self.now)
        }
    }
    /// For what is looked at outside of any proposal; only what was found in it is read.
    pub fn alone(view: &'a View, now: Moment) -> Self {
        Draft::new(view, now)
    }
    pub fn findings(&self) -> &[Finding] {
        &self.findings
    }
    /// Nothing that was planned so far is done.
    pub fn forget_steps(&mut self) {
        self.steps.clear();
    }
    /// Nothing of it is so before its run begins.
    pub fn forget_intents(&mut self) {
        self.intents.clear();
    }
    /// The steps planned so far, in their order.
    pub fn planned(&self) -> impl Iterator<Item = &S> {
        self.steps.iter().map(|p| &p.step)
    }
    /// What will be so once it is accepted, in its order.
    pub fn intents(&self) -> impl Iterator<Item = &S::Event> {
        self.intents.iter()
    }
    /// Whether something stops it so far.
    pub fn is_stopped(&self) -> bool {
        self.findings.iter().any(Finding::stops)
    }
    /// What it says of what does not exist yet is left out: those that `keep` refuses. Answers how many those are.
    pub fn leave_out(&mut self, keep: impl Fn(&Finding) -> bool) -> usize {
        let had = self.findings.len();
        self.findings.retain(keep);
        had - self.findings.len()
    }
    /// What it writes before its run begins, as it will be in the estate.
    pub fn in_estate(&self, estate: &mut Estate)
    where
        S::Event: Tale,
    {
        for site in &self.sites {
            estate.put(Fact::Site(site.clone().into()));
        }
        for event in &self.intents {
            event.absorb(&mut Pen::on(estate));
        }
        estate.next = estate.next.max(self.next);
    }

    /// Takes in what was planned beside this: its findings as they are changed by `say`, and its steps, of which those that
    /// wait for none of their own wait for `after`. Answers the numbers that its steps have here.
    pub fn take_in<T: Work>(
        &mut self,
        part: Draft<'_, T>,
        after: &[usize],
        say: impl Fn(Finding) -> Finding,
        become_ours: (impl Fn(T) -> S, impl Fn(T::Event) -> S::Event),
    ) -> Range<usize> {
        let waits = |_: &T, first: bool| if first { after.to_vec() } else { vec![] };
        self.take_in_by(part, waits, say, become_ours)
    }
    /// The same, where `after` says of each step what it waits for besides its own, and whether it has none of its own.
    pub fn take_in_by<T: Work>(
        &mut self,
        part: Draft<'_, T>,
        after: impl Fn(&T, bool) -> Vec<usize>,
        say: impl Fn(Finding) -> Finding,
        (step, event): (impl Fn(T) -> S, impl Fn(T::Event) -> S::Event),
    ) -> Range<usize> {
        let first = self.steps.len();
        self.findings.extend(part.findings.into_iter().map(say));
        self.places.extend(part.places);
        self.listed.extend(part.listed);
        self.fills.extend(part.fills);
        if self.refused.is_empty() {
            self.refused = part.refused;
        }
        self.interrupted.extend(part.interrupted);
        self.leaving.extend(part.leaving);
        self.intents.extend(part.intents.into_iter().map(event));
        self.sites.extend(part.sites);
        self.next = self.next.max(part.next);
        for planned in part.steps {
            let mut waits = after(&planned.step, planned.after.is_empty());
            waits.extend(planned.after.iter().map(|n| n + first));
            self.steps.push(PlannedStep {
                after: waits,
                turn: planned.turn.iter().map(|n| n + first).collect(),
                step: step(planned.step),
                title: planned.title,
                field: planned.field,
                when: planned.when,
            });
        }
        first..self.steps.len()
    }

    pub(super) fn finish<A>(mut self, ask: A) -> Assessment<A, S> {
        let headroom = outlook::findings(self.view, &self.intents, &self.leaving);
        let (outlooks, found): (Vec<_>, Vec<_>) = headroom.into_iter().unzip();
        self.found_all(found.into_iter().flatten());
        let silent = reach::silent(self.view, &self.steps, &self.findings);
        self.found_all(silent);
        let waits = held::waits(self.view, &self.steps);
        self.found_all(waits);
        self.findings.sort_by_key(|f| Reverse(f.severity));
        // A host that another machine goes to was not passed over.
        let places = &self.places;
        self.refused
            .retain(|(name, _)| places.iter().all(|p| p.host_name != *name));
        let time = foretell(self.view, &mut self.steps);
        Assessment {
            ask,
            revision: self.view.estate.revision,
            title: self.title,
            findings: self.findings,
            places: self.places,
            listed: self.listed,
            fills: self.fills,
            outlooks,
            refused: self.refused,
            interrupted: self.interrupted,
            run: self.run,
            steps: self.steps,
            intents: self.intents,
            sites: self.sites,
            time,
        }
    }
}
