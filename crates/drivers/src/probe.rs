//! Questions that change nothing.

use crate::{
    Drivers,
    agent::{Agent, greet},
    fault::words,
    redfish::Controller,
};
use std::time::{Instant, SystemTime, UNIX_EPOCH};
use zastrugi_core::{
    estate::{Estate, Host},
    evidence::{Answer, Probe, SeenDevice},
    ids::HostId,
    runs::{Fault, FaultKind},
};

impl Drivers {
    /// Asks; a silence is an answer too.
    pub async fn probe(&self, estate: &Estate, probe: &Probe) -> Answer {
        self.try_probe(estate, probe)
            .await
            .unwrap_or_else(|fault| Answer::Silent {
                why: words(fault.said.trim_end_matches('.')),
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
            Probe::Sight(host) => {
                let host = known(estate, *host)?;
                let key = self.key_of(host).await?;
                let storage = self.agent(host, &key).storage().await?;
                let us = &self.installation().id;
                let free = |d: &SeenDevice| {
                    d.has_our_format() && d.owner.as_ref().is_none_or(|(id, _)| id == us)
                };
                Ok(Answer::Sight {
                    volumes: storage
                        .devices()
                        .into_iter()
                        .filter(|(device, _)| free(device))
                        .map(|(_, volume)| volume)
                        .collect(),
                })
            }
            Probe::Devices(host) => {
                let host = known(estate, *host)?;
                let key = self.key_of(host).await?;
                let storage = self.agent(host, &key).storage().await?;
                Ok(Answer::Devices {
                    initiator: words(&storage.initiator),
                    devices: storage.devices().into_iter().map(|(d, _)| d).collect(),
                })
            }
            Probe::SwitchGreeting(address) => self.switch_greeting(address).await,
            Probe::Mtu { network, from, to } => {
                let gone = || {
                    Fault::new(
                        FaultKind::Refused,
                        "The network is gone.",
                        "Look at the list.",
                    )
                };
                let network = estate.networks.get(network).ok_or_else(gone)?;
                let (from, to) = (known(estate, *from)?, known(estate, *to)?);
                let key = self.key_of(from).await?;
                let agent = self.agent(from, &key);
                // The probe's payload is the MTU less the headers; the agent takes the whole packet.
                let through = agent.mtu(&network.name, &to.name, network.mtu).await?;
                Ok(Answer::Mtu {
                    bytes: network.mtu,
                    through,
                })
            }
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
    pub(crate) async fn offset(&self, host: &Host) -> Result<i64, Fault> {
        let key = self.key_of(host).await?;
        let began = Instant::now();
        let theirs = self.agent(host, &key).clock().await?;
        let half = i64::try_from(began.elapsed().as_millis() / 2).unwrap_or(0);
        let ours = SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .unwrap_or_default()
            .as_millis();
        Ok(theirs + half - i64::try_from(ours).unwrap_or(0))
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
