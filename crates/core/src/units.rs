//! Quantities. No bare number of bytes or megahertz crosses a public function.

use serde::{Deserialize, Serialize};
use std::{
    fmt,
    iter::Sum,
    ops::{Add, AddAssign},
};

/// Bytes; shown in binary units (1 GiB = 2^30 bytes).
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Bytes(pub u64);

/// Megahertz of CPU: capacity is cores times base frequency.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Mhz(pub u64);

/// Bytes a second.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Rate(pub u64);

impl fmt::Display for Rate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/s", Bytes(self.0))
    }
}

impl Bytes {
    pub const ZERO: Bytes = Bytes(0);

    pub const fn mib(n: u64) -> Self {
        Bytes(n << 20)
    }
    pub const fn gib(n: u64) -> Self {
        Bytes(n << 30)
    }
    pub fn as_f64(self) -> f64 {
        self.0 as f64
    }
    pub fn in_gib(self) -> f64 {
        self.0 as f64 / (1u64 << 30) as f64
    }
    /// What is left after taking `other` away; zero if it is more.
    pub fn less(self, other: Bytes) -> Bytes {
        Bytes(self.0.saturating_sub(other.0))
    }
    pub fn times(self, n: u64) -> Bytes {
        Bytes(self.0.saturating_mul(n))
    }
    /// `per_mille` thousandths of this, rounded up, so that a reserve is never too small.
    pub fn per_mille(self, per_mille: u64) -> Bytes {
        let whole = u128::from(self.0) * u128::from(per_mille);
        Bytes(u64::try_from(whole.div_ceil(1000)).unwrap_or(u64::MAX))
    }
    /// This as a share of `whole`, 0 when there is no whole.
    pub fn share_of(self, whole: Bytes) -> f64 {
        if whole.0 == 0 {
            0.0
        } else {
            self.as_f64() / whole.as_f64()
        }
    }

    /// Reads `16`, `16 GiB`, `512MiB`, `1.5 TiB`; a bare number is GiB.
    ///
    /// # Errors
    /// Words for the person who typed it.
    pub fn parse(text: &str) -> Result<Bytes, String> {
        let text = text.trim();
        if text.starts_with(['-', '−']) {
            return Err(format!("“{text}” is negative; a size is not."));
        }
        let split = text
            .find(|c: char| !c.is_ascii_digit() && c != '.' && c != ',')
            .unwrap_or(text.len());
        let (number, unit) = text.split_at(split);
        let number: f64 = number
            .replace(',', ".")
            .parse()
            .map_err(|_| "Type a size such as 16 GiB or 512 MiB.".to_owned())?;
        let shift = match unit.trim().to_ascii_lowercase().as_str() {
            "" | "g" | "gib" => 30,
            "m" | "mib" => 20,
            "t" | "tib" => 40,
            "k" | "kib" => 10,
            "gb" | "mb" | "tb" | "kb" => {
                return Err("Sizes are in binary units: write GiB, MiB or TiB.".to_owned());
            }
            other => return Err(format!("“{other}” is not a unit; write MiB, GiB or TiB.")),
        };
        let bytes = number * (1u64 << shift) as f64;
        if bytes > (1u64 << 53) as f64 {
            return Err("That is more than 8 PiB.".to_owned());
        }
        Ok(Bytes(round(bytes)))
    }
}

/// A non-negative figure rounded to a whole number; figures beyond the range end at its ends.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "`as` saturates, which is what is promised"
)]
pub fn round(figure: f64) -> u64 {
    figure.max(0.0).round() as u64
}

impl fmt::Display for Bytes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (shift, unit) = match self.0 {
            0..1_048_576 => (10, "KiB"),
            1_048_576..1_073_741_824 => (20, "MiB"),
            1_073_741_824..1_099_511_627_776 => (30, "GiB"),
            _ => (40, "TiB"),
        };
        let value = self.0 as f64 / (1u64 << shift) as f64;
        if value.fract() < 0.05 || value >= 100.0 {
            write!(f, "{value:.0}\u{a0}{unit}")
        } else {
            write!(f, "{value:.1}\u{a0}{unit}")
        }
    }
}

impl fmt::Display for Mhz {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.0 >= 10_000 {
            write!(f, "{:.1}\u{a0}GHz", self.0 as f64 / 1000.0)
        } else {
            write!(f, "{}\u{a0}MHz", self.0)
        }
    }
}

impl Mhz {
    pub fn share_of(self, whole: Mhz) -> f64 {
        if whole.0 == 0 {
            0.0
        } else {
            self.0 as f64 / whole.0 as f64
        }
    }
}

impl Add for Bytes {
    type Output = Bytes;
    fn add(self, other: Bytes) -> Bytes {
        Bytes(self.0.saturating_add(other.0))
    }
}
impl AddAssign for Bytes {
    fn add_assign(&mut self, other: Bytes) {
        *self = *self + other;
    }
}
impl Sum for Bytes {
    fn sum<I: Iterator<Item = Bytes>>(all: I) -> Bytes {
        all.fold(Bytes::ZERO, Add::add)
    }
}
impl Add for Mhz {
    type Output = Mhz;
    fn add(self, other: Mhz) -> Mhz {
        Mhz(self.0.saturating_add(other.0))
    }
}
impl Sum for Mhz {
    fn sum<I: Iterator<Item = Mhz>>(all: I) -> Mhz {
        all.fold(Mhz(0), Add::add)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_as_people_type_them() {
        assert_eq!(Bytes::parse("16"), Ok(Bytes::gib(16)));
        assert_eq!(Bytes::parse(" 512 MiB"), Ok(Bytes::mib(512)));
        assert_eq!(Bytes::parse("1,5 TiB"), Ok(Bytes::gib(1536)));
        assert!(Bytes::parse("16 GB").unwrap_err().contains("GiB"));
        assert!(Bytes::parse("").is_err());
        assert!(Bytes::parse("-4").is_err());
        assert!(Bytes::parse("99999 TiB").is_err());
    }

    #[test]
    fn sizes_are_shown_in_binary_units() {
        assert_eq!(Bytes::gib(16).to_string(), "16\u{a0}GiB");
        assert_eq!(Bytes::mib(1536).to_string(), "1.5\u{a0}GiB");
        assert_eq!(Bytes::mib(160).to_string(), "160\u{a0}MiB");
    }

    #[test]
    fn a_share_is_rounded_up_so_that_a_reserve_is_never_short() {
        assert_eq!(Bytes(1001).per_mille(20), Bytes(21));
    }
}
