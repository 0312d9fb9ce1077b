//! Everything that can be broken by one word, and what is broken now: for the panel of the demo. The words and what they do
//! stand in one list each; whatever is broken can be mended by the same word.

use crate::{
    Deceit, Quirk,
    world::{State, World},
};
use axum::{
    Json,
    extract::State as Extract,
    http::StatusCode,
    response::{IntoResponse, Response},
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// One device, with the words of what is broken of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sky {
    /// `host`, `array`, `switch` or `guest`, or what the devices stand in.
    pub kind: String,
    pub name: String,
    /// All that may be broken of it, each with whether it is.
    pub words: Vec<(String, bool)>,
}

/// A change of the weather at one device.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Gust {
    pub kind: String,
    pub name: String,
    pub word: String,
    pub broken: bool,
}

/// What stands around the devices and can be broken too: whoever starts them knows it.
pub trait House: Send + Sync {
    fn skies(&self) -> Vec<Sky>;
    /// Breaks or mends; false where there is no such thing.
    fn blow(&self, gust: &Gust) -> bool;
}

const HOST: [&str; 9] = [
    "power",
    "power and controller",
    "agent",
    "all of it hangs",
    "watchdog",
    "controller",
    "controller says off",
    "controller is another's",
    "controller does nothing",
];

/// What goes wrong with a host that somebody installs.
const BARE: [(&str, Quirk); 4] = [
    ("boots from its disks", Quirk::BootOrder),
    ("stands still while it copies", Quirk::Stuck),
    ("restarts once more", Quirk::RestartsTwice),
    ("media come slowly", Quirk::SlowMedia),
];

/// What a slow array takes longer for everything, in milliseconds.
const SLOW: u64 = 5_000;

/// Somebody switched an array's own snapshots off.
const LAPSED: &str = "without snapshots";

/// A time source that is wrong, and by how much in milliseconds.
const WRONG: &str = "3 s wrong";
const BY: i64 = 3_000;

/// A name server that leads from no address to a name.
const NO_REVERSE: &str = "without reverse";

/// No question of a host reaches a name server.
const NAMES: &str = "name servers";

/// A server of buckets has no room.
const FULL: &str = "full";

/// No router answers.
const SILENT: &str = "silent";

/// Another manager that is still at work.
const ORDERS: &str = "gives orders";

const GUEST: [&str; 5] = [
    "hangs",
    "agent",
    "crash",
    "slow to stand still",
    "no loader on its disk",
];

/// Somebody shared its disks otherwise at its host.
const OTHERWISE: &str = "shares otherwise";

fn sky(kind: &str, name: &str, words: Vec<(String, bool)>) -> Sky {
    Sky {
        kind: kind.to_owned(),
        name: name.to_owned(),
        words,
    }
}

/// What hosts and managers ask, and who else gives orders.
fn services(state: &State) -> Vec<Sky> {
    let time = state.sources.values().map(|s| {
        let words = [(WRONG, s.offset_ms != 0), ("silent", s.silent)];
        ("time", &s.name, words)
    });
    let names = state.names.values().map(|s| {
        let words = [("silent", s.silent), (NO_REVERSE, s.without_reverse)];
        ("names", &s.name, words)
    });
    let formers = state.formers.values().map(|f| {
        let words = [(ORDERS, f.orders), ("its automation is on", f.automation)];
        ("manager elsewhere", &f.name, words)
    });
    let balancers = state
        .balancers
        .values()
        .map(|b| sky("load balancer", &b.name, vec![("management".into(), !b.up)]));
    let buckets = state.buckets.values().map(|b| {
        let words = vec![(SILENT.into(), !b.up), (FULL.into(), b.full)];
        sky("bucket server", &b.name, words)
    });
    let all = time.chain(names).chain(formers);
    let routers = sky(
        "router",
        "all gateways",
        vec![(SILENT.into(), state.routers_silent)],
    );
    all.map(|(kind, name, words)| sky(kind, name, words.map(|(w, is)| (w.to_owned(), is)).into()))
        .chain(balancers)
        .chain(buckets)
        .chain([routers])
        .collect()
}

