//! Questions that change nothing.

use crate::{
    Drivers,
    agent::{Agent, greet},
    fault::words,
    redfish::{Controller, Ways},
};
use std::{
    net::IpAddr,
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};
use zastrugi_core::{
    estate::{Estate, Host},
    evidence::{Answer, Probe, SeenDevice},
    ids::{HostId, NetworkId, SecretRef},
    runs::{Fault, FaultKind},
};

/// A clock is read so often; the answer that came quickest says most of it (RFC 5905, section 10).
const READINGS: usize = 5;
/// One that came so quickly is believed at once.
const SHARP: Duration = Duration::from_millis(20);

impl Drivers {
    /// Asks; a silence is an answer too.
    pub async fn probe(&self, estate: &Estate, probe: &Probe) -> Answer {
        self.try_probe(estate, probe)
            .await
            .unwrap_or_else(|fault| Answer::Silent {
                why: words(fault.said.trim_end_matches('.')),
            })
    }

    async fn round_trip(&self, estate: &Estate, from: HostId, to: HostId) -> Result<Answer, Fault> {
        let (from, to) = (known(estate, from)?, known(estate, to)?);
        let key = self.key_of(from).await?;
        let micros = self
            .agent(from, &key)
            .round_trip(&to.access.address)
            .await?;
        Ok(Answer::RoundTrip { micros })
    }

    /// Volumes that a host sees and that are ours or nobody's.
    async fn sight(&self, host: &Host) -> Result<Answer, Fault> {
        let key = self.key_of(host).await?;
        let storage = self.agent(host, &key).storage().await?;
        let us = &self.installation().id;
        let free =
            |d: &SeenDevice| d.has_our_format() && d.owner.as_ref().is_none_or(|(id, _)| id == us);
        Ok(Answer::Sight {
            volumes: storage
                .devices()
                .into_iter()
                .filter(|(device, _)| free(device))
                .map(|(_, volume)| volume)
                .collect(),
        })
    }

    async fn try_probe(&self, estate: &Estate, probe: &Probe) -> Result<Answer, Fault> {
        match probe {
            Probe::Greeting(address) => {
                self.allowed(address)?;
                Ok(Answer::Greeting(Box::new(
                    greet(&self.http, address).await?,
                )))
            }
            Probe::Clock(host) => Ok(Answer::Clock {
                offset_ms: self.offset(known(estate, *host)?).await?,
            }),
            Probe::Bmc(host) => self.bmc(known(estate, *host)?).await,
            Probe::Sight(host) => self.sight(known(estate, *host)?).await,
            Probe::Devices(host) => {
                let host = known(estate, *host)?;
                let key = self.key_of(host).await?;
                let storage = self.agent(host, &key).storage().await?;
                Ok(Answer::Devices {
                    initiator: words(&storage.initiator),
                    devices: storage.devices().into_iter().map(|(d, _)| d).collect(),
                })
            }
            Probe::StoreGreeting(address) => self.store_greeting(address).await,
            Probe::BalancerGreeting(address) => self.balancer_greeting(address).await,
            Probe::SwitchGreeting(address) => self.switch_greeting(address).await,
            Probe::RoundTrip { from, to } => self.round_trip(estate, *from, *to).await,
            Probe::Mtu { network, from, to } => self.mtu(estate, *network, *from, *to).await,
            Probe::ControllerGreeting(address) => self.controller_greeting(address).await,
            Probe::Beneath {
                address,
                pin,
                user,
                password,
            } => self.beneath(address, pin, user, *password).await,
            Probe::Inventory {
                address,
                pin,
                password,
            } => self.inventory(address, pin, *password).await,
            Probe::Installations => Ok(self.installations().await),
            Probe::Exports => Ok(self.exports.list()),
            Probe::Zone { server, zone } => self.zone_at(server, zone).await,
            Probe::Named {
                server,
                name,
                address,
            } => self.named_at(server, name, *address).await,
            Probe::Neighbour {
                network,
                host,
                address,
            } => self.neighbour(estate, *network, *host, *address).await,
            Probe::Layers(machine) => self.layers_of(estate, *machine).await,
            Probe::Point(at) => self.kept_in(estate, *at).await,
            Probe::Package(image) => self.package_of(estate, *image).await,
            Probe::Time(source) => self.time_of(source).await,
            Probe::ArrayGreeting(address) => self.array_greeting(address).await,
            Probe::Luns(array) => {
                let gone = || {
                    Fault::new(
                        FaultKind::Refused,
                        "The array is gone.",
                        "Look at the list.",
                    )
                };
                let array = estate.arrays.get(array).ok_or_else(gone)?;
                Ok(Answer::Luns {
                    luns: self.luns(array).await?,
                })
            }
        }
    }

    /// Who answers there before anybody has signed in.
    async fn controller_greeting(&self, address: &str) -> Result<Answer, Fault> {
        #[derive(serde::Deserialize)]
        #[serde(rename_all = "PascalCase")]
        struct Root {
            #[serde(default)]
            product: Option<String>,
            #[serde(default)]
            name: Option<String>,
            redfish_version: String,
        }
        self.allowed(address)?;
        let (root, pin) = self.http.greet::<Root>(address, "/redfish/v1/").await?;
        let name = root.product.or(root.name).unwrap_or_default();
        let name = words(&format!("{name}, Redfish {}", root.redfish_version));
        Ok(Answer::Manager { name, pin })
    }

