//! Keepers from outside: what a host is given to run one, sealed, and the agreement on a volume. The manager gives and
//! reads; keepers open, agree and write.

use crate::{Drivers, agent::Stamp, perform::premise};
use base64::{Engine as _, engine::general_purpose::STANDARD};
use chacha20poly1305::{
    AeadCore, KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, OsRng, Payload},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use zastrugi_core::{
    epoch::Epoch,
    estate::{Estate, Host},
    guard::{Held, Line},
    ids::{ClusterId, Revision, VolumeId},
    papers::{Keys, Papers},
    runs::{Fault, FaultKind},
    view::View,
};

/// What stands on a volume.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub struct Agreement {
    /// Who may decide: the serials of hosts that run keepers, and the manager's own identifier.
    pub members: BTreeSet<String>,
    #[serde(flatten)]
    pub held: Held,
    /// The last line of the journal.
    #[serde(default)]
    pub last: u64,
}

/// Everything that a keeper needs, as it lies sealed on its host.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Parcel {
    pub papers: Papers,
    pub keys: Keys,
    /// Identifier and name, as hosts know the manager.
    pub installation: (String, String),
    /// The networks in which devices may be spoken to.
    pub networks: Vec<String>,
}

/// Binds what is sealed to the host and the cluster that it is for.
fn bound(serial: &str, cluster: &str) -> String {
    format!("zastrugi keeper {cluster} on {serial}")
}

impl Parcel {
    /// Sealed (XChaCha20-Poly1305) under a key of its own; both in Base64.
    fn seal(&self, serial: &str) -> Result<(String, String), Fault> {
        let ours = |why: &dyn std::fmt::Display| {
            Fault::new(
                FaultKind::Ours,
                format!("A keeper's papers can't be sealed: {why}."),
                "Retry.",
            )
        };
        let plain = serde_json::to_vec(self).map_err(|e| ours(&e))?;
        let key = XChaCha20Poly1305::generate_key(&mut OsRng);
        let nonce = XChaCha20Poly1305::generate_nonce(&mut OsRng);
        let aad = bound(serial, &self.papers.cluster.to_string());
        let payload = Payload {
            msg: &plain,
            aad: aad.as_bytes(),
        };
        let cipher = XChaCha20Poly1305::new(&key);
        let sealed = cipher.encrypt(&nonce, payload).map_err(|e| ours(&e))?;
        let whole = [nonce.as_slice(), &sealed].concat();
        Ok((STANDARD.encode(whole), STANDARD.encode(key)))
    }

    /// What was sealed for this host and cluster.
    ///
    /// # Errors
    /// Words, when it was changed, is another's, or of a newer version.
    pub fn open(sealed: &str, key: &str, serial: &str, cluster: &str) -> Result<Parcel, String> {
        let broken = || "what it was given can't be opened".to_owned();
        let whole = STANDARD.decode(sealed).map_err(|_| broken())?;
        let key = STANDARD.decode(key).map_err(|_| broken())?;
        if whole.len() < 24 || key.len() != 32 {
            return Err(broken());
        }
        let (nonce, body) = whole.split_at(24);
        let cipher = XChaCha20Poly1305::new_from_slice(&key).map_err(|_| broken())?;
        let aad = bound(serial, cluster);
        let payload = Payload {
            msg: body,
            aad: aad.as_bytes(),
        };
        let plain = cipher.decrypt(XNonce::from_slice(nonce), payload);
        let plain = plain.map_err(|_| broken())?;
        serde_json::from_slice(&plain).map_err(|e| format!("what it was given makes no sense: {e}"))
    }
}

fn at<'a>(epoch: Epoch, revision: Revision, key: &'a str) -> Stamp<'a> {
    Stamp {
        key,
        epoch,
        fence: revision,
    }
}

impl Drivers {
    /// Gives a host what a keeper needs, with the secrets of its cluster; an older one never takes the place of a newer.
    ///
    /// # Errors
    /// [`Fault`] with the host's words, or when a secret can't be opened.
    pub async fn give_keeper(&self, view: &View, host: &Host, papers: Papers) -> Result<(), Fault> {
        let mut keys = Keys::new();
        for secret in Papers::secrets(view, papers.cluster) {
            keys.insert(secret, self.secrets.open(secret).await?);
        }
        let (epoch, revision, cluster) = (papers.epoch, papers.revision, papers.cluster);
        let parcel = Parcel {
            papers,
            keys,
            installation: (self.installation.id.clone(), self.installation.name.clone()),
            networks: self.networks().0.iter().map(ToString::to_string).collect(),
        };
        let sealed = parcel.seal(&host.hardware.serial)?;
        let key = self.key_of(host).await?;
        let name = format!(
            "{}.{epoch}.keeper.{cluster}.{revision}",
            self.installation.id
        );
        let agent = self.agent(host, &key);
        agent
            .give_keeper(at(epoch, revision, &name), cluster, sealed)
            .await
    }

