//! Looking for hosts, and asking them without changing anything.

use super::Desk;
use crate::{evidence, shared::now};
use futures::{StreamExt, stream};
use std::{collections::BTreeSet, sync::PoisonError};
use zastrugi_core::{
    evidence::{Answer, Greeting, Probe},
    ids::{HostId, SecretRef},
    moment::Moment,
    runs::Fault,
};
use zastrugi_drivers::{Announcement, Range, RangeError, Who, addresses};

const AT_ONCE: usize = 64;

/// A scan: how far it is and what it found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScanState {
    pub range: String,
    pub total: usize,
    pub done: usize,
    pub found: usize,
    pub began: Moment,
    pub ended: Option<Moment>,
}

/// A host that answered lately and isn't ours yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    pub address: String,
    pub greeting: Box<Greeting>,
    pub taken: Moment,
}

#[derive(Debug, thiserror::Error)]
pub enum ProbeError {
    #[error(transparent)]
    Range(#[from] RangeError),
    #[error("A scan is running; wait until it is done.")]
    Busy,
    #[error("{0}")]
    Silent(String),
}

impl Desk {
    /// Begins to look for hosts in a range; it goes on when the page is closed.
    ///
    /// # Errors
    /// [`ProbeError`] when the range is wrong, outside the management networks, or a scan runs.
    pub fn scan(&self, range: &str) -> Result<(), ProbeError> {
        let parsed: Range = range.parse()?;
        let all = addresses(&parsed, &self.networks())?;
        let mut slot = self
            .shared
            .scan
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        if slot.as_ref().is_some_and(|s| s.ended.is_none()) {
            return Err(ProbeError::Busy);
        }
        let range = range.trim().to_owned();
        *slot = Some(ScanState {
            range,
            total: all.len(),
            done: 0,
            found: 0,
            began: now(),
            ended: None,
        });
        drop(slot);
        let shared = self.shared.clone();
        tokio::spawn(async move {
            let few = all.len() <= 4;
            stream::iter(all)
                .for_each_concurrent(AT_ONCE, |address| {
                    let shared = shared.clone();
                    async move {
                        let probe = Probe::Greeting(address);
                        let answer = shared.drivers.probe(&shared.estate(), &probe).await;
                        let greeted = matches!(answer, Answer::Greeting(_));
                        if greeted || few {
                            evidence::keep(&shared, probe, answer);
                        }
                        let mut slot = shared.scan.lock().unwrap_or_else(PoisonError::into_inner);
                        if let Some(scan) = slot.as_mut() {
                            scan.done += 1;
                            scan.found += usize::from(greeted);
                        }
                    }
                })
                .await;
            if let Some(scan) = shared
                .scan
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .as_mut()
            {
                scan.ended = Some(now());
            }
        });
        Ok(())
    }
    pub fn scan_state(&self) -> Option<ScanState> {
        self.shared
            .scan
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    /// Hosts that answered lately and are not claimed by us, by name.
    pub fn found(&self) -> Vec<Found> {
        let view = self.look();
        let mut found: Vec<Found> = view
            .evidence
            .answers
            .iter()
            .filter_map(|(probe, evidence)| match (probe, &evidence.answer) {
                (Probe::Greeting(address), Answer::Greeting(greeting))
                    if evidence.expires > now() =>
                {
                    let ours = view.estate.host_at(address).is_some();
                    (!ours).then(|| Found {
                        address: address.clone(),
                        greeting: greeting.clone(),
                        taken: evidence.taken,
                    })
                }
                _ => None,
            })
            .collect();
        found.sort_by(|a, b| {
            a.greeting
                .name
                .cmp(&b.greeting.name)
                .then_with(|| a.address.cmp(&b.address))
        });
        found
    }

    /// Why addresses that were asked by name in the last scan gave no usable answer; the words name the address.
    pub fn silent(&self) -> Vec<String> {
        let since = self.scan_state().map(|s| s.began);
        let view = self.look();
        let lately = view
            .evidence
            .answers
            .iter()
            .filter(|(_, e)| Some(e.taken) >= since && since.is_some());
        lately
            .filter_map(|(probe, evidence)| match (probe, &evidence.answer) {
                (Probe::Greeting(_), Answer::Silent { why }) => Some(why.clone()),
                _ => None,
            })
            .collect()
    }

    /// Hosts that announce themselves and are neither claimed nor asked yet.
    pub fn announced(&self) -> Vec<Announcement> {
        let view = self.look();
        let asked = |a: &Announcement| {
            view.evidence
                .fresh(&Probe::Greeting(a.address.clone()), now())
                .is_some()
        };
        self.shared
            .announcements
            .heard()
            .into_iter()
            .filter(|a| a.who == Who::Agent)
            .filter(|a| view.estate.host_at(&a.address).is_none() && !asked(a))
            .collect()
    }

    /// Controllers that announce themselves and are of no host of ours.
    pub fn announced_controllers(&self) -> Vec<Announcement> {
        let view = self.look();
        let mut all = self.shared.announcements.heard();
        let hosts = view.estate.hosts.values();
        let ours: BTreeSet<&str> = hosts
            .filter_map(|h| Some(h.bmc.as_ref()?.address.as_str()))
            .collect();
        all.retain(|a| a.who == Who::Controller && !ours.contains(a.address.as_str()));
        all
    }

    /// Asks again who is at these addresses.
    pub async fn greet(&self, addresses: &[String]) {
        stream::iter(addresses.to_vec())
            .for_each_concurrent(AT_ONCE, |address| async move {
                drop(evidence::ask(&self.shared, Probe::Greeting(address)).await);
            })
            .await;
    }

    /// Reads clocks, controllers and volumes of hosts whose answers are missing or old.
    pub async fn inspect(&self, hosts: &[HostId]) {
        let probes = hosts
            .iter()
            .flat_map(|h| [Probe::Clock(*h), Probe::Bmc(*h), Probe::Sight(*h)])
            .collect();
        evidence::ask_missing(&self.shared, probes).await;
    }

    /// Measures how long a round trip between hosts takes, where that was not done lately.
    pub async fn measure_between(&self, pairs: &[(HostId, HostId)]) {
        let pairs = pairs.iter();
        let probes = pairs.map(|(from, to)| Probe::RoundTrip {
            from: *from,
            to: *to,
        });
        evidence::ask_missing(&self.shared, probes.collect()).await;
    }

    /// Tries what ends of a pair have to do with each other, where that was not done lately.
    pub async fn try_ends(&self, probes: Vec<Probe>) {
        evidence::ask_missing(&self.shared, probes).await;
    }

    /// The same, also where the last answer is fresh: somebody waits for it.
    pub async fn try_ends_anew(&self, probes: Vec<Probe>) {
        evidence::ask_all(&self.shared, probes).await;
    }

    /// Asks a host's controller how it is; `anew`: also where its last answer is fresh.
    pub async fn ask_controller(&self, host: HostId, anew: bool) {
        let probe = vec![Probe::Bmc(host)];
        if anew {
            evidence::ask_all(&self.shared, probe).await;
        } else {
            evidence::ask_missing(&self.shared, probe).await;
        }
    }

    /// Tries a first password once at each host, before it is kept and a run starts.
    ///
    /// # Errors
    /// The first host's refusal, with its address.
    pub async fn check_password(
        &self,
        targets: &[(String, String)],
        password: &str,
    ) -> Result<(), (String, Fault)> {
        let drivers = &self.shared.drivers;
        let answers: Vec<_> = stream::iter(targets.to_vec())
            .map(|(address, pin)| async move {
                drivers
                    .check_password(&address, &pin, password)
                    .await
                    .map_err(|fault| (address, fault))
            })
            .buffered(AT_ONCE)
            .collect()
            .await;
        answers.into_iter().collect()
    }

    /// Seals a secret that a person typed.
    ///
    /// # Errors
    /// Words, when the database does not answer.
    pub async fn keep_secret(&self, plain: &str) -> Result<SecretRef, String> {
        self.shared
            .vault
            .keep(plain)
            .await
            .map_err(|e| e.to_string())
    }

    /// Seals the hash of a password (SHA-512 crypt, as crypt(3) has it): what it was nobody knows any more.
    ///
    /// # Errors
    /// Words, when it can't be hashed or the database does not answer.
    pub async fn keep_hash(&self, plain: &str) -> Result<SecretRef, String> {
        let plain = zeroize::Zeroizing::new(plain.to_owned());
        let hashed = tokio::task::spawn_blocking(move || crypt(plain.as_bytes()));
        let hash = hashed.await.map_err(|e| e.to_string())??;
        self.keep_secret(&hash).await
    }
}

/// About a tenth of a second for each password that somebody tries.
const ROUNDS: u32 = 100_000;

fn crypt(plain: &[u8]) -> Result<String, String> {
    use sha_crypt::PasswordHasher as _;
    let params = sha_crypt::Params::new(ROUNDS).map_err(|e| e.to_string())?;
    let with = sha_crypt::ShaCrypt::new(sha_crypt::Algorithm::Sha512Crypt, params);
    // As text 16 characters: crypt(3) looks at no more of them.
    let salt: [u8; 12] = rand::random();
    let hash = with.hash_password_with_salt(plain, &salt);
    hash.map(|h| h.to_string()).map_err(|e| e.to_string())
}

/// Whether this is the password of which that is the hash.
pub(super) fn fits(plain: &[u8], hash: &str) -> bool {
    use sha_crypt::PasswordVerifier as _;
    sha_crypt::ShaCrypt::SHA512
        .verify_password(plain, hash)
        .is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use sha_crypt::PasswordVerifier as _;

    /// If this fails, nobody can sign in to a guest with the password that was set for it.
    #[test]
    fn the_hash_is_one_that_guests_can_check() {
        let hash = crypt(b"harbour-lights").unwrap();
        let parts: Vec<&str> = hash.split('$').collect();
        assert_eq!(parts[1..3], ["6", "rounds=100000"], "{hash}");
        assert_eq!((parts[3].len(), parts[4].len()), (16, 86), "{hash}");
        let fits = |p: &[u8]| {
            sha_crypt::ShaCrypt::SHA512
                .verify_password(p, hash.as_str())
                .is_ok()
        };
        // From the specification of SHA-crypt, version 0.6.
        let known = "$6$rounds=10000$saltstringsaltst$OW1/O6BYHV6BcXZu8QVeXbDWra3Oeqh0sbHbbMCVNSnCM/UrjmM0Dp8vOuZeHBy/YTBmSK6H9qs/y3RnOaw5v.";
        assert!(
            sha_crypt::ShaCrypt::SHA512
                .verify_password(b"Hello world!", known)
                .is_ok()
        );
        assert!(fits(b"harbour-lights") && !fits(b"harbour-light"));
    }
}
