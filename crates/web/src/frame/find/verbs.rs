//! What pages offer to do, said as a verb: `move db`, `delete payroll`, `extend basalt-fast`.

use super::{Hit, MOST, things::called};
use crate::frame::Signed;
use zastrugi_core::{estate::Estate, permits::Act};

/// (words, what it is done to, the link before the number, who may)
type Verb = (&'static str, &'static str, &'static str, Act);

const VERBS: [Verb; 63] = [
    (
        "say what it must answer",
        "machine",
        "/sheet/must-answer?ids=",
        Act::Machines,
    ),
    (
        "ask whether it is well",
        "machine",
        "/sheet/ask-now?ids=",
        Act::Machines,
    ),
    ("back up", "machine", "/sheet/back-up?ids=", Act::Machines),
    (
        "put back to a recovery point",
        "machine",
        "/sheet/put-back?ids=",
        Act::Machines,
    ),
    (
        "copy snapshot to store",
        "machine",
        "/sheet/copy-snapshot?ids=",
        Act::Machines,
    ),
    (
        "give a pledge",
        "machine",
        "/sheet/give-pledge?ids=",
        Act::Machines,
    ),
    ("console", "machine", "/consoles?ids=", Act::Look),
    ("console", "host", "/console/host-", Act::Look),
    ("screen", "machine", "/screen/", Act::Look),
    ("move", "machine", "/sheet/move?ids=", Act::Machines),
    (
        "move disks",
        "machine",
        "/sheet/move?stay=on&ids=",
        Act::Machines,
    ),
    (
        "power on",
        "machine",
        "/sheet/power?act=on&ids=",
        Act::Machines,
    ),
    (
        "start",
        "machine",
        "/sheet/power?act=on&ids=",
        Act::Machines,
    ),
    (
        "power off",
        "machine",
        "/sheet/power?act=off&ids=",
        Act::Machines,
    ),
    (
        "restart",
        "machine",
        "/sheet/power?act=restart&ids=",
        Act::Machines,
    ),
    (
        "stop",
        "machine",
        "/sheet/power?act=stop&ids=",
        Act::Machines,
    ),
    (
        "edit",
        "machine",
        "/sheet/edit-machines?ids=",
        Act::Machines,
    ),
    ("delete", "machine", "/sheet/delete?ids=", Act::Machines),
    ("hand out", "pool", "/sheet/hand-out?id=", Act::Machines),
    (
        "bring in a disk",
        "machine",
        "/sheet/bring-disk?ids=",
        Act::Machines,
    ),
    (
        "share a disk",
        "machine",
        "/sheet/share-disk?ids=",
        Act::Machines,
    ),
    (
        "disks and cards",
        "machine",
        "/sheet/hardware?ids=",
        Act::Machines,
    ),
    (
        "add a disk",
        "machine",
        "/sheet/hardware?ids=",
        Act::Machines,
    ),
    ("withdraw", "machine", "/sheet/withdraw?ids=", Act::Machines),
    ("snapshot", "machine", "/sheet/snapshot?ids=", Act::Machines),
    ("go back", "machine", "/sheet/go-back?ids=", Act::Machines),
    (
        "delete snapshots",
        "machine",
        "/sheet/delete-snapshots?ids=",
        Act::Machines,
    ),
    (
        "bring back",
        "machine",
        "/sheet/recover?ids=",
        Act::Machines,
    ),
    (
        "remove for good",
        "machine",
        "/sheet/purge?ids=",
        Act::Purge,
    ),
    ("power", "host", "/sheet/host-power?ids=", Act::Hosts),
    (
        "test fencing",
        "host",
        "/sheet/test-fencing?ids=",
        Act::Hosts,
    ),
    ("maintenance", "host", "/sheet/maintenance?ids=", Act::Hosts),
    (
        "back in service",
        "host",
        "/sheet/host-back?ids=",
        Act::Hosts,
    ),
    ("edit", "host", "/sheet/edit-host?ids=", Act::Hosts),
    ("hand back", "host", "/sheet/hand-back?ids=", Act::Hosts),
    (
        "leave the cluster",
        "host",
        "/sheet/leave-cluster?ids=",
        Act::Hosts,
    ),
    (
        "install new hosts",
        "cluster",
        "/sheet/build?into=",
        Act::Clusters,
    ),
    ("edit", "cluster", "/sheet/edit-cluster?ids=", Act::Clusters),
    ("keepers", "cluster", "/sheet/keepers?ids=", Act::Clusters),
    (
        "names in DNS",
        "cluster",
        "/sheet/names?ids=",
        Act::Clusters,
    ),
    ("pack", "machine", "/sheet/pack?ids=", Act::Machines),
    (
        "write a disk",
        "machine",
        "/sheet/write-disk?ids=",
        Act::Machines,
    ),
    (
        "remove versions",
        "template",
        "/sheet/remove-versions?id=",
        Act::Purge,
    ),
    (
        "next version",
        "first-boot document",
        "/sheet/keep-first-boot?of=",
        Act::Machines,
    ),
    (
        "remove",
        "first-boot document",
        "/sheet/remove-first-boot?id=",
        Act::Machines,
    ),
    ("new rule", "cluster", "/sheet/rule?ids=", Act::Clusters),
    (
        "extend",
        "volume",
        "/sheet/extend-volume?ids=",
        Act::Storage,
    ),
    ("edit", "volume", "/sheet/edit-volume?ids=", Act::Storage),
    (
        "state qualities",
        "volume",
        "/sheet/qualities?ids=",
        Act::Storage,
    ),
    (
        "bring back",
        "volume",
        "/sheet/heal-volume?ids=",
        Act::Storage,
    ),
    (
        "hand back",
        "volume",
        "/sheet/give-volume?ids=",
        Act::Storage,
    ),
    ("rename", "image", "/sheet/edit-image?ids=", Act::Storage),
    ("remove", "image", "/sheet/remove-image?ids=", Act::Storage),
    ("edit", "network", "/sheet/edit-network?ids=", Act::Storage),
    (
        "remove",
        "network",
        "/sheet/remove-network?ids=",
        Act::Storage,
    ),
    (
        "change",
        "network",
        "/sheet/change-network?ids=",
        Act::Storage,
    ),
    (
        "add hosts",
        "cluster",
        "/sheet/join-cluster?cluster=",
        Act::Clusters,
    ),
    (
        "set up again",
        "network",
        "/sheet/heal-network?ids=",
        Act::Storage,
    ),
    ("change", "front", "/sheet/front?ids=", Act::Storage),
    ("remove", "front", "/sheet/remove-front?ids=", Act::Storage),
    ("look at", "front", "/fronts/", Act::Look),
    (
        "lend more disks",
        "volume",
        "/sheet/lend-disks?ids=",
        Act::Storage,
    ),
    ("look at", "array", "/storage/arrays/", Act::Look),
];
/// Machines that a spoken word may be about at once.
const ALL: usize = 200;

/// Each thing of that name with what shall be done to it; all machines together where the place takes several.
pub(super) fn said(signed: &Signed, estate: &Estate, q: &str) -> Vec<Hit> {
    let mut hits = Vec::new();
    for (words, kind, link, act) in VERBS {
        let rest = q.strip_prefix(words).and_then(|r| r.strip_prefix(' '));
        let Some(name) = rest
            .map(str::trim)
            .filter(|n| !n.is_empty() && signed.may(act))
        else {
            continue;
        };
        let hit = |link: String, what: &str, of: String| Hit {
            link,
            text: format!("{words} {what}"),
            kind: of,
        };
        let things = called(estate, &|n| n.contains(name));
        let of_kind = things.iter().filter(|t| t.kind == kind).take(MOST);
        hits.extend(of_kind.map(|t| {
            let of = if t.place.is_empty() {
                kind.into()
            } else {
                format!("{kind} · {}", t.place)
            };
            hit(format!("{link}{}", t.id), &t.name, of)
        }));
        if kind == "machine" && link.ends_with('=') {
            let named = estate.machines_by_name().filter(|m| m.name.contains(name));
            let ids: Vec<u64> = named.take(ALL + 1).map(|m| m.id.0).collect();
            if (2..=ALL).contains(&ids.len()) {
                let what = format!("all {} called “{name}”", ids.len());
                let link = format!("{link}{}", crate::frame::fields::joined(ids));
                hits.push(hit(link, &what, "machines".into()));
            }
        }
    }
    hits
}

#[cfg(test)]
mod tests {
    use super::VERBS;
    use crate::places;

    /// If this fails, the keyboard offers what leads nowhere.
    #[test]
    fn every_verb_leads_to_a_sheet_that_is_there_and_to_those_who_may() {
        for (words, _, link, act) in VERBS {
            let Some(sheet) = link.strip_prefix("/sheet/") else {
                continue;
            };
            let word = sheet.split('?').next().unwrap_or_default();
            let found = places::sheets().find(|s| s.word == word);
            assert_eq!(found.map(|s| s.act), Some(act), "“{words}” leads to {link}");
        }
    }
}
