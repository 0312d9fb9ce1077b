//! What goes wrong with arrays, paths and switches, and what people do to them by hand; for tests, the demo and the
//! control socket.

use crate::{
    make::offer,
    rooms::hosts::host::Deceit,
    rooms::machines::guest::Guest,
    rooms::machines::power::settle_leases,
    rooms::storage::array::Array,
    rooms::storage::volume::Image,
    world::{State, World},
};
use std::collections::BTreeMap;

impl World {
    /// What somebody did at the host's own screen, and forgot: the volume is unmounted there, and its reach is gone.
    pub fn forget(&self, host: &str, uid: &str) {
        let mut state = self.lock();
        let State { hosts, arrays, .. } = &mut *state;
        let Some(host_state) = hosts.get_mut(host) else {
            return;
        };
        host_state.mounted.remove(uid);
        let iqn = host_state.iqn.clone();
        let mut name = None;
        for array in arrays.values_mut() {
            let Some(lun) = array.lun_with(uid).map(|(id, _)| id.clone()) else {
                continue;
            };
            let initiators = &array.initiators;
            array.connections.retain(|_, c| {
                c.lun != lun || initiators.get(&c.initiator).is_none_or(|i| *i != iqn)
            });
            name = Some(array.name.clone());
        }
        self.save_host(&state, host);
        if let Some(name) = name {
            self.save_array(&state, &name);
        }
    }

    /// Lets an initiator that is no host of ours reach a volume.
    pub fn offer_to(&self, uid: &str, iqn: &str) {
        let mut state = self.lock();
        offer(&mut state, iqn, uid);
    }
    /// What was written to the named array under a name, and to whom it is offered: (volume, initiators).
    pub fn offers(&self, array: &str) -> Vec<(String, usize)> {
        let state = self.lock();
        let Some(array) = state.arrays.get(array) else {
            return Vec::new();
        };
        let count = |lun: &String| array.connections.values().filter(|c| c.lun == *lun).count();
        array
            .luns
            .iter()
            .map(|(id, l)| (l.name.clone(), count(id)))
            .collect()
    }

