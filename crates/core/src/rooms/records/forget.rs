//! The checks before a record is taken from its volume.

use super::{
    Draft, Records, Step,
    register::{chosen, runs},
};
use crate::{
    estate::{Stray, Why},
    finding::{Finding, Rule},
};

pub(super) fn forget(draft: &mut Draft<'_>, ask: &Records) {
    "Forget records".clone_into(&mut draft.title);
    let Some((volume, via, all)) = chosen(draft, ask) else { return };
    draft.title = match all.as_slice() {
        [(_, one, _)] => format!("Forget the record of {} on {}", one.name, volume.name),
        many => format!("Forget {} records", many.len()),
    };
    for (uuid, stray, why) in all {
        if runs(draft, stray) {
            continue;
        }
        said(draft, stray, &why);
        let step = Step::Forget {
            volume: volume.id,
            via,
            record: uuid,
        };
        draft.step(step, format!("Forget the record of {}", stray.name), &[], Some("records"));
    }
}

fn said(draft: &mut Draft<'_>, stray: &Stray, why: &Why) {
    let name = &stray.name;
    let disks = match stray.disks.as_slice() {
        [one] => format!("Its disk of {} stays", one.size),
        many => format!("Its {} disks stay", many.len()),
    };
    let text = match why {
        Why::Unknown => format!("{disks} on the volume, unattached, as now; its settings are gone."),
        Why::Twice(known) => format!("{disks} on the volume, unattached; {} itself and its disks elsewhere are not touched.", known.name),
    };
    draft.found(Finding::mind(Rule::Disk, name, text).at("records"));
    let lost = [
        (stray.snapshots > 0).then(|| match stray.snapshots {
            1 => "its snapshot".to_owned(),
            n => format!("its {n} snapshots"),
        }),
        (stray.chip && matches!(why, Why::Unknown)).then(|| "what its security chip keeps, without which an encrypted guest asks for its recovery key".to_owned()),
    ];
    let lost: Vec<String> = lost.into_iter().flatten().collect();
    if !lost.is_empty() {
        let text = format!("Gone with the record of {name}: {}.", lost.join("; "));
        draft.found(Finding::mind(Rule::Content, name, text).at("records"));
    }
}
