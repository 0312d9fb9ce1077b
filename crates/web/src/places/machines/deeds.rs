//! What can be done with a machine: up to four things that its circumstances call for as buttons, all others in one list.

use zastrugi_core::{
    estate::{Estate, Machine, MachineState},
    permits::{Act, Permits},
};

/// One thing that can be done.
pub(super) struct Deed {
    pub(super) word: String,
    pub(super) href: String,
    /// With a blank before it.
    pub(super) class: &'static str,
}

#[derive(Default)]
pub(super) struct Deeds {
    pub(super) first: Vec<Deed>,
    pub(super) rest: Vec<Deed>,
}

/// No more stand as buttons.
const BUTTONS: usize = 4;

fn deed(word: &str, href: String) -> Deed {
    Deed {
        word: word.to_owned(),
        href,
        class: "",
    }
}

impl Deeds {
    pub(super) fn of(permits: &Permits, estate: &Estate, m: &Machine) -> Deeds {
        let mut all = match (m.deleted, estate.unknown(m)) {
            (Some(_), _) => gone(permits, m),
            (None, Some((host, _))) => {
                let host = (host.id.0, host.name.clone());
                unknown(permits, m, &host)
            }
            (None, None) if m.replica.is_some() => replica(permits, m),
            (None, None) => at_hand(permits, m),
        };
        let rest = all.split_off(all.len().min(BUTTONS));
        Deeds { first: all, rest }
    }
}

fn sheet(word: &str, sheet: &str, m: &Machine) -> Deed {
    let joins = if sheet.contains('?') { '&' } else { '?' };
    deed(word, format!("/sheet/{sheet}{joins}ids={}", m.id.0))
}

impl Deed {
    fn primary(self) -> Deed {
        Deed {
            class: " primary",
            ..self
        }
    }
    fn danger(self) -> Deed {
        Deed {
            class: " danger",
            ..self
        }
    }
}

fn gone(permits: &Permits, m: &Machine) -> Vec<Deed> {
    let back = permits
        .allow(Act::Machines)
        .then(|| sheet("Bring back", "recover", m).primary());
    let purge = permits
        .allow(Act::Purge)
        .then(|| sheet("Remove for good", "purge", m).danger());
    back.into_iter().chain(purge).collect()
}

/// Nothing is done to what follows another but to go on from it.
fn replica(permits: &Permits, m: &Machine) -> Vec<Deed> {
    if !permits.allow(Act::Machines) {
        return vec![];
    }
    let by_number = |word: &str, sheet: &str| deed(word, format!("/sheet/{sheet}?id={}", m.id.0));
    vec![
        by_number("Start it by force", "start-replica").danger(),
        by_number("Make it a machine of its own", "free-replica"),
        sheet("Edit", "edit-machines", m),
        sheet("Delete", "delete", m).danger(),
    ]
}

/// On a silent host: only there something can be done.
fn unknown(permits: &Permits, m: &Machine, (id, name): &(u64, String)) -> Vec<Deed> {
    let mut all = Vec::new();
    if permits.allow(Act::Hosts) {
        let href = format!("/sheet/host-power?ids={id}");
        all.push(deed(&format!("Power of {name}"), href).primary());
    }
    if permits.allow(Act::Machines) {
        all.push(sheet("Edit", "edit-machines", m));
    }
    all
}

fn at_hand(permits: &Permits, m: &Machine) -> Vec<Deed> {
    let (off, may) = (m.is_off(), permits.allow(Act::Machines));
    let runs = matches!(m.state, MachineState::Running { .. });
    let look = !off;
    let some = |yes: bool, deed: Deed| yes.then_some(deed);
    let console = deed("Console", format!("/console/machine-{}", m.id.0));
    let screen = deed("Screen", format!("/screen/{}", m.id.0));
    let snapshots = !m.snapshots.is_empty();
    let all = [
        some(may && off, sheet("Power on", "power?act=on", m).primary()),
        some(look, console),
        some(may && !off, sheet("Stop", "power?act=stop", m)),
        some(may, sheet("Edit", "edit-machines", m)),
        some(may && !m.is_node(), sheet("Take a snapshot", "snapshot", m)),
        some(may && !m.is_node(), sheet("Back up", "back-up", m)),
        some(may && runs, sheet("Move", "move", m)),
        some(may, sheet("Disks and cards", "hardware", m)),
        some(
            may && m
                .of_pool
                .as_ref()
                .is_some_and(|of| of.held.is_some() && !of.back),
            sheet("Give it back to its pool", "give-back", m),
        ),
        some(may, sheet("Give it a pledge", "give-pledge", m)),
        some(may, sheet("Say what it must answer", "must-answer", m)),
        some(
            may && runs && !m.must.is_empty(),
            sheet("Ask whether it is well", "ask-now", m),
        ),
        some(
            may,
            sheet("Leave disks out of its pledges", "except-disks", m),
        ),
        some(may, sheet("Password of its console", "console-password", m)),
        some(may, sheet("Bring in a disk of another", "bring-disk", m)),
        some(may, sheet("Share a disk with others", "share-disk", m)),
        some(
            may,
            deed(
                "Copy it",
                format!("/sheet/new-machines?from=machine-{}", m.id.0),
            ),
        ),
        some(may, sheet("Make a template of it", "make-template", m)),
        some(may, sheet("Pack it into a file", "pack", m)),
        some(
            may && off,
            sheet("Write a disk from a file", "write-disk", m),
        ),
        some(
            may && m.parent.is_some(),
            sheet("Make it whole", "make-whole", m),
        ),
        some(look, screen),
        some(may && !off, sheet("Restart", "power?act=restart", m)),
        some(
            may && (off || runs),
            sheet("Move its disks", "move?stay=on", m),
        ),
        some(
            may && snapshots,
            sheet("Go back to a snapshot", "go-back", m),
        ),
        some(
            may && snapshots,
            sheet("Copy a snapshot to a store", "copy-snapshot", m),
        ),
        some(
            may && snapshots,
            sheet("Delete snapshots", "delete-snapshots", m),
        ),
        some(
            may && m.now.is_some(),
            sheet("Withdraw what waits for a restart", "withdraw", m),
        ),
        some(may && !off, sheet("Power off", "power?act=off", m).danger()),
        some(may, sheet("Delete", "delete", m).danger()),
    ];
    all.into_iter().flatten().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::{ids::MachineId, permits::Role, testkit::read};

    fn words(all: &[Deed]) -> Vec<&str> {
        all.iter().map(|d| d.word.as_str()).collect()
    }

    /// If this fails, a machine that is on can be powered on once more, or whoever may only look is offered to delete it.
    #[test]
    fn what_is_offered_follows_from_the_machine_and_from_who_looks() {
        let view = read("cluster a\nhost 1 512\nmachine 7 db 16 on 1\nmachine 9 old 16 off").view;
        let of = |role, id| {
            let m = &view.estate.machines[&MachineId(id)];
            Deeds::of(&Permits::of(role), &view.estate, m)
        };
        let on = of(Role::Admin, 7);
        assert_eq!(
            words(&on.first),
            ["Console", "Stop", "Edit", "Take a snapshot"]
        );
        assert!(!words(&on.rest).contains(&"Power on"));
        let off = of(Role::Admin, 9);
        assert_eq!(words(&off.first)[0], "Power on");
        assert!(!words(&off.rest).contains(&"Move"));
        let looker = of(Role::Viewer, 7);
        assert_eq!(words(&looker.first), ["Console", "Screen"]);
        assert!(looker.rest.is_empty());
    }
}
