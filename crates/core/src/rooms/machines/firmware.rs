//! Firmware and security chip of new machines (rules, section 12).

use super::{CreateMachines, Draft};
use crate::{
    copying::Original,
    estate::{Chip, Firmware, FirmwareKind},
    finding::{Finding, Rule},
};

/// What they get, with everything that is wrong about it said.
pub(super) fn wished(draft: &mut Draft<'_>, ask: &CreateMachines, origin: Option<&Original>) -> Firmware {
    let had = origin.and_then(|o| o.firmware.as_deref().map(|f| (o.words.as_str(), f)));
    let like = had.map(|(_, f)| f.clone()).unwrap_or_default();
    let kind = ask.firmware.kind.unwrap_or(like.kind);
    let chip = ask.firmware.chip.unwrap_or(like.chip.is_some());
    if chip && !kind.is_uefi() {
        let text = format!("{} knows no security chip.", kind.words());
        let stop = Finding::stop(Rule::Hardware, "security chip", text).at("chip");
        draft.found(stop.remedy("Choose UEFI, or no chip."));
    }
    if let Some((words, f)) = had {
        copied(draft, words, f, kind, chip);
    }
    Firmware { kind, chip: chip.then(Chip::default) }
}

fn copied(draft: &mut Draft<'_>, words: &str, had: &Firmware, kind: FirmwareKind, chip: bool) {
    if had.kind.is_uefi() != kind.is_uefi() {
        let text = format!("What is on the disks of {words} boots with {}; with {} no copy of it would.", had.kind.words(), kind.words());
        draft.found(Finding::stop(Rule::Hardware, words, text).at("firmware"));
    } else if kind == FirmwareKind::Secure && had.kind != kind {
        let text = format!("{words} boots without secure boot; whether what is on its disks is signed nobody looked.");
        draft.found(Finding::unchecked(Rule::Hardware, words, text).at("firmware"));
    }
    let Some(theirs) = &had.chip else { return };
    let whose = match chip {
        true => "Each copy has a security chip of its own",
        false => "The copies have no security chip",
    };
    draft.found(if theirs.holds.is_empty() {
        Finding::clear(Rule::Identity, words, format!("{whose}; that of {words} holds no secret of its guest."))
    } else {
        let text = format!("{whose}, without what that of {words} holds: {}. Their guests ask for a recovery key when they start.", theirs.holds.join(", "));
        let mind = Finding::mind(Rule::Identity, words, text).at("chip");
        mind.remedy("Have the recovery key at hand, or let the guest do without the chip before it is copied.")
    });
}
