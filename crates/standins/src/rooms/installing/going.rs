//! Installations go on with time; a host that is installed takes its name and address, and its agent is there.

use super::{
    bare::{Bare, Image, Quirk, Seed},
    fetch,
};
use crate::{
    make::{identity, iqn},
    rooms::hosts::host::Host,
    world::{State, World},
};
use hmac::{Hmac, Mac};
use sha2::Sha256;
use std::sync::Arc;

impl World {
    /// What time brings to hosts that are being installed.
    pub(crate) fn install(self: &Arc<Self>) {
        let now = self.now();
        let mut state = self.lock();
        let busy = |h: &&Host| h.bare.going.is_some();
        let names: Vec<String> = state
            .hosts
            .values()
            .filter(busy)
            .map(|h| h.name.clone())
            .collect();
        for name in names {
            let Some(host) = state.hosts.get_mut(&name) else {
                continue;
            };
            let maker = host.maker.clone();
            let before = host.bare.lines.len();
            let done = host.bare.advance(&maker, now);
            let fetches = host.bare.fetches();
            if let Some(going) = host.bare.going.as_mut().filter(|_| fetches.is_some()) {
                going.reads = true;
            }
            let news = host.bare.lines.len() != before;
            if let Some((image, seed)) = fetches {
                let (world, name) = (self.clone(), name.clone());
                tokio::spawn(async move { world.fetched(&name, fetch::both(&image, &seed).await) });
            }
            if let Some((image, seed)) = done {
                self.installed(&mut state, &name, &image, &seed);
            } else if news {
                self.save_host(&state, &name);
            }
        }
    }

    fn fetched(&self, name: &str, read: Result<(Image, Seed), String>) {
        let mut state = self.lock();
        let Some(bare) = state.hosts.get_mut(name).map(|h| &mut h.bare) else {
            return;
        };
        let reads = bare.going.as_mut().filter(|g| g.reads);
        if reads.map(|g| g.reads = false).is_none() {
            return;
        }
        match (read, &mut bare.going) {
            (Ok((image, seed)), Some(going)) => {
                (going.image, going.seed) = (Some(image), Some(seed));
            }
            (Ok(_), None) => {}
            (Err(why), _) => bare.fails(why),
        }
        self.save_host(&state, name);
    }

    fn installed(&self, state: &mut State, name: &str, image: &Image, seed: &Seed) {
        let Some(mut host) = state.hosts.remove(name) else {
            return;
        };
        becomes(&mut host, image, seed);
        let new = host.name.clone();
        for switch in state.switches.values_mut() {
            let ports = switch.ports.values_mut();
            ports
                .filter(|p| p.neighbour.0 == name)
                .for_each(|p| p.neighbour.0.clone_from(&new));
        }
        state.hosts.insert(new.clone(), host);
        let switches: Vec<String> = state.switches.keys().cloned().collect();
        if new != name {
            // Nobody reads it any more; one that can't be removed is found again as a host of its own, and says so.
            drop(std::fs::remove_file(
                self.dir.join("hosts").join(format!("{name}.json")),
            ));
        }
        self.save_host(state, &new);
        switches.iter().for_each(|s| self.save_switch(state, s));
        state.did_what(&new, "installed");
    }

    /// Makes a bare host of it, or one that deceives whoever installs it.
    pub fn quirk(&self, name: &str, quirk: Quirk) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.bare.quirk = quirk;
        }
        self.save_host(&state, name);
    }
    /// Somebody else changes how a host starts, just before the next change.
    pub fn meddle(&self, name: &str) {
        if let Some(host) = self.lock().hosts.get_mut(name) {
            host.bare.meddled = true;
        }
    }
    /// Addresses (`ip:port`) of the controllers of hosts on which nothing is installed, by name.
    pub(crate) fn bare_controllers(&self) -> Vec<(String, String)> {
        let state = self.lock();
        let bare = state.hosts.values().filter(|h| !h.bare.is_installed());
        bare.map(|h| (h.name.clone(), h.bmc_address.clone()))
            .collect()
    }
    /// How many media its controller has mounted.
    pub fn mounted(&self, name: &str) -> usize {
        let state = self.lock();
        state.hosts.get(name).map_or(0, |h| h.bare.media.len())
    }
    /// What is on the disks of a bare host.
    pub fn leave_on_disks(&self, name: &str, what: &[&str]) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.bare.leftovers = what.iter().map(|w| (*w).to_owned()).collect();
        }
        self.save_host(&state, name);
    }
    /// Names of all hosts, with whether an agent is installed there.
    pub fn installations(&self) -> Vec<(String, bool)> {
        let state = self.lock();
        let all = state.hosts.values();
        all.map(|h| (h.name.clone(), h.bare.is_installed()))
            .collect()
    }
}

/// A host is what its medium and its seed made of it: in its factory state, with the first password that it was given.
fn becomes(host: &mut Host, image: &Image, seed: &Seed) {
    let ip = seed.address.split('/').next().unwrap_or_default();
    host.name.clone_from(&seed.name);
    host.address = format!("{ip}:7443");
    host.software.clone_from(&image.version);
    host.password.clone_from(&seed.password);
    host.bare.secret.clone_from(&seed.secret);
    host.time.clone_from(&seed.time);
    host.iqn = iqn(&seed.name);
    (host.owner, host.claimed_with, host.cluster) = (None, None, None);
    host.wrong_passwords = 0;
    host.boot += 1;
    host.networks.clear();
    host.logins.clear();
    host.mounted.clear();
    host.answers.clear();
    host.keepers.clear();
    host.fence = 0;
    host.fences.clear();
    host.seen = Default::default();
    if let Ok(made) = identity(&seed.name) {
        host.identity = made;
    }
}

/// How a host proves that it was installed from what somebody gave it: a hash (HMAC, RFC 2104) of its certificate's pin under the
/// secret that stood there.
pub(crate) fn proof(bare: &Bare, pin: &str) -> Option<String> {
    if bare.secret.is_empty() {
        return None;
    }
    let mut mac = Hmac::<Sha256>::new_from_slice(bare.secret.as_bytes()).ok()?;
    mac.update(pin.as_bytes());
    let proof = mac.finalize().into_bytes();
    Some(proof.iter().map(|b| format!("{b:02x}")).collect())
}