    /// Lets a host answer nobody while it has power and its machines run on, or answer again.
    pub fn hang(&self, name: &str, hung: bool) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.hung = hung;
        }
        self.save_host(&state, name);
    }
    /// Lets a whole host hang, its guests and its lease too, or go on: then it looks whose its guests are before they do.
    pub fn stall(&self, name: &str, stalled: bool) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.stalled = stalled;
        }
        if !stalled {
            settle_leases(&mut state, name);
        }
        self.save_host(&state, name);
    }
    /// Arms a host's watchdog, or not.
    pub fn arm(&self, name: &str, armed: bool) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.watchdog = armed;
        }
        self.save_host(&state, name);
    }
    /// How a host's controller deceives from now on.
    pub fn deceive(&self, name: &str, deceit: Deceit) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.deceit = deceit;
        }
        self.save_host(&state, name);
    }
    /// Takes the power of a host's own controller away, or gives it back.
    pub fn silence_bmc(&self, name: &str, silent: bool) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(name) {
            host.bmc_silent = silent;
        }
        self.save_host(&state, name);
    }
    pub(crate) fn obeys_bmc(&self, name: &str) -> bool {
        let state = self.lock();
        let host = state.hosts.get(name);
        host.is_some_and(|h| h.deceit != Deceit::DoesNothing)
    }
    pub(crate) fn has_power(&self, name: &str) -> bool {
        self.lock().hosts.get(name).is_some_and(|h| h.power)
    }
    pub(crate) fn bmc_answers(&self, name: &str) -> bool {
        self.lock().hosts.get(name).is_some_and(|h| !h.bmc_silent)
    }

    /// Breaks or mends a management controller, counted from 1.
    pub fn controller(&self, array: &str, number: usize, up: bool) {
        let mut state = self.lock();
        let found = state.arrays.get_mut(array);
        if let Some(c) = found.and_then(|a| a.controllers.get_mut(number.wrapping_sub(1))) {
            c.up = up;
        }
        self.save_array(&state, array);
    }
    /// How much longer everything takes at an array, in milliseconds.
    pub fn slow_down(&self, array: &str, by: u64) {
        let mut state = self.lock();
        if let Some(found) = state.arrays.get_mut(array) {
            found.slow = by;
        }
        self.save_array(&state, array);
    }
    pub(crate) fn slowness(&self, array: &str) -> u64 {
        self.lock().arrays.get(array).map_or(0, |a| a.slow)
    }
    /// Breaks or mends a portal, counted from 1: for everybody, or for one host.
    pub fn portal(&self, array: &str, number: usize, host: Option<&str>, up: bool) {
        let mut state = self.lock();
        let State { hosts, arrays, .. } = &mut *state;
        let portal = arrays
            .get_mut(array)
            .and_then(|a| a.portals.get_mut(number.wrapping_sub(1)));
        let Some(portal) = portal else { return };
        match host {
            None => portal.up = up,
            Some(name) => {
                if let Some(host) = hosts.get_mut(name) {
                    if up {
                        host.cut.remove(&portal.address);
                    } else {
                        host.cut.insert(portal.address.clone());
                    }
                }
                self.save_host(&state, name);
            }
        }
        self.save_array(&state, array);
    }
    pub(crate) fn answers(&self, array: &str, number: usize) -> bool {
        self.lock()
            .arrays
            .get(array)
            .and_then(|a| a.controllers.get(number))
            .is_some_and(|c| c.up)
    }
    pub(crate) fn switch_answers(&self, name: &str) -> bool {
        self.lock().switches.get(name).is_some_and(|s| s.up)
    }
    /// The lines between sites add so much to a round trip, in microseconds.
    pub fn long_lines(&self, micros: u64) {
        self.lock().line_micros = micros;
    }
    /// Makes a switch's management silent; its ports go on.
    pub fn silence_switch(&self, name: &str, silent: bool) {
        let mut state = self.lock();
        if let Some(switch) = state.switches.get_mut(name) {
            switch.up = !silent;
        }
        self.save_switch(&state, name);
    }
    /// What somebody did on the switch: the frame size of a host's port, or a VLAN taken off it.
    pub fn change_port(&self, switch: &str, host: &str, mtu: Option<u32>, without: Option<u16>) {
        let mut state = self.lock();
        if let Some(found) = state.switches.get_mut(switch) {
            for port in found.ports.values_mut().filter(|p| p.neighbour.0 == host) {
                port.mtu = mtu.unwrap_or(port.mtu);
                if let Some(vlan) = without {
                    port.tagged.remove(&vlan);
                }
            }
        }
        self.save_switch(&state, switch);
    }
    /// A whole image lies on a volume, as somebody else left it.
    pub fn place_image(&self, uid: &str, name: &str, bytes: &[u8]) {
        let id = uuid::Uuid::new_v4().to_string();
        let size = u64::try_from(bytes.len()).unwrap_or(u64::MAX);
        let there = self.images.append((uid, &id), 0, bytes, size).is_ok();
        let sha256 = self.images.sum(uid, &id).ok().filter(|_| there);
        let mut state = self.lock();
        if let Some(volume) = state.volumes.get_mut(uid) {
            let image = Image {
                name: name.to_owned(),
                size,
                sha256,
            };
            volume.images.insert(id, image);
        }
        self.save_volume(&state, uid);
    }
    /// The machine is off, from one moment to the next, as if its own plug were pulled.
    pub fn pull(&self, machine: &str) {
        let mut state = self.lock();
        let State { hosts, volumes, .. } = &mut *state;
        for host in hosts.values_mut() {
            let named = |(uuid, guest): &(&String, &Guest)| {
                let volume = volumes.get(&guest.volume);
                let record = volume.and_then(|v| v.records.get(*uuid));
                record.is_some_and(|r| r.name == machine)
            };
            let found = host.guests.iter().find(named);
            let Some(uuid) = found.map(|(uuid, _)| uuid.clone()) else {
                continue;
            };
            let gone = host.guests.remove(&uuid);
            if let Some(volume) = gone.and_then(|g| volumes.get_mut(&g.volume)) {
                volume.drop_lease(&uuid, &host.name);
            }
        }
    }
    /// How fast a host's uplinks are from now on, in Mbit/s.
    pub fn link(&self, host: &str, mbit: u64) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(host) {
            host.uplinks.iter_mut().for_each(|u| u.mbit = mbit);
        }
        self.save_host(&state, host);
    }
    /// Cuts an uplink of a host, or mends it: both ends see that there is no link.
    pub fn uplink(&self, host: &str, uplink: &str, up: bool) {
        let mut state = self.lock();
        let State {
            hosts, switches, ..
        } = &mut *state;
        let Some(held) = hosts.get_mut(host) else {
            return;
        };
        let Some(found) = held.uplinks.iter_mut().find(|u| u.name == uplink) else {
            return;
        };
        found.up = up;
        let (switch, port) = (found.switch.clone(), found.port.clone());
        let there = switches.get_mut(&switch);
        if let Some(port) = there.and_then(|s| s.ports.get_mut(&port)) {
            port.up = up;
        }
        self.save_host(&state, host);
        self.save_switch(&state, &switch);
    }
    /// Takes what an array offers a host away, as somebody does by mistake: the array answers, and says that it is not there.
    pub fn unoffer(&self, host: &str, offered: bool) {
        let mut state = self.lock();
        let State { hosts, arrays, .. } = &mut *state;
        let Some(held) = hosts.get_mut(host) else {
            return;
        };
        held.unoffered = !offered;
        let (iqn, mounted) = (held.iqn.clone(), held.mounted.clone());
        for array in arrays.values_mut() {
            for uid in &mounted {
                let Some(lun) = array.lun_with(uid).map(|(id, _)| id.clone()) else {
                    continue;
                };
                if offered {
                    array.map(&lun, &iqn);
                } else {
                    let initiators = &array.initiators;
                    array.connections.retain(|_, c| {
                        c.lun != lun || initiators.get(&c.initiator).is_none_or(|i| *i != iqn)
                    });
                }
            }
        }
        self.save_host(&state, host);
        let names: Vec<String> = state.arrays.keys().cloned().collect();
        names.iter().for_each(|name| self.save_array(&state, name));
    }
    /// No gateway answers anybody any more, or all do.
    pub fn silence_routers(&self, silent: bool) {
        self.lock().routers_silent = silent;
    }
    /// Somebody unknown answers at this address from now on.
    pub fn squat(&self, address: &str, name: &str) {
        self.lock()
            .squatters
            .insert(address.to_owned(), name.to_owned());
    }
    /// What somebody did at a host's own screen: a network is gone there.
    pub fn forget_network(&self, host: &str, network: &str) {
        let mut state = self.lock();
        if let Some(host) = state.hosts.get_mut(host) {
            host.networks.remove(network);
        }
        self.save_host(&state, host);
    }
    /// Management addresses of the switches, by name.
    pub fn switches(&self) -> BTreeMap<String, String> {
        let state = self.lock();
        state
            .switches
            .values()
            .map(|s| (s.name.clone(), s.address.clone()))
            .collect()
    }
    /// Addresses that a machine's guest has taken on from its seed.
    pub fn guest_addresses(&self, machine: &str) -> Vec<String> {
        let state = self.lock();
        let records = state.volumes.values().flat_map(|v| v.records.values());
        records
            .filter(|r| r.name == machine)
            .filter_map(|r| r.seed.as_ref())
            .flat_map(crate::rooms::machines::seed::addresses)
            .collect()
    }

    /// Somebody changes the password of an array at the array.
    pub fn array_password(&self, name: &str, password: &str) {
        if let Some(array) = self.lock().arrays.get_mut(name) {
            array.password = password.into();
        }
    }

    /// Management addresses of the arrays and filers, by name.
    pub fn arrays(&self) -> BTreeMap<String, Vec<String>> {
        let state = self.lock();
        let addresses = |a: &Array| a.controllers.iter().map(|c| c.address.clone()).collect();
        state
            .arrays
            .values()
            .map(|a| (a.name.clone(), addresses(a)))
            .collect()
    }
}
