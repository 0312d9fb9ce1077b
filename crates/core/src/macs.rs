//! MAC addresses of new machines: all from one range, each installation's own, so that two that share a wire don't meet.

use crate::ids::mix;
use std::{fmt, str::FromStr};

/// The first three octets; the other three are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MacRange([u8; 3]);

/// Set: an address of a group, which no card has (IEEE Std 802-2014, section 8.2).
const GROUP: u8 = 0b01;
/// Set: administered locally, not by its maker.
const LOCAL: u8 = 0b10;

impl MacRange {
    /// An installation's own: locally administered, of the quadrant for administrators (IEEE Std 802c-2017), drawn from its identity.
    pub fn of(installation: &str) -> MacRange {
        let drawn = installation
            .bytes()
            .fold(0, |sum, byte| mix(sum ^ u64::from(byte)));
        let [a, b, c, ..] = drawn.to_be_bytes();
        MacRange([a & 0xf0 | LOCAL, b, c])
    }
    /// An address in it, by a number.
    pub fn draw(self, number: u64) -> String {
        let [a, b, c] = self.0;
        let [d, e, f, ..] = mix(number).to_be_bytes();
        format!("{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{f:02x}")
    }
}

impl Default for MacRange {
    fn default() -> Self {
        MacRange([0x02, 0x5a, 0x00])
    }
}

impl fmt::Display for MacRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}")
    }
}

impl FromStr for MacRange {
    type Err = String;

    fn from_str(typed: &str) -> Result<MacRange, String> {
        let typed = typed.trim();
        let octets: Vec<&str> = typed.split([':', '-']).collect();
        let octet = |text: &&str| {
            let hex = text.len() == 2 && text.bytes().all(|b| b.is_ascii_hexdigit());
            hex.then(|| u8::from_str_radix(text, 16).ok()).flatten()
        };
        let read: Option<Vec<u8>> = octets.iter().map(octet).collect();
        let Some([a, b, c]) = read.as_deref() else {
            let short: String = typed.chars().take(60).collect();
            return Err(format!(
                "“{short}” is no range; type the first three octets, such as 02:5a:10."
            ));
        };
        if a & GROUP != 0 {
            return Err(format!(
                "{typed} is of groups; the first octet of a card's address is even."
            ));
        }
        if a & LOCAL == 0 {
            return Err(format!(
                "{typed} belongs to a maker of cards; the second digit of a range of one's own is 2, 6, a or e."
            ));
        }
        Ok(MacRange([*a, *b, *c]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, machines of two installations on one wire may have the same address.
    #[test]
    fn each_installation_has_its_own_range_and_every_address_is_in_it() {
        let (a, b) = (MacRange::of("one"), MacRange::of("another"));
        assert_ne!(a, b);
        for range in [a, b, MacRange::default()] {
            assert_eq!(range.to_string().parse(), Ok(range));
            for number in 0..1000 {
                let mac = range.draw(number);
                assert_eq!(mac.len(), 17);
                assert!(mac.starts_with(&format!("{range}:")), "{mac}");
                let first = u8::from_str_radix(&mac[..2], 16).unwrap();
                assert_eq!(first & GROUP, 0, "{mac}");
            }
        }
    }

    #[test]
    fn what_is_no_range_is_refused_with_words() {
        assert_eq!("02-5A-10".parse(), Ok(MacRange([2, 0x5a, 0x10])));
        assert_eq!(MacRange([2, 0x5a, 0x10]).to_string(), "02:5a:10");
        for bad in [
            "",
            "02:5a",
            "02:5a:1",
            "02:5a:10:00",
            "0g:00:00",
            "+1:00:00",
        ] {
            assert!(
                bad.parse::<MacRange>().unwrap_err().contains("is no range"),
                "{bad}"
            );
        }
        assert!(
            "01:00:5e"
                .parse::<MacRange>()
                .unwrap_err()
                .contains("of groups")
        );
        assert!(
            "00:16:00"
                .parse::<MacRange>()
                .unwrap_err()
                .contains("a maker of cards")
        );
    }
}
