//! Which history of the estate an order belongs to.

use crate::ids::Revision;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A history of the estate. A restore or a promotion begins a new one, above every number that was seen at devices.
/// Two histories of one number are strangers: devices obey the one that they know until a person chooses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Epoch {
    pub number: u64,
    pub history: uuid::Uuid,
}

impl fmt::Display for Epoch {
    /// `3.5d1f09aa`: enough to tell two apart in a key.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let history = self.history.simple().to_string();
        write!(f, "{}.{}", self.number, &history[..8])
    }
}

/// Whose orders a device last obeyed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Obeyed {
    pub epoch: Epoch,
    /// The highest revision at which one of its objects was taken.
    pub fence: Revision,
}

impl Obeyed {
    /// In words why whoever holds `epoch` at `head` must not give orders: the device knows more than the database does.
    pub fn ahead_of(&self, epoch: Epoch, head: Revision) -> Option<String> {
        if self.epoch == epoch {
            return (self.fence > head).then(|| {
                format!(
                    "it obeyed an order of revision {}, and the database knows only {head}",
                    self.fence
                )
            });
        }
        if self.epoch.number == epoch.number {
            return Some("it obeys another history of the same number, as after a copy".into());
        }
        (self.epoch.number > epoch.number).then(|| {
            let (theirs, ours) = (self.epoch.number, epoch.number);
            format!(
                "it obeys history {theirs}, and the database holds history {ours}: another manager gives orders now"
            )
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use uuid::Uuid;

    fn epoch(number: u64, history: u128) -> Epoch {
        let history = Uuid::from_u128(history);
        Epoch { number, history }
    }

    /// If this fails, a restored database gives orders to devices that know better, or a healthy one is held.
    #[test]
    fn a_device_that_knows_more_than_the_database_is_noticed() {
        let ours = epoch(3, 1);
        let obeyed = |epoch, fence| Obeyed {
            epoch,
            fence: Revision(fence),
        };
        let ahead = |o: Obeyed| o.ahead_of(ours, Revision(100)).is_some();
        assert!(!ahead(obeyed(ours, 100)), "up to the head all is well");
        assert!(ahead(obeyed(ours, 101)), "it saw a revision that is gone");
        assert!(ahead(obeyed(epoch(3, 2), 1)), "a copy gives orders there");
        assert!(ahead(obeyed(epoch(4, 2), 1)), "somebody took over");
        assert!(
            !ahead(obeyed(epoch(2, 2), 999)),
            "what was before does not matter"
        );
    }
}
