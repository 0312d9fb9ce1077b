//! Devices on loopback addresses of their own, and the address of a test's database.

use std::net::TcpListener;
use zastrugi_standins::{SKARHOLM, Scenario, Settings, Standins};

pub(crate) struct World {
    pub(crate) standins: Standins,
    pub(crate) net: String,
    /// The port on which its hosts announce themselves.
    pub(crate) announce: Option<u16>,
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
        World::of(scenario, false).await
    }

    /// Hosts that say that they are there.
    pub(crate) async fn announcing() -> World {
        let mut scenario: Scenario = serde_json::from_str(SKARHOLM).unwrap();
        scenario.machines.clear();
        World::of(scenario, true).await
    }

    /// Hosts that see no volume yet.
    pub(crate) async fn bare() -> World {
        let mut scenario: Scenario = serde_json::from_str(SKARHOLM).unwrap();
        scenario.machines.clear();
        scenario.hosts.iter_mut().for_each(|h| h.volumes.clear());
        World::of(scenario, false).await
    }

    async fn of(scenario: Scenario, announces: bool) -> World {
        let start = std::process::id() % 24;
        let (n, net, held) = (0..24)
            .map(|i| 228 + (start + i) % 24)
            .find_map(|n| {
                Some((
                    n,
                    format!("127.{n}"),
                    TcpListener::bind(format!("127.{n}.0.1:7443")).ok()?,
                ))
            })
            .unwrap();
        let dir = tempfile::tempdir().unwrap();
        // A port of its own: others announce themselves on the same machine.
        let announce = announces.then(|| 20_000 + u16::try_from(n).unwrap());
        let settings = Settings {
            dir: dir.path().join("devices"),
            scenario,
            net: net.clone(),
            speed: 20.0,
            control: "127.0.0.1:0".parse().unwrap(),
            control_token: "journey".into(),
            announce,
        };
        World {
            standins: Standins::start(settings).await.unwrap(),
            announce,
            net,
            dir,
            _held: held,
        }
    }

    /// A directory with what hosts are installed from.
    pub(crate) fn media(&self) -> std::path::PathBuf {
        let dir = self.dir.path().join("media");
        std::fs::create_dir_all(&dir).unwrap();
        for (file, says) in [
            ("any.iso", r#"{"version": "4.2.1"}"#),
            (
                "brattholm.iso",
                r#"{"version": "4.2.1", "maker": "Brattholm"}"#,
            ),
        ] {
            let files: [(&str, &[u8]); 1] = [("IMAGE.JSN", says.as_bytes())];
            let image = zastrugi_formats::iso9660::write("INSTALL", &files).unwrap();
            std::fs::write(dir.join(file), image).unwrap();
        }
        dir
    }

    pub(crate) fn assert_once(&self) {
        let effects = self.standins.world.effects();
        assert!(!effects.is_empty());
        assert!(effects.values().all(|n| *n == 1), "{effects:?}");
        assert_eq!(self.standins.world.violations(), Vec::<String>::new());
    }
}
