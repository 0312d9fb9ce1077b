//! Devices on loopback addresses of their own, and the address of a test's database.

use std::net::TcpListener;
use zastrugi_standins::{SKARHOLM, Scenario, Settings, Standins};

pub(crate) struct World {
    pub(crate) standins: Standins,
    pub(crate) net: String,
    pub(crate) dir: tempfile::TempDir,
    _held: TcpListener,
}

impl World {
    /// The demo's hosts; `machines` says whether anything runs on them.
    pub(crate) async fn new(machines: bool) -> World {
        let mut scenario: Scenario = serde_json::from_str(SKARHOLM).unwrap();
        if !machines {
            scenario.machines.clear();
        }
        World::of(scenario).await
    }

    /// Hosts that see no volume yet.
    pub(crate) async fn bare() -> World {
        let mut scenario: Scenario = serde_json::from_str(SKARHOLM).unwrap();
        scenario.machines.clear();
        scenario.hosts.iter_mut().for_each(|h| h.volumes.clear());
        World::of(scenario).await
    }

    async fn of(scenario: Scenario) -> World {
        let start = std::process::id() % 24;
        let (net, held) = (0..24)
            .map(|i| 228 + (start + i) % 24)
            .find_map(|n| {
                Some((
                    format!("127.{n}"),
                    TcpListener::bind(format!("127.{n}.0.1:7443")).ok()?,
                ))
            })
            .unwrap();
        let dir = tempfile::tempdir().unwrap();
        let settings = Settings {
            dir: dir.path().join("devices"),
            scenario,
            net: net.clone(),
            speed: 20.0,
            control: "127.0.0.1:0".parse().unwrap(),
            control_token: "journey".into(),
            announce: None,
        };
        World {
            standins: Standins::start(settings).await.unwrap(),
            net,
            dir,
            _held: held,
        }
    }

    pub(crate) fn assert_once(&self) {
        let effects = self.standins.world.effects();
        assert!(!effects.is_empty());
        assert!(effects.values().all(|n| *n == 1), "{effects:?}");
        assert_eq!(self.standins.world.violations(), Vec::<String>::new());
    }
}