impl World {
    /// The state of everything that can be broken, hosts first.
    pub fn weather(&self) -> Vec<Sky> {
        let mut guests = self.guests();
        guests.sort();
        let state = self.lock();
        let hosts = state.hosts.values().map(|h| {
            let is = |word: &str| match word {
                "power" => !h.power,
                "power and controller" => !h.power && h.bmc_silent,
                "agent" => h.hung,
                "all of it hangs" => h.stalled,
                "watchdog" => !h.watchdog,
                "controller" => h.bmc_silent,
                "controller says off" => h.deceit == Deceit::SaysOff,
                "controller is another's" => h.deceit == Deceit::OtherSerial,
                _ => h.deceit == Deceit::DoesNothing,
            };
            let paths = state
                .arrays
                .values()
                .any(|a| a.portals.iter().any(|p| h.cut.contains(&p.address)));
            let bare = BARE.iter().filter(|_| !h.bare.is_installed());
            let bare = bare.map(|(w, quirk)| ((*w).to_owned(), h.bare.quirk == *quirk));
            // One that has nothing installed is off until somebody installs it.
            let own = HOST.iter().filter(|_| h.bare.is_installed());
            let all = own.map(|w| ((*w).to_owned(), is(w))).chain(bare);
            let links = h.uplinks.iter().map(|u| (u.name.clone(), !u.up));
            let disks = h.local.iter().map(|d| (format!("disk {}", d.name), d.dead));
            let storage = [
                ("all paths".to_owned(), paths),
                ("volumes offered".to_owned(), h.unoffered),
                (NAMES.to_owned(), state.unheard(&h.address)),
            ];
            sky(
                "host",
                &h.name,
                all.chain(storage).chain(links).chain(disks).collect(),
            )
        });
        let arrays = state.arrays.values().map(|a| {
            let controllers = a
                .controllers
                .iter()
                .enumerate()
                .map(|(n, c)| (format!("controller {}", n + 1), !c.up));
            let portals = a
                .portals
                .iter()
                .enumerate()
                .map(|(n, p)| (format!("portal {}", n + 1), !p.up));
            let slow = [("slow".to_owned(), a.slow > 0)];
            let snaps = a.classes.values().any(|c| c.snapshots.is_some());
            let lapsed = snaps.then(|| (LAPSED.to_owned(), a.lapsed));
            let words = controllers
                .chain(portals)
                .chain(slow)
                .chain(lapsed)
                .collect();
            sky("array", &a.name, words)
        });
        let switches = state
            .switches
            .values()
            .map(|s| sky("switch", &s.name, vec![("management".into(), !s.up)]));
        let guests = guests.iter().map(|(name, is, otherwise)| {
            let words = GUEST
                .iter()
                .zip(is)
                .map(|(word, is)| ((*word).to_owned(), *is));
            let shared = otherwise.map(|is| (OTHERWISE.to_owned(), is));
            sky("guest", name, words.chain(shared).collect())
        });
        let all = hosts.chain(arrays).chain(switches).chain(services(&state));
        all.chain(guests).collect()
    }

    /// The devices stand in this house from now on.
    pub fn stands_in(&self, house: Arc<dyn House>) {
        drop(self.house.set(house));
    }
    fn all_weather(&self) -> Vec<Sky> {
        let house = self.house.get().map_or_else(Vec::new, |h| h.skies());
        self.weather().into_iter().chain(house).collect()
    }

    /// Breaks or mends; false where there is no such thing.
    pub fn blow(&self, gust: &Gust) -> bool {
        if let Some(house) = self.house.get()
            && house.blow(gust)
        {
            return true;
        }
        let known = self.weather().into_iter().any(|sky| {
            sky.kind == gust.kind
                && sky.name == gust.name
                && sky.words.iter().any(|(w, _)| *w == gust.word)
        });
        if known {
            match gust.kind.as_str() {
                "host" => self.blow_host(&gust.name, &gust.word, gust.broken),
                "array" => self.blow_array(&gust.name, &gust.word, !gust.broken),
                "time" if gust.word == WRONG => {
                    self.time_off(&gust.name, if gust.broken { BY } else { 0 });
                }
                "names" if gust.word == NO_REVERSE => {
                    self.names_without_reverse(&gust.name, gust.broken);
                }
                "names" => self.names_silent(&gust.name, gust.broken),
                "manager elsewhere" if gust.word == ORDERS => {
                    self.former_orders(&gust.name, gust.broken);
                }
                "manager elsewhere" => self.former_automation(&gust.name, gust.broken),
                "bucket server" if gust.word == FULL => self.fill_buckets(&gust.name, gust.broken),
                "bucket server" => self.silence_buckets(&gust.name, gust.broken),
                "load balancer" => self.silence_balancer(&gust.name, gust.broken),
                "router" => self.silence_routers(gust.broken),
                "time" => self.time_silent(&gust.name, gust.broken),
                "guest" => self.blow_guest(&gust.name, &gust.word, gust.broken),
                _ => self.silence_switch(&gust.name, gust.broken),
            }
        }
        known
    }

