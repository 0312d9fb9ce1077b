//! Identifiers: one newtype each, so that a host's number can never be passed as a machine's.

use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr};

/// Text that is not an identifier of the kind asked for.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("“{given}” is not a {kind} identifier")]
pub struct NotAnId {
    pub kind: &'static str,
    pub given: String,
}

macro_rules! id_type {
    ($(#[$doc:meta])* $name:ident, $word:literal) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(transparent)]
        pub struct $name(pub u64);

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, concat!($word, "-{}"), self.0)
            }
        }

        impl FromStr for $name {
            type Err = NotAnId;
            fn from_str(text: &str) -> Result<Self, NotAnId> {
                text.strip_prefix(concat!($word, "-"))
                    .unwrap_or(text)
                    .parse()
                    .map($name)
                    .map_err(|_| NotAnId { kind: $word, given: text.chars().take(40).collect() })
            }
        }
    };
}

id_type!(/** A place with hosts: a hall, a branch office. */ SiteId, "site");
id_type!(/** Hosts that share storage and restart each other's machines. */ ClusterId, "cluster");
id_type!(/** A claimed hypervisor host. */ HostId, "host");
id_type!(/** A virtual machine: stays the same across moves and renames. */ MachineId, "machine");
id_type!(/** A piece of shared storage. */ VolumeId, "volume");
id_type!(/** A storage array or filer. */ ArrayId, "array");
id_type!(/** A file that machines boot from. */ ImageId, "image");
id_type!(/** A network of a cluster's hosts and guests. */ NetworkId, "network");
id_type!(/** A network switch, which is only read. */ SwitchId, "switch");
id_type!(/** A load balancer. */ BalancerId, "balancer");
id_type!(/** An address for machines behind a load balancer. */ FrontId, "front");
id_type!(/** A series of versions that machines are made from. */ TemplateId, "template");
id_type!(/** Snapshots that are taken again and again. */ ScheduleId, "schedule");
id_type!(/** What machines are promised. */ PledgeId, "pledge");
id_type!(/** A place for backups. */ StoreId, "store");
id_type!(/** Copies that are made again and again. */ JobId, "job");
id_type!(/** Two sites over which machines are replicated. */ PairId, "pair");
id_type!(/** What is done when another site takes over. */ PlanId, "plan");
id_type!(/** A recovery plan being carried out, or that was. */ PassageId, "passage");
id_type!(/** What a store has of one machine. */ SeriesId, "series");
id_type!(/** Machines that are kept ready. */ SparePoolId, "pool");
id_type!(/** A series of versions of what guests are told at their first boot. */ FirstBootId, "first-boot");
id_type!(/** A host that failed, and what became of its machines. */ FailureId, "failure");
id_type!(/** A proposal being carried out. */ RunId, "run");
id_type!(/** Somebody who signs in. */ PersonId, "person");

/// The number of a committed change to the estate; grows by one with each batch.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Revision(pub u64);

impl fmt::Display for Revision {
    /// Grouped in threes: `18 204`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let digits = self.0.to_string();
        for (i, c) in digits.chars().enumerate() {
            if i > 0 && (digits.len() - i).is_multiple_of(3) {
                f.write_str("\u{202f}")?;
            }
            write!(f, "{c}")?;
        }
        Ok(())
    }
}

/// Where a secret is kept; never the secret itself, so that no proposal or record can hold one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SecretRef(pub uuid::Uuid);

/// A machine identity that is the same whenever the same number is drawn: 122 bits mixed from the run and the
/// machine's number, so that assessing twice gives the same answer.
pub fn draw_uuid(run: u64, machine: u64, salt: u64) -> uuid::Uuid {
    let high = mix(run ^ mix(salt));
    let low = mix(machine.wrapping_add(0x9e37_79b9_7f4a_7c15) ^ high);
    uuid::Builder::from_random_bytes(((u128::from(high) << 64) | u128::from(low)).to_be_bytes())
        .into_uuid()
}

/// The finalizer of SplitMix64 (Steele, Lea, Flood 2014).
pub(crate) fn mix(mut x: u64) -> u64 {
    x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    x ^ (x >> 31)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_read_with_and_without_their_word() {
        assert_eq!("machine-7".parse(), Ok(MachineId(7)));
        assert_eq!("7".parse(), Ok(MachineId(7)));
        assert!("host-7".parse::<MachineId>().is_err());
        assert_eq!(MachineId(7).to_string(), "machine-7");
    }

    #[test]
    fn revisions_are_grouped_in_threes() {
        assert_eq!(Revision(18204).to_string(), "18\u{202f}204");
        assert_eq!(Revision(204).to_string(), "204");
    }
}
