//! The calls of the agent's protocol.

use super::{
    measured::{WireCopy, WireMove},
    wire::{Greeting, Machine, Report, Storage, WireImage, WirePath, limited},
};
use crate::{
    fault::garbled,
    http::{Call, Http, Watch},
    perform::Installation,
};
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;
use zastrugi_core::{
    epoch::Epoch,
    estate::{Boot, Machine as OurMachine, Memory, Network, Provisioning},
    evidence,
    ids::Revision,
    loads::MachineLoad,
    observe::HostReport,
    rooms::edits::Set,
    runs::Fault,
    units::{Bytes, Mhz},
};

/// An agent at an address, with the certificate that it must show and the key that we must.
pub(crate) struct Agent<'a> {
    pub(crate) http: &'a Http,
    pub(crate) address: &'a str,
    pub(crate) pin: &'a str,
    pub(crate) key: &'a str,
}

/// Which step asks, for the agent to recognise a repetition and an outdated caller.
#[derive(Clone, Copy)]
pub(crate) struct Stamp<'a> {
    pub(crate) key: &'a str,
    pub(crate) epoch: Epoch,
    pub(crate) fence: Revision,
}

#[derive(Deserialize)]
pub(crate) struct Claimed {
    pub(crate) key: String,
    pub(crate) bmc: Option<ClaimedBmc>,
    pub(crate) state: Report,
}

#[derive(Deserialize)]
pub(crate) struct ClaimedBmc {
    pub(crate) address: String,
    pub(crate) password: String,
    pub(crate) pin: String,
}

#[derive(Deserialize)]
pub(crate) struct Seen {
    pub(crate) machines: Vec<Machine>,
    #[serde(default)]
    pub(crate) images: Vec<WireImage>,
    /// How the host reaches the volume that it mounted.
    #[serde(default)]
    pub(crate) paths: Vec<WirePath>,
}

#[derive(Deserialize)]
pub(crate) struct LoggedIn {
    #[serde(rename = "in")]
    pub(crate) live: Vec<String>,
    #[serde(default)]
    pub(crate) dead: Vec<String>,
}

/// An image as its volume has it.
#[derive(Deserialize)]
pub(crate) struct FileSeen {
    pub(crate) received: u64,
    #[serde(default)]
    pub(crate) sha256: Option<String>,
}

#[derive(Deserialize)]
struct Received {
    received: u64,
}

#[derive(Deserialize)]
pub(crate) struct Awaited {
    pub(crate) address: String,
    pub(crate) ticket: String,
}

#[derive(Deserialize)]
pub(crate) struct Made {
    pub(crate) guest_key: String,
}

/// A machine's network cards as an agent takes them, and the seed that its guest reads.
pub(crate) struct Cards {
    pub(crate) nics: Vec<Value>,
    /// An ISO 9660 image in base64.
    pub(crate) seed: String,
}

/// What a machine boots from, as an agent takes it.
pub(crate) fn boot(boot: &Boot, image: Option<(&str, &Uuid)>) -> Value {
    let image = image.map(|(volume, id)| json!({"volume": volume, "id": id}));
    json!({"image": image, "order": boot.order, "once": boot.once})
}

/// Loads as the agent measured them.
#[derive(Debug, Clone)]
pub struct Sample {
    pub cpu: Mhz,
    pub active: Bytes,
    pub machines: Vec<(Uuid, MachineLoad)>,
    pub screens: Vec<KeptScreen>,
}

/// A picture of a screen that a host kept when something ended it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptScreen {
    pub machine: Uuid,
    pub number: i64,
    pub why: String,
}

