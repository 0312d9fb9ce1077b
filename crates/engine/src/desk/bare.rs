//! Hosts on which nothing is installed: finding their controllers, looking beneath, and what they read while they are installed.

use super::{Desk, ProbeError, Viewer};
use crate::evidence;
use std::{
    collections::HashMap,
    net::IpAddr,
    sync::{Mutex, MutexGuard, PoisonError},
};
use zastrugi_core::{
    evidence::{Answer, Probe},
    ids::{PersonId, SecretRef},
    moment::{Moment, Span},
};
use zastrugi_drivers::{Part, Range, Served, controllers};

/// A controller that answered: its address, what it calls itself, the certificate that it showed.
pub(crate) type Controller = (String, String, String);

/// How long a password that was typed may be used by whoever typed it.
const LENT: Span = Span::mins(60);

/// Secrets that people typed into sheets that are not run yet, with whose they are and until when.
#[derive(Default)]
pub(crate) struct Lent(Mutex<HashMap<SecretRef, (PersonId, Moment)>>);

impl Lent {
    fn all(&self) -> MutexGuard<'_, HashMap<SecretRef, (PersonId, Moment)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Desk {
    /// Seals a secret that a person typed before they run anything: they may name it, and nobody else.
    ///
    /// # Errors
    /// Words, when the database does not answer.
    pub async fn lend_secret(&self, viewer: &Viewer, plain: &str) -> Result<SecretRef, String> {
        let secret = self.keep_secret(plain).await?;
        let now = self.now();
        let mut all = self.lent.all();
        all.retain(|_, (_, until)| *until > now);
        all.insert(secret, (viewer.id, now.plus(LENT)));
        Ok(secret)
    }
    /// Whether it was lent to this person.
    pub fn is_lent(&self, viewer: &Viewer, secret: SecretRef) -> bool {
        let found = self.lent.all().get(&secret).copied();
        found.is_some_and(|(who, until)| who == viewer.id && until > self.now())
    }

    /// Controllers that answer in a range; nothing secret is sent.
    ///
    /// # Errors
    /// [`ProbeError`] when the range is wrong or outside the management networks.
    pub async fn controllers(&self, range: &str) -> Result<Vec<Controller>, ProbeError> {
        let range: Range = range.parse()?;
        let all = controllers(&range, &self.networks())?;
        let probe = |a: &String| Probe::ControllerGreeting(a.clone());
        evidence::ask_all(&self.shared, all.iter().map(probe).collect()).await;
        let book = self.look().evidence;
        let answered = |address: String| match book
            .fresh(&Probe::ControllerGreeting(address.clone()), self.now())
        {
            Some(Answer::Manager { name, pin }) => Some((address, name.clone(), pin.clone())),
            _ => None,
        };
        Ok(all.into_iter().filter_map(answered).collect())
    }

    /// Asks controllers, each with the certificate that a person was shown, what they say of their hosts.
    pub async fn look_beneath(
        &self,
        controllers: &[(String, String)],
        user: &str,
        password: SecretRef,
    ) {
        let probe = |(address, pin): &(String, String)| Probe::Beneath {
            address: address.clone(),
            pin: pin.clone(),
            user: user.to_owned(),
            password,
        };
        evidence::ask_missing(&self.shared, controllers.iter().map(probe).collect()).await;
    }

    /// Asks hosts that another manager runs what they have, each with the certificate that a person was shown; `anew`: also where
    /// its last answer is fresh. Nothing is changed by it.
    pub async fn take_stock(&self, hosts: &[(String, String)], password: SecretRef, anew: bool) {
        let probe = |(address, pin): &(String, String)| Probe::Inventory {
            address: address.clone(),
            pin: pin.clone(),
            password,
        };
        let probes = hosts.iter().map(probe).collect();
        if anew {
            evidence::ask_all(&self.shared, probes).await;
        } else {
            evidence::ask_missing(&self.shared, probes).await;
        }
    }

    /// Looks what there is to install from, and whether somebody has these addresses already.
    pub async fn before_installing(&self, addresses: &[String]) {
        let greet = addresses.iter().cloned().map(Probe::Greeting);
        let all = greet.chain([Probe::Installations]).collect();
        evidence::ask_missing(&self.shared, all).await;
    }

    /// The port on which devices read what hosts are installed from; none where nobody said how they reach it.
    pub fn media_port(&self) -> Option<u16> {
        self.shared.drivers.media_port()
    }

    /// Asks name servers (`ip:port`) whose answers are missing or old whether they are in charge of a zone.
    pub async fn ask_for_zone(&self, servers: &[String], zone: &str) {
        let probe = |server: &String| Probe::Zone {
            server: server.clone(),
            zone: zone.to_owned(),
        };
        evidence::ask_missing(&self.shared, servers.iter().map(probe).collect()).await;
    }

    /// Asks a name server (`ip:port`) who has names, and the addresses that they shall have, where its answers are missing or old.
    pub async fn ask_for_names(&self, server: &str, names: Vec<(String, IpAddr)>) {
        let probe = |(name, address)| Probe::Named {
            server: server.to_owned(),
            name,
            address,
        };
        evidence::ask_missing(&self.shared, names.into_iter().map(probe).collect()).await;
    }

    /// Asks time sources (`ip:port`) whose answers are missing or old how far they are from our clock.
    pub async fn ask_the_time(&self, sources: &[String]) {
        let probes = sources.iter().cloned().map(Probe::Time).collect();
        evidence::ask_missing(&self.shared, probes).await;
    }

    /// All of them, whatever they said before.
    pub async fn ask_the_time_anew(&self, sources: &[String]) {
        let probes = sources.iter().cloned().map(Probe::Time).collect();
        evidence::ask_all(&self.shared, probes).await;
    }

    /// What a device may read under a word that it was told.
    pub async fn medium(&self, word: &str, part: Part) -> Option<Served> {
        let estate = self.look().estate;
        self.shared.drivers.medium(&estate, word, part).await
    }
}