    /// A host forgets what it was given.
    ///
    /// # Errors
    /// [`Fault`] with the host's words.
    pub async fn take_keeper(
        &self,
        host: &Host,
        cluster: ClusterId,
        epoch: Epoch,
        revision: Revision,
    ) -> Result<(), Fault> {
        let key = self.key_of(host).await?;
        let name = format!(
            "{}.{epoch}.keeper.{cluster}.{revision}.gone",
            self.installation.id
        );
        let agent = self.agent(host, &key);
        agent.take_keeper(at(epoch, revision, &name), cluster).await
    }

    /// Writes on the volume who may decide: these hosts, and the manager.
    ///
    /// # Errors
    /// [`Fault`] with the host's words.
    pub async fn name_keepers(
        &self,
        via: &Host,
        uid: &str,
        members: BTreeSet<String>,
        (epoch, revision): (Epoch, Revision),
    ) -> Result<Agreement, Fault> {
        let key = self.key_of(via).await?;
        let name = format!("{}.{epoch}.keepers.{uid}.{revision}", self.installation.id);
        let agent = self.agent(via, &key);
        agent
            .name_keepers(at(epoch, revision, &name), uid, &members)
            .await
    }

    /// What stands on a volume, as a host that reaches it reads it.
    ///
    /// # Errors
    /// [`Fault`] with the host's words.
    pub async fn agreement(&self, via: &Host, uid: &str) -> Result<Agreement, Fault> {
        let key = self.key_of(via).await?;
        self.agent(via, &key).agreement(uid).await
    }

    /// Renews, takes or lets go; false where somebody else was quicker.
    ///
    /// # Errors
    /// [`Fault`] with the host's words.
    pub async fn agree(
        &self,
        via: &Host,
        uid: &str,
        from: &Held,
        to: &Held,
    ) -> Result<bool, Fault> {
        let key = self.key_of(via).await?;
        self.agent(via, &key).agree(uid, from, to).await
    }

    /// The lines of the journal after this one.
    ///
    /// # Errors
    /// [`Fault`] with the host's words.
    pub async fn journal(&self, via: &Host, uid: &str, after: u64) -> Result<Vec<Line>, Fault> {
        let key = self.key_of(via).await?;
        self.agent(via, &key).journal(uid, after).await
    }

    /// Adds a line, for who decides.
    ///
    /// # Errors
    /// [`Fault`] with the host's words; somebody else may decide by now.
    pub async fn add_line(
        &self,
        via: &Host,
        uid: &str,
        held: &Held,
        line: &Line,
    ) -> Result<(), Fault> {
        let key = self.key_of(via).await?;
        self.agent(via, &key).add_line(uid, held, line).await
    }

    /// A host of the cluster that is heard and reaches the volume.
    pub(crate) fn witness(
        estate: &Estate,
        cluster: ClusterId,
        volume: VolumeId,
    ) -> Result<&Host, Fault> {
        let mut hosts = estate.hosts_in(cluster).map(|h| &**h);
        let found = hosts.find(|h| h.accepts_work() && h.paths_up(volume) > 0);
        found.ok_or_else(|| premise("No host of the cluster that answers reaches the volume."))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::{epoch::Epoch, ids::MachineId, testkit};

    /// If this fails, what lies on a host's disk opens the controllers of a cluster, or one host's opens on another.
    #[test]
    fn what_is_sealed_opens_with_its_key_on_its_host_alone() {
        let small = testkit::read(&testkit::large(20, 64));
        let cluster = *small.view.estate.clusters.keys().next().unwrap();
        let epoch = Epoch {
            number: 1,
            history: uuid::Uuid::nil(),
        };
        let papers = Papers::of(&small.view, cluster, epoch, VolumeId(951)).unwrap();
        let parcel = Parcel {
            papers,
            keys: Keys::new(),
            installation: ("i".into(), "Ferries".into()),
            networks: vec!["127.0.0.0/8".into()],
        };
        let (sealed, key) = parcel.seal("S1").unwrap();
        let name = cluster.to_string();
        let opened = Parcel::open(&sealed, &key, "S1", &name).unwrap();
        let (view, again) = (opened.papers.view(&[]).unwrap(), &opened.papers);
        assert_eq!(*again, parcel.papers);
        let machines = |v: &View| {
            v.estate
                .machines_in(cluster)
                .map(|m| m.id)
                .collect::<Vec<MachineId>>()
        };
        assert_eq!(machines(&view), machines(&small.view));
        assert!(
            Parcel::open(&sealed, &key, "S2", &name).is_err(),
            "another host's"
        );
        let (_, other) = parcel.seal("S1").unwrap();
        assert!(Parcel::open(&sealed, &other, "S1", &name).is_err());
        assert!(Parcel::open("AAAA", &key, "S1", &name).is_err());
    }
}