impl Agent<'_> {
    fn ask(
        &self,
        method: Method,
        path: impl Into<String>,
        stamp: Option<Stamp<'_>>,
        body: Option<Value>,
    ) -> Call<'_> {
        let mut headers = Vec::new();
        if !self.key.is_empty() {
            headers.push(("authorization", format!("Bearer {}", self.key)));
        }
        if let Some(stamp) = stamp {
            headers.push(("step-key", stamp.key.to_owned()));
            let Epoch { number, history } = stamp.epoch;
            headers.push(("epoch", format!("{number}.{}", history.simple())));
            headers.push(("fence", stamp.fence.0.to_string()));
        }
        Call {
            address: self.address,
            pin: self.pin,
            method,
            path: path.into(),
            headers,
            body,
            bytes: None,
        }
    }

    pub(crate) async fn claim(
        &self,
        stamp: Stamp<'_>,
        who: &Installation,
        password: &str,
    ) -> Result<Claimed, Fault> {
        let body = json!({"installation": who.id, "name": who.name, "password": password});
        self.http
            .call(self.ask(Method::POST, "/v1/claim", Some(stamp), Some(body)))
            .await
    }
    pub(crate) async fn check_password(&self, password: &str) -> Result<(), Fault> {
        let body = json!({"password": password});
        self.http
            .call::<Value>(self.ask(Method::POST, "/v1/password-check", None, Some(body)))
            .await
            .map(drop)
    }
    pub(crate) async fn release(&self, stamp: Stamp<'_>) -> Result<(), Fault> {
        self.http
            .call::<Value>(self.ask(Method::POST, "/v1/release", Some(stamp), Some(json!({}))))
            .await
            .map(drop)
    }
    /// Milliseconds since 1970 on the host's own clock.
    pub(crate) async fn clock(&self) -> Result<i64, Fault> {
        let said: Value = self
            .http
            .call(self.ask(Method::GET, "/v1/clock", None, None))
            .await?;
        said.get("unix_ms")
            .and_then(Value::as_i64)
            .ok_or_else(|| garbled(self.address, "no time in it"))
    }
    pub(crate) async fn join(
        &self,
        stamp: Stamp<'_>,
        cluster: &str,
        volume: Option<&str>,
    ) -> Result<Seen, Fault> {
        let body = json!({"name": cluster, "volume": volume});
        self.http
            .call(self.ask(Method::PUT, "/v1/cluster", Some(stamp), Some(body)))
            .await
    }
    /// What is offered to the host, mounted or not.
    pub(crate) async fn storage(&self) -> Result<Storage, Fault> {
        self.http
            .call(self.ask(Method::GET, "/v1/storage", None, None))
            .await
    }
    /// Logs in on every portal that answers; says which did and which didn't.
    pub(crate) async fn log_in(
        &self,
        stamp: Stamp<'_>,
        portals: &[String],
    ) -> Result<LoggedIn, Fault> {
        let body = json!({"portals": portals});
        self.http
            .call(self.ask(Method::PUT, "/v1/storage/logins", Some(stamp), Some(body)))
            .await
    }
    async fn at_volume(
        &self,
        method: Method,
        stamp: Stamp<'_>,
        uid: &str,
        what: &str,
        body: Value,
    ) -> Result<Value, Fault> {
        let path = format!("/v1/volumes/{uid}/{what}");
        self.http
            .call(self.ask(method, path, Some(stamp), Some(body)))
            .await
    }
    pub(crate) async fn format(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        name: &str,
        cluster: &str,
    ) -> Result<(), Fault> {
        let body = json!({"name": name, "cluster": cluster});
        self.at_volume(Method::POST, stamp, uid, "format", body)
            .await
            .map(drop)
    }
    pub(crate) async fn take(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        cluster: &str,
        over: Option<&str>,
    ) -> Result<(), Fault> {
        let body = json!({"cluster": cluster, "over": over});
        self.at_volume(Method::PUT, stamp, uid, "owner", body)
            .await
            .map(drop)
    }
    pub(crate) async fn set_network(
        &self,
        stamp: Stamp<'_>,
        network: &Network,
    ) -> Result<(), Fault> {
        let body = json!({"vlan": network.vlan, "mtu": network.mtu, "uplinks": network.uplinks});
        let path = format!("/v1/networks/{}", network.name);
        self.http
            .call::<Value>(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
            .map(drop)
    }
    pub(crate) async fn drop_network(
        &self,
        stamp: Stamp<'_>,
        network: &Network,
    ) -> Result<(), Fault> {
        let path = format!("/v1/networks/{}", network.name);
        self.http
            .call::<Value>(self.ask(Method::DELETE, path, Some(stamp), None))
            .await
            .map(drop)
    }
    /// Whether a packet of this size gets to the other host on the network, unfragmented.
    pub(crate) async fn mtu(&self, network: &str, to: &str, bytes: u32) -> Result<bool, Fault> {
        let body = json!({"network": network, "to": to, "bytes": bytes});
        let said: Value = self
            .http
            .call(self.ask(Method::POST, "/v1/mtu-probe", None, Some(body)))
            .await?;
        said.get("through")
            .and_then(Value::as_bool)
            .ok_or_else(|| garbled(self.address, "no word of the packet"))
    }
    pub(crate) async fn disown(&self, stamp: Stamp<'_>, uid: &str) -> Result<(), Fault> {
        self.at_volume(Method::DELETE, stamp, uid, "owner", json!({}))
            .await
            .map(drop)
    }
    pub(crate) async fn mount(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        cluster: &str,
    ) -> Result<Seen, Fault> {
        let path = format!("/v1/volumes/{uid}/mount");
        let body = json!({"cluster": cluster});
        self.http
            .call(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
    }
    pub(crate) async fn unmount(&self, stamp: Stamp<'_>, uid: &str) -> Result<(), Fault> {
        self.at_volume(Method::DELETE, stamp, uid, "mount", json!({}))
            .await
            .map(drop)
    }
    pub(crate) async fn fill(&self, stamp: Stamp<'_>, uid: &str) -> Result<(), Fault> {
        self.at_volume(Method::POST, stamp, uid, "grow", json!({}))
            .await
            .map(drop)
    }
    pub(crate) async fn make_image(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        image: &Uuid,
        name: &str,
        size: Bytes,
    ) -> Result<(), Fault> {
        let body = json!({"name": name, "size": size.0});
        let path = format!("/v1/volumes/{uid}/images/{image}");
        self.http
            .call::<Value>(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
            .map(drop)
    }
    pub(crate) async fn image(&self, uid: &str, image: &Uuid) -> Result<FileSeen, Fault> {
        let path = format!("/v1/volumes/{uid}/images/{image}");
        self.http
            .call(self.ask(Method::GET, path, None, None))
            .await
    }
    /// Answers how many bytes are there then.
    pub(crate) async fn append(
        &self,
        uid: &str,
        image: &Uuid,
        from: u64,
        bytes: bytes::Bytes,
    ) -> Result<u64, Fault> {
        let path = format!("/v1/volumes/{uid}/images/{image}/bytes?from={from}");
        let call = Call {
            bytes: Some(bytes),
            ..self.ask(Method::PUT, path, None, None)
        };
        let said: Received = self.http.call(call).await?;
        Ok(said.received)
    }
    pub(crate) async fn read_image(
        &self,
        uid: &str,
        image: &Uuid,
        from: u64,
        length: usize,
    ) -> Result<Vec<u8>, Fault> {
        let path = format!("/v1/volumes/{uid}/images/{image}/bytes?from={from}&length={length}");
        self.http
            .fetch(&self.ask(Method::GET, path, None, None))
            .await
    }
    /// Answers the SHA-256 of what lies there.
    pub(crate) async fn seal_image(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        image: &Uuid,
    ) -> Result<String, Fault> {
        let path = format!("/v1/volumes/{uid}/images/{image}/seal");
        let said: FileSeen = self
            .http
            .call(self.ask(Method::POST, path, Some(stamp), Some(json!({}))))
            .await?;
        said.sha256
            .map(|s| limited(s).to_lowercase())
            .ok_or_else(|| garbled(self.address, "no checksum"))
    }
    pub(crate) async fn drop_image(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        image: &Uuid,
    ) -> Result<(), Fault> {
        let path = format!("/v1/volumes/{uid}/images/{image}");
        self.http
            .call::<Value>(self.ask(Method::DELETE, path, Some(stamp), None))
            .await
            .map(drop)
    }
    pub(crate) async fn leave(&self, stamp: Stamp<'_>) -> Result<(), Fault> {
        self.http
            .call::<Value>(self.ask(Method::DELETE, "/v1/cluster", Some(stamp), None))
            .await
            .map(drop)
    }
    pub(crate) async fn machine(&self, uuid: &Uuid) -> Result<Machine, Fault> {
        self.http
            .call(self.ask(Method::GET, format!("/v1/machines/{uuid}"), None, None))
            .await
    }
    /// The machine, if there is one.
    pub(crate) async fn machine_if_any(&self, uuid: &Uuid) -> Result<Option<Machine>, Fault> {
        let call = self.ask(Method::GET, format!("/v1/machines/{uuid}"), None, None);
        self.http.call_if_found(call).await
    }
    pub(crate) async fn create(
        &self,
        stamp: Stamp<'_>,
        machine: &OurMachine,
        volume: &str,
        cards: &Cards,
        boot: Value,
    ) -> Result<Made, Fault> {
        let disks: Vec<Value> = machine
            .disks
            .iter()
            .map(|d| json!({"size": d.size.0, "thick": d.provisioning == Provisioning::Thick}))
            .collect();
        let body = json!({
            "volume": volume, "name": machine.name, "vcpus": machine.vcpus, "memory": memory(&machine.memory),
            "video": machine.video.0, "disks": disks, "nics": cards.nics, "seed": cards.seed, "labels": machine.labels, "tier": machine.tier,
            "apart": machine.apart, "protected": machine.protected, "note": machine.note,
            "virtual_hardware": machine.virtual_hardware, "boot": boot
        });
        let path = format!("/v1/machines/{}", machine.uuid);
        self.http
            .call(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
    }
    pub(crate) async fn rewrite(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        sets: &[Set],
        boot: Option<Value>,
    ) -> Result<(), Fault> {
        let mut body = json!({});
        if let Some(boot) = boot {
            body["boot"] = boot;
        }
        for set in sets {
            match set {
                Set::Name(name) => body["name"] = json!(name),
                Set::VCpus(n) => body["vcpus"] = json!(n),
                Set::Memory(m) => body["memory"] = memory(m),
                _ => {}
            }
        }
        self.patch(stamp, uuid, body).await
    }
    pub(crate) async fn set_deleted(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        deleted: bool,
    ) -> Result<(), Fault> {
        self.patch(stamp, uuid, json!({"deleted": deleted})).await
    }
    async fn patch(&self, stamp: Stamp<'_>, uuid: &Uuid, body: Value) -> Result<(), Fault> {
        let call = self.ask(
            Method::PATCH,
            format!("/v1/machines/{uuid}"),
            Some(stamp),
            Some(body),
        );
        self.http.call::<Value>(call).await.map(drop)
    }
    pub(crate) async fn remove(&self, stamp: Stamp<'_>, uuid: &Uuid) -> Result<(), Fault> {
        let call = self.ask(
            Method::DELETE,
            format!("/v1/machines/{uuid}"),
            Some(stamp),
            None,
        );
        self.http.call::<Value>(call).await.map(drop)
    }
    /// `act`: `on` (with a higher generation), `stop` or `off`. Answers the machine as it is then.
    pub(crate) async fn power(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        act: &str,
        generation: u64,
    ) -> Result<Value, Fault> {
        let body = json!({"act": act, "generation": generation});
        let path = format!("/v1/machines/{uuid}/power");
        self.http
            .call(self.ask(Method::POST, path, Some(stamp), Some(body)))
            .await
    }
    /// Asks the destination to await a machine; answers where, and the word that its source must say.
    pub(crate) async fn arrive(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        from: &str,
    ) -> Result<Awaited, Fault> {
        let body = json!({"from": from});
        let path = format!("/v1/machines/{uuid}/arrival");
        self.http
            .call(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
    }
    pub(crate) async fn send_machine(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        body: Value,
    ) -> Result<WireMove, Fault> {
        let path = format!("/v1/machines/{uuid}/move");
        self.http
            .call(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
    }
    pub(crate) async fn console(&self, uuid: &Uuid, from: u64) -> Result<Watch, Fault> {
        let path = format!("/v1/machines/{uuid}/console?from={from}");
        self.http
            .follow(self.ask(Method::GET, path, None, None))
            .await
    }
    pub(crate) async fn type_text(&self, uuid: &Uuid, text: &str) -> Result<(), Fault> {
        let path = format!("/v1/machines/{uuid}/console");
        let body = json!({"text": text});
        self.http
            .call::<Value>(self.ask(Method::POST, path, None, Some(body)))
            .await
            .map(drop)
    }
    pub(crate) async fn copying(&self, uuid: &Uuid) -> Result<WireCopy, Fault> {
        let path = format!("/v1/machines/{uuid}/disks");
        self.http
            .call(self.ask(Method::GET, path, None, None))
            .await
    }
    pub(crate) async fn copy_disks(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
        to: &str,
    ) -> Result<WireCopy, Fault> {
        let path = format!("/v1/machines/{uuid}/disks");
        let body = json!({"to": to});
        self.http
            .call(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
    }
    pub(crate) async fn stop_copying(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
    ) -> Result<WireCopy, Fault> {
        let path = format!("/v1/machines/{uuid}/disks");
        self.http
            .call(self.ask(Method::DELETE, path, Some(stamp), None))
            .await
    }
    pub(crate) async fn resize_terminal(
        &self,
        uuid: &Uuid,
        columns: u16,
        rows: u16,
    ) -> Result<(), Fault> {
        let path = format!("/v1/machines/{uuid}/console");
        let body = json!({"columns": columns, "rows": rows});
        self.http
            .call::<Value>(self.ask(Method::POST, path, None, Some(body)))
            .await
            .map(drop)
    }
    pub(crate) async fn screen(
        &self,
        uuid: &Uuid,
        keyboard: &str,
    ) -> Result<reqwest::Upgraded, Fault> {
        let path = format!("/v1/machines/{uuid}/screen?keyboard={keyboard}");
        let mut call = self.ask(Method::GET, path, None, None);
        call.headers.push(("connection", "upgrade".into()));
        call.headers.push(("upgrade", "rfb".into()));
        self.http.upgrade(&call).await
    }
    pub(crate) async fn picture(&self, uuid: &Uuid, kept: Option<i64>) -> Result<Vec<u8>, Fault> {
        let which = kept.map_or_else(String::new, |number| format!("?kept={number}"));
        let path = format!("/v1/machines/{uuid}/picture{which}");
        self.http
            .fetch(&self.ask(Method::GET, path, None, None))
            .await
    }
    pub(crate) async fn sending(&self, uuid: &Uuid) -> Result<WireMove, Fault> {
        let path = format!("/v1/machines/{uuid}/move");
        self.http
            .call(self.ask(Method::GET, path, None, None))
            .await
    }
    pub(crate) async fn stop_sending(
        &self,
        stamp: Stamp<'_>,
        uuid: &Uuid,
    ) -> Result<WireMove, Fault> {
        let path = format!("/v1/machines/{uuid}/move");
        self.http
            .call(self.ask(Method::DELETE, path, Some(stamp), None))
            .await
    }
    pub(crate) async fn watch(&self) -> Result<Watch, Fault> {
        self.http
            .follow(self.ask(Method::GET, "/v1/events", None, None))
            .await
    }
}

fn memory(memory: &Memory) -> Value {
    json!({"kept": memory.kept.0, "size": memory.size.0, "max": memory.max.0})
}

impl Watch {
    /// The host's next report. An agent speaks at least every second; five seconds of silence are a fault.
    ///
    /// # Errors
    /// [`Fault`] when the stream ends, is silent, or makes no sense.
    pub async fn report(&mut self) -> Result<(HostReport, Sample), Fault> {
        let mut report: Report = self.next(Duration::from_secs(5)).await?;
        let load = std::mem::take(&mut report.load);
        let screens = std::mem::take(&mut report.screens);
        let sample = Sample {
            cpu: Mhz(load.cpu_mhz),
            active: Bytes(load.active),
            machines: load
                .machines
                .into_iter()
                .map(|(uuid, l)| (uuid, l.read()))
                .collect(),
            screens: screens.iter().take(SCREENS).map(kept).collect(),
        };
        Ok((report.read(), sample))
    }
}

/// Kept pictures of one host that are looked at.
const SCREENS: usize = 500;

fn kept(screen: &super::wire::WireScreen) -> KeptScreen {
    KeptScreen {
        machine: screen.uuid,
        number: screen.number,
        why: screen.why(),
    }
}

/// Who is at `address`? Nothing secret is sent.
pub(crate) async fn greet(http: &Http, address: &str) -> Result<evidence::Greeting, Fault> {
    let (said, pin) = http.greet::<Greeting>(address, "/v1/greeting").await?;
    if said.protocol != 1 {
        return Err(garbled(address, &format!("protocol {}", said.protocol)));
    }
    Ok(evidence::Greeting {
        name: limited(said.name),
        pin,
        hardware: said.hardware.read().map_err(|why| garbled(address, &why))?,
        software: limited(said.software),
        owner: said
            .owner
            .map(|o| (limited(o.installation), limited(o.name))),
        machines: said.machines.into_iter().take(500).map(limited).collect(),
        bmc: said.bmc.map(limited),
    })
}
