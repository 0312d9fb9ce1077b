//! Firmware and security chip: what the sheet for new machines asks, and what a machine's page says.

use crate::frame::Fields;
use zastrugi_core::{
    copying::Original,
    estate::{Firmware, FirmwareKind, FirmwareWish, Machine},
};

pub(super) struct FirmwareFields {
    /// What counts where nobody says otherwise.
    pub(super) usual: String,
    pub(super) usual_chip: String,
    /// `uefi`, `secure`, `bios`, or empty.
    pub(super) kind: String,
    /// `yes`, `no`, or empty.
    pub(super) chip: String,
}

pub(super) fn of(fields: &Fields, original: Option<&Original>) -> (FirmwareFields, FirmwareWish) {
    let like = original.and_then(|o| o.firmware.as_deref());
    let shown = FirmwareFields {
        usual: like.map_or_else(
            || "UEFI, as usual".into(),
            |f| format!("as what is copied: {}", f.kind.words()),
        ),
        usual_chip: match like.map(|f| f.chip.is_some()) {
            None => "none, as usual".into(),
            Some(true) => "as what is copied: a chip of its own".into(),
            Some(false) => "as what is copied: none".into(),
        },
        kind: fields.get("firmware").to_owned(),
        chip: fields.get("chip").to_owned(),
    };
    let wish = FirmwareWish {
        kind: match shown.kind.as_str() {
            "uefi" => Some(FirmwareKind::Uefi),
            "secure" => Some(FirmwareKind::Secure),
            "bios" => Some(FirmwareKind::Bios),
            _ => None,
        },
        chip: match shown.chip.as_str() {
            "yes" => Some(true),
            "no" => Some(false),
            _ => None,
        },
    };
    (shown, wish)
}

/// `UEFI with secure boot; a security chip, which holds the key of disk 1`
pub(super) fn words(m: &Machine) -> String {
    m.firmware.as_deref().map_or_else(String::new, said)
}

fn said(firmware: &Firmware) -> String {
    let kind = firmware.kind.words();
    match &firmware.chip {
        None => format!("{kind}; no security chip"),
        Some(chip) if chip.holds.is_empty() => {
            format!("{kind}; a security chip, which holds nothing of its guest")
        }
        Some(chip) => format!(
            "{kind}; a security chip, which holds {}",
            chip.holds.join(", ")
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a machine is made with other firmware than its sheet said.
    #[test]
    fn what_is_chosen_is_wished_and_nothing_chosen_is_no_wish() {
        let wish = |text: &str| of(&Fields::parse(text), None).1;
        assert!(wish("firmware=&chip=").is_none());
        let all = wish("firmware=secure&chip=yes");
        assert_eq!(
            (all.kind, all.chip),
            (Some(FirmwareKind::Secure), Some(true))
        );
        assert_eq!(wish("firmware=bios&chip=no").chip, Some(false));
    }
}
