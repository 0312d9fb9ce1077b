//! The keeper: it opens what its host was given, hears the hosts, and stands guard while it holds the seat.

use crate::{
    Book, Post, Posts, Quorum, Seat, follow::Followed, ledger::Ledger, quorum::Good, seat::Lease,
};
use futures::future::BoxFuture;
use std::{
    sync::{Arc, PoisonError, RwLock},
    time::{Duration, Instant},
};
use tokio::{
    sync::watch,
    task::JoinHandle,
    time::{MissedTickBehavior, interval},
};
use zastrugi_core::{
    guard::{Hears, Times},
    ids::{HostId, SecretRef},
    papers::{Keys, Papers, heard},
    runs::{Fault, FaultKind},
};
use zastrugi_drivers::{Drivers, Installation, Networks, Parcel, Secrets};

/// What a host was given, as it hands it to the process.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Given {
    pub sealed: String,
    pub key: String,
}

#[derive(Debug, Clone)]
pub struct Settings {
    /// Of the host on which it runs.
    pub serial: String,
    /// The cluster's name in what was given.
    pub cluster: String,
    pub times: Times,
}

/// Runs until nobody gives it anything any more. `said` tells whether it decides; `opened` gets the drivers once, for whoever
/// wants to change what they may reach.
pub async fn keep(
    settings: Settings,
    mut given: watch::Receiver<Option<Given>>,
    said: watch::Sender<bool>,
    opened: impl FnOnce(&Drivers),
) {
    let Some(mut keeper) = begin(settings, &mut given, said).await else {
        return;
    };
    opened(keeper.ledger.drivers());
    let mut pause = interval(Duration::from_millis(
        (keeper.settings.times.silent.0 / 7).max(20),
    ));
    pause.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            told = given.changed() => {
                if told.is_err() {
                    return;
                }
                keeper.take(given.borrow_and_update().clone());
            }
            _ = pause.tick() => keeper.look().await,
        }
    }
}

/// Waits for papers that can be opened.
async fn begin(
    settings: Settings,
    given: &mut watch::Receiver<Option<Given>>,
    said: watch::Sender<bool>,
) -> Option<Keeper> {
    loop {
        let first = given.borrow_and_update().clone();
        if let Some(first) = first {
            match Keeper::new(settings.clone(), &first, said.clone()) {
                Ok(keeper) => return Some(keeper),
                Err(words) => tracing::error!(words, "a keeper can't begin"),
            }
        }
        given.changed().await.ok()?;
    }
}

/// The secrets that came with the papers.
#[derive(Clone, Default)]
struct Drawer(Arc<RwLock<Keys>>);

impl Secrets for Drawer {
    fn open(&self, secret: SecretRef) -> BoxFuture<'_, Result<String, Fault>> {
        let keys = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let found = keys.get(&secret).cloned();
        Box::pin(async move {
            found.ok_or_else(|| {
                Fault::new(
                    FaultKind::Refused,
                    "The keeper was not given this secret.",
                    "",
                )
            })
        })
    }
    fn keep(&self, _plain: String) -> BoxFuture<'_, Result<SecretRef, Fault>> {
        Box::pin(async {
            Err(Fault::new(
                FaultKind::Refused,
                "A keeper keeps no new secrets.",
                "",
            ))
        })
    }
}

struct Keeper {
    settings: Settings,
    ledger: Ledger,
    drawer: Drawer,
    posts: Posts,
    followed: Followed,
    seat: Seat,
    good: Good,
    post: Option<JoinHandle<()>>,
    said: watch::Sender<bool>,
}

impl Keeper {
    fn new(settings: Settings, given: &Given, said: watch::Sender<bool>) -> Result<Keeper, String> {
        let parcel = Parcel::open(
            &given.sealed,
            &given.key,
            &settings.serial,
            &settings.cluster,
        )?;
        let (id, name) = parcel.installation;
        let drawer = Drawer(Arc::new(RwLock::new(parcel.keys)));
        let networks = Networks::parse(&parcel.networks.join(","))?;
        let drivers = Drivers::new(
            networks,
            Arc::new(drawer.clone()),
            Installation {
                id: id.clone(),
                name,
            },
        );
        Ok(Keeper {
            ledger: Ledger::new(drivers, parcel.papers)?,
            seat: Seat::new(
                settings.serial.clone(),
                settings.times.silent,
                1,
                Some(id.clone()),
            ),
            settings,
            drawer,
            good: Good::default(),
            posts: Posts::default(),
            followed: Followed::default(),
            post: None,
            said,
        })
    }

    fn take(&self, given: Option<Given>) {
        let Some(given) = given else { return };
        let (serial, cluster) = (&self.settings.serial, &self.settings.cluster);
        let taken = Parcel::open(&given.sealed, &given.key, serial, cluster).and_then(|parcel| {
            *self
                .drawer
                .0
                .write()
                .unwrap_or_else(PoisonError::into_inner) = parcel.keys;
            self.ledger
                .drivers()
                .allow(Networks::parse(&parcel.networks.join(","))?);
            self.ledger.take(parcel.papers)
        });
        if let Err(words) = taken {
            tracing::error!(words, "newer papers were not taken");
        }
    }

    async fn look(&mut self) {
        let place = self.ledger.place();
        self.followed
            .look_around(&self.ledger, &self.posts, place.0);
        let view = self.ledger.view();
        let silent = Duration::from_millis(self.settings.times.silent.0);
        let own = view
            .estate
            .hosts
            .values()
            .find(|h| h.hardware.serial == self.settings.serial);
        let own: Option<HostId> = own.map(|h| h.id);
        let drivers = self.ledger.drivers().clone();
        let Some(quorum) = Quorum::new(drivers, &view.estate, place, own, &self.good, silent / 7)
        else {
            return self.stands_down();
        };
        let hears = Hears {
            of: heard(&view, place.0).len() as u64,
            hosts: self.ledger.heard(silent),
        };
        match self.seat.sit(&quorum, hears).await {
            Some(lease) => self.stands(lease, quorum).await,
            None => self.stands_down(),
        }
    }

    async fn stands(&mut self, lease: Lease, quorum: Quorum) {
        let quorum = Arc::new(quorum);
        let standing = self.post.as_ref().is_some_and(|p| !p.is_finished());
        if !standing {
            // What whoever decided before wrote is read first.
            let taken = Papers::taken(&self.ledger.view(), self.ledger.place().0);
            let known = async {
                let last = quorum.read().await?.last;
                Ok::<_, Fault>((quorum.journal(taken).await?, last))
            };
            let read = match known.await {
                Ok((lines, last)) => self.ledger.read(lines, last),
                Err(fault) => Err(fault.said),
            };
            if let Err(words) = read {
                tracing::warn!(words, "the journal can't be read");
                return;
            }
        }
        self.ledger.sits(Some((lease, quorum)));
        if !standing {
            let post = Post {
                book: self.ledger.clone(),
                cluster: self.ledger.place().0,
                times: self.settings.times,
                posts: self.posts.clone(),
                began: Instant::now(),
            };
            self.post = Some(tokio::spawn(post.stand()));
            tracing::info!(serial = self.settings.serial, "this keeper decides");
        }
        self.said
            .send_if_modified(|was| !std::mem::replace(was, true));
    }

    fn stands_down(&mut self) {
        self.ledger.sits(None);
        if let Some(post) = self.post.take() {
            post.abort();
            tracing::info!(
                serial = self.settings.serial,
                "this keeper does not decide any more"
            );
        }
        self.said
            .send_if_modified(|was| std::mem::replace(was, false));
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        if let Some(post) = self.post.take() {
            post.abort();
        }
    }
}