    fn blow_host(&self, name: &str, word: &str, broken: bool) {
        let deceit = |kind| if broken { kind } else { Deceit::None };
        match word {
            "power" => self.power(name, !broken),
            "power and controller" => {
                self.silence_bmc(name, broken);
                self.power(name, !broken);
            }
            "agent" => self.hang(name, broken),
            "all of it hangs" => self.stall(name, broken),
            "watchdog" => self.arm(name, !broken),
            "controller" => self.silence_bmc(name, broken),
            "controller says off" => self.deceive(name, deceit(Deceit::SaysOff)),
            "controller is another's" => self.deceive(name, deceit(Deceit::OtherSerial)),
            "controller does nothing" => self.deceive(name, deceit(Deceit::DoesNothing)),
            "all paths" => self.cut_paths(name, broken),
            "volumes offered" => self.unoffer(name, !broken),
            NAMES => self.unheard(name, broken),
            other => match BARE.iter().find(|(word, _)| *word == other) {
                Some((_, quirk)) => self.quirk(name, if broken { *quirk } else { Quirk::None }),
                None => match other.strip_prefix("disk ") {
                    Some(disk) => self.kill_disk(name, disk, broken),
                    None => self.uplink(name, other, !broken),
                },
            },
        }
    }

    fn blow_guest(&self, name: &str, word: &str, broken: bool) {
        match word {
            "hangs" => self.hang_guest(name, false, broken),
            "agent" => self.hang_guest(name, true, broken),
            "slow to stand still" => self.slow_guest(name, broken),
            "no loader on its disk" => drop(self.spoil(name, broken)),
            OTHERWISE => self.share_otherwise(name, if broken { 2 } else { 1 }, !broken),
            _ if broken => self.crash(name),
            _ => self.boot_guest(name),
        }
    }

    fn cut_paths(&self, host: &str, cut: bool) {
        let portals: Vec<(String, usize)> = {
            let state = self.lock();
            let all = state.arrays.values();
            all.flat_map(|a| (1..=a.portals.len()).map(|n| (a.name.clone(), n)))
                .collect()
        };
        for (array, portal) in portals {
            self.portal(&array, portal, Some(host), !cut);
        }
    }

    fn blow_array(&self, name: &str, word: &str, up: bool) {
        if word == LAPSED {
            return self.lapse(name, !up);
        }
        let Some((what, n)) = word.rsplit_once(' ') else {
            return self.slow_down(name, if up { 0 } else { SLOW });
        };
        let n = n.parse().unwrap_or(0);
        match what {
            "controller" => self.controller(name, n, up),
            _ => self.portal(name, n, None, up),
        }
    }
}

pub(crate) async fn show(Extract(control): Extract<crate::control::Control>) -> Json<Vec<Sky>> {
    Json(control.world.all_weather())
}

pub(crate) async fn blow(
    Extract(control): Extract<crate::control::Control>,
    Json(gust): Json<Gust>,
) -> Response {
    match control.world.blow(&gust) {
        true => StatusCode::NO_CONTENT.into_response(),
        false => StatusCode::NOT_FOUND.into_response(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{SKARHOLM, scenario::Scenario};

    /// If this fails, a button of the panel does nothing, or can't be taken back.
    #[test]
    fn every_word_breaks_what_it_says_and_mends_it_again() {
        let dir = tempfile::tempdir().unwrap();
        let demo: Scenario = serde_json::from_str(SKARHOLM).unwrap();
        let world = World::open(dir.path(), &demo, "127.81", 1.0).unwrap();
        let is = |gust: &Gust| {
            let sky = world
                .weather()
                .into_iter()
                .find(|s| s.kind == gust.kind && s.name == gust.name)
                .unwrap();
            sky.words.iter().find(|(w, _)| *w == gust.word).unwrap().1
        };
        let mut skies = world.weather();
        // The page names several in one field, with semicolons between.
        let torn: Vec<&str> = skies
            .iter()
            .map(|s| s.name.as_str())
            .filter(|n| n.contains(';'))
            .collect();
        assert_eq!(torn, Vec::<&str>::new(), "nobody could press it");
        // Hosts last: whose host was off runs no more.
        skies.sort_by_key(|s| s.kind == "host");
        // One guest is like another.
        let mut guests = 0;
        skies.retain(|s| {
            guests += u32::from(s.kind == "guest");
            s.kind != "guest" || guests <= 4
        });
        for sky in skies {
            for (word, broken) in sky.words {
                assert!(!broken, "{} {word}: nothing is broken at first", sky.name);
                let gust = |broken| Gust {
                    kind: sky.kind.clone(),
                    name: sky.name.clone(),
                    word: word.clone(),
                    broken,
                };
                assert!(world.blow(&gust(true)));
                assert!(is(&gust(true)), "{} {word}", sky.name);
                assert!(world.blow(&gust(false)));
                assert!(!is(&gust(false)), "{} {word} is mended", sky.name);
            }
        }
        let nothing = Gust {
            kind: "host".into(),
            name: "nobody".into(),
            word: "power".into(),
            broken: true,
        };
        assert!(!world.blow(&nothing));
    }
}
