//! The estate as a file: current facts and typical loads, without secrets, for checking the answers from outside.

use crate::table::{Wrong, json};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::{collections::BTreeMap, sync::Arc};
use zastrugi_core::{
    estate::{Estate, Fact},
    ids::{ClusterId, MachineId, Revision},
    loads::{Loads, MachineLoad},
    view::View,
};

/// The format's name and version, as it stands in every file.
const FORMAT: &str = "zastrugi estate 1";

#[derive(Serialize, Deserialize)]
struct File {
    format: String,
    revision: u64,
    facts: Vec<FileFact>,
    /// The 95th percentile of what machines use, by number.
    #[serde(default)]
    typical: BTreeMap<u64, MachineLoad>,
}

#[derive(Serialize, Deserialize)]
struct FileFact {
    kind: String,
    id: u64,
    version: i32,
    body: Value,
}

/// One cluster of the estate with its hosts, machines, volumes and networks; keys and where they are kept are left out.
///
/// # Errors
/// When a fact can't be written as JSON.
pub fn write(view: &View, cluster: ClusterId) -> Result<String, serde_json::Error> {
    let estate = &view.estate;
    let wanted = |fact: &Fact| match fact {
        Fact::Meta(_)
        | Fact::Image(_)
        | Fact::Array(_)
        | Fact::Failure(_)
        | Fact::Balancer(_)
        | Fact::Front(_)
        | Fact::Template(_)
        | Fact::FirstBoot(_)
        | Fact::SparePool(_)
        | Fact::Schedule(_)
        | Fact::Job(_)
        | Fact::Pair(_)
        | Fact::RecoveryPlan(_)
        | Fact::Passage(_)
        | Fact::Pledge(_)
        | Fact::Store(_)
        | Fact::Series(_) => false,
        Fact::Site(_) | Fact::Switch(_) => true,
        Fact::Cluster(c) => c.id == cluster,
        Fact::Host(h) => h.cluster == Some(cluster),
        Fact::Volume(v) => v.cluster == Some(cluster),
        Fact::Network(n) => n.cluster == cluster,
        Fact::Machine(m) => m.cluster == Some(cluster),
    };
    let mut facts = Vec::new();
    for fact in estate.facts().filter(wanted) {
        let fact = without_keys(fact);
        facts.push(FileFact {
            kind: fact.kind().word().to_owned(),
            id: fact.id(),
            version: Fact::VERSION,
            body: fact.body()?,
        });
    }
    let typical = estate
        .machines_in(cluster)
        .filter_map(|m| Some((m.id.0, *view.loads.typical.get(&m.id)?)));
    let file = File {
        format: FORMAT.into(),
        revision: estate.revision.0,
        typical: typical.collect(),
        facts,
    };
    serde_json::to_string_pretty(&file)
}

fn without_keys(fact: Fact) -> Fact {
    match fact {
        Fact::Host(host) => {
            let mut host = (*host).clone();
            host.access.key = None;
            if let Some(bmc) = &mut host.bmc {
                bmc.key = None;
            }
            Fact::Host(Arc::new(host))
        }
        Fact::Machine(machine) if machine.console_lock.is_some() => {
            let mut machine = (*machine).clone();
            machine.console_lock = None;
            Fact::Machine(Arc::new(machine))
        }
        Fact::Switch(switch) => {
            let mut switch = (*switch).clone();
            switch.key = None;
            Fact::Switch(Arc::new(switch))
        }
        other => other,
    }
}

/// Reads an estate file.
///
/// # Errors
/// [`Wrong`] with the place in the file.
pub fn read(text: &str) -> Result<View, Wrong> {
    let file: File = json(text)?;
    if file.format != FORMAT {
        return Err(Wrong {
            place: "format".into(),
            what: format!("“{}” is not “{FORMAT}”", file.format),
        });
    }
    let mut facts = Vec::new();
    for (n, fact) in file.facts.into_iter().enumerate() {
        let read = Fact::read(&fact.kind, fact.id, fact.version, fact.body);
        facts.push(read.map_err(|e| Wrong {
            place: format!("facts[{n}]"),
            what: e.to_string(),
        })?);
    }
    let mut loads = Loads::default();
    for (machine, load) in file.typical {
        loads.typical.insert(MachineId(machine), load);
    }
    let estate = Estate::from_facts(Revision(file.revision), facts);
    Ok(View {
        loads: Arc::new(loads),
        ..View::of(estate)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::{availability::Survival, ids::SecretRef, testkit::read as fixture};

    const TWO: &str = "cluster eider\nhost 1 64\nhost 2 64\nmachine 11 a 40 on 1 tier=1\nmachine 12 b 20 on 2 apart=g
        cluster tern\nhost 3 64\nmachine 13 c 20 on 3";

    #[test]
    fn a_cluster_written_and_read_has_the_same_headroom_and_no_keys() {
        let view = fixture(TWO).view;
        let id = ClusterId(901);
        let text = write(&view, id).unwrap();
        let back = read(&text).unwrap();
        let answer = |v: &View| Survival::of(v, &v.estate.clusters[&id]);
        assert_eq!(answer(&view), answer(&back));
        assert_eq!(back.estate.hosts.len(), 2, "not those of the other cluster");
        let key = SecretRef(Default::default()).0.to_string();
        assert!(!text.contains(&key), "not even where keys are kept");
    }

    #[test]
    fn what_is_wrong_is_named_by_its_place() {
        let text = write(&fixture(TWO).view, ClusterId(901)).unwrap();
        let said = |text: &str| read(text).unwrap_err().to_string();
        assert!(said(&text.replace("estate 1", "estate 9")).starts_with("format: "));
        let broken = said(&text.replacen("\"tier\": 1", "\"tier\": \"x\"", 1));
        assert!(broken.starts_with("facts["), "{broken}");
    }
}