    async fn neighbour(
        &self,
        estate: &Estate,
        network: NetworkId,
        host: HostId,
        address: IpAddr,
    ) -> Result<Answer, Fault> {
        let gone = || {
            let said = "The network is gone.";
            Fault::new(FaultKind::Refused, said, "Look at the list.")
        };
        let network = estate.networks.get(&network).ok_or_else(gone)?;
        let host = known(estate, host)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let mut heard = agent.neighbours(&network.name, &[address]).await?;
        Ok(Answer::Neighbour {
            mac: heard.remove(&address),
        })
    }

    async fn mtu(
        &self,
        estate: &Estate,
        network: NetworkId,
        from: HostId,
        to: HostId,
    ) -> Result<Answer, Fault> {
        let gone = || {
            Fault::new(
                FaultKind::Refused,
                "The network is gone.",
                "Look at the list.",
            )
        };
        let network = estate.networks.get(&network).ok_or_else(gone)?;
        let (from, to) = (known(estate, from)?, known(estate, to)?);
        let key = self.key_of(from).await?;
        let agent = self.agent(from, &key);
        // The probe's payload is the MTU less the headers; the agent takes the whole packet.
        let through = agent.mtu(&network.name, &to.name, network.mtu).await?;
        Ok(Answer::Mtu {
            bytes: network.mtu,
            through,
        })
    }

    /// Reading a directory may take a while: not on a thread that others need.
    async fn installations(&self) -> Answer {
        let dir = self.media.dir.clone();
        let list = move || crate::media::list(dir.as_deref());
        let read = tokio::task::spawn_blocking(list).await;
        read.unwrap_or_else(|_| Answer::Silent {
            why: "reading it was broken off".into(),
        })
    }

    /// A password that is refused is an answer: it is not tried again as long as that is known.
    async fn beneath(
        &self,
        address: &str,
        pin: &str,
        user: &str,
        password: SecretRef,
    ) -> Result<Answer, Fault> {
        self.allowed(address)?;
        // A session that somebody opened with another password says nothing of this one.
        let ways = Ways::default();
        let controller = Controller {
            host: address,
            serial: "",
            http: &self.http,
            ways: &ways,
            resets: &self.resets,
            address,
            pin,
            user,
            password: self.secrets.open(password).await?,
        };
        match controller.beneath().await {
            Ok(beneath) => Ok(Answer::Beneath(Box::new(beneath))),
            Err(fault) if fault.kind == FaultKind::Password => Ok(Answer::Refused {
                why: words(fault.said.trim_end_matches('.')),
            }),
            Err(fault) => Err(fault),
        }
    }

    /// Checks a first password once, before a run is started with it.
    ///
    /// # Errors
    /// The device's refusal, or why it did not answer.
    pub async fn check_password(
        &self,
        address: &str,
        pin: &str,
        password: &str,
    ) -> Result<(), Fault> {
        self.allowed(address)?;
        Agent {
            name: address,
            http: &self.http,
            address,
            pin,
            key: "",
        }
        .check_password(password)
        .await
    }

    /// The host's clock minus ours at the middle of the exchange, in milliseconds.
    /// How far a host's clock is from ours, as far as that is certain: an answer that took long says little, and by as much as half
    /// of that the clock may be right all the same (RFC 5905, section 10).
    pub(crate) async fn offset(&self, host: &Host) -> Result<i64, Fault> {
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let mut best: Option<(Duration, i64)> = None;
        for _ in 0..READINGS {
            let began = Instant::now();
            let theirs = agent.clock().await?;
            let took = began.elapsed();
            let half = i64::try_from(took.as_millis() / 2).unwrap_or(0);
            let ours = SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .unwrap_or_default()
                .as_millis();
            let offset = theirs + half - i64::try_from(ours).unwrap_or(0);
            let certain = (offset.abs() - half).max(0) * offset.signum();
            if best.is_none_or(|(least, _)| took < least) {
                best = Some((took, certain));
            }
            if took < SHARP {
                break;
            }
        }
        Ok(best.map_or(0, |(_, certain)| certain))
    }

    pub(crate) async fn controller<'a>(&'a self, host: &'a Host) -> Result<Controller<'a>, Fault> {
        let none = || {
            Fault::new(
                FaultKind::Refused,
                "No controller is known.",
                "Claim the host again.",
            )
        };
        let bmc = host.bmc.as_ref().ok_or_else(none)?;
        self.allowed(&bmc.address)?;
        Ok(Controller {
            host: &host.name,
            serial: &host.hardware.serial,
            http: &self.http,
            ways: &self.ways,
            resets: &self.resets,
            address: &bmc.address,
            pin: &bmc.pin,
            user: &bmc.user,
            password: self.secrets.open(bmc.key.ok_or_else(none)?).await?,
        })
    }

    pub(crate) async fn bmc(&self, host: &Host) -> Result<Answer, Fault> {
        let system = self.controller(host).await?.system().await?;
        Ok(Answer::Bmc {
            power: system.power_state,
            serial: system.serial_number,
        })
    }
}

fn known(estate: &Estate, host: HostId) -> Result<&Host, Fault> {
    let gone = || {
        Fault::new(
            FaultKind::Refused,
            format!("{host} is gone."),
            "Look at the list of hosts.",
        )
    };
    estate.hosts.get(&host).map(|h| &**h).ok_or_else(gone)
}
