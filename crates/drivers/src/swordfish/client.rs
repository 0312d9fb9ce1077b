//! The calls, and the values as an array sends them.

use super::{classes::Classes, made::Wanted};
use crate::{
    agent::limited,
    fault::garbled,
    http::{Call, Http},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::Method;
use serde::{Deserialize, de::DeserializeOwned};
use serde_json::{Value, json};
use zastrugi_core::{
    estate::{Array, ArrayKind, Controller, Pool},
    evidence::SeenLun,
    limits,
    observe::figure,
    runs::{Fault, FaultKind},
    units::Bytes,
};

pub(super) const ROOT: &str = "/redfish/v1";

/// An array's management, signed in.
pub(crate) struct Keeper<'a> {
    pub(crate) http: &'a Http,
    pub(crate) array: &'a Array,
    pub(crate) password: &'a str,
    /// The step's key, for the array's own log.
    pub(crate) key: &'a str,
}

#[derive(Deserialize)]
struct Members<T> {
    #[serde(rename = "Members")]
    members: Vec<T>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(super) struct Chassis {
    pub(super) manufacturer: String,
    pub(super) model: String,
    pub(super) serial_number: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct WirePool {
    name: String,
    capacity: Capacity,
    #[serde(default)]
    default_class_of_service: Option<Link>,
}
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Capacity {
    data: Data,
}
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Data {
    allocated_bytes: u64,
    consumed_bytes: u64,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Identifier {
    durable_name: String,
}

#[derive(Deserialize)]
pub(super) struct Link {
    #[serde(rename = "@odata.id")]
    id: String,
}

impl Link {
    pub(super) fn last(&self) -> String {
        limited(self.id.rsplit('/').next().unwrap_or_default().to_owned())
    }
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(super) struct WireVolume {
    id: String,
    name: String,
    capacity_bytes: u64,
    capacity: Capacity,
    identifiers: Vec<Identifier>,
    #[serde(default)]
    capacity_sources: Vec<Source>,
    #[serde(default)]
    links: VolumeLinks,
}

#[derive(Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
struct VolumeLinks {
    class_of_service: Option<Link>,
    consistency_groups: Vec<Link>,
}
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Source {
    providing_pools: Members<Link>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(super) struct WireEndpoint {
    pub(super) id: String,
    connected_entities: Vec<Entity>,
    #[serde(default)]
    identifiers: Vec<Identifier>,
    #[serde(default, rename = "IPTransportDetails")]
    transports: Vec<Transport>,
}
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Entity {
    entity_role: String,
}
#[derive(Deserialize)]
struct Transport {
    #[serde(rename = "IPv4Address")]
    address: TransportAddress,
    #[serde(rename = "Port")]
    port: u16,
}
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct TransportAddress {
    address: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct WireConnection {
    id: String,
    volume_info: Vec<VolumeInfo>,
    links: ConnectionLinks,
}
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct VolumeInfo {
    volume: Link,
}
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct ConnectionLinks {
    initiator_endpoints: Vec<Link>,
}

/// Who may reach what: number, the volume's number, the initiator's number.
pub(super) struct Mapping {
    pub(super) id: String,
    pub(super) lun: String,
    pub(super) initiator: String,
}

/// Initiators by number and name, and portals.
pub(super) struct Fabric {
    pub(super) initiators: Vec<(String, String)>,
    pub(super) portals: Vec<String>,
}

impl Keeper<'_> {
    fn call_at(
        &self,
        at: &Controller,
        method: Method,
        path: &str,
        body: Option<Value>,
    ) -> Call<'_> {
        let basic = BASE64_STANDARD.encode(format!("{}:{}", self.array.user, self.password));
        let mut headers = vec![("authorization", format!("Basic {basic}"))];
        if !self.key.is_empty() {
            headers.push(("step-key", self.key.to_owned()));
        }
        let own = self
            .array
            .controllers
            .iter()
            .find(|c| c.address == at.address);
        let all = &self.array.controllers;
        let number = all.iter().position(|c| c.address == at.address);
        Call {
            who: format!(
                "Controller {} of {}",
                number.unwrap_or(0) + 1,
                self.array.name
            ),
            address: own.map_or("", |c| c.address.as_str()),
            pin: own.map_or("", |c| c.pin.as_str()),
            method,
            path: format!("{ROOT}{path}"),
            headers,
            body,
            bytes: None,
        }
    }

    /// Asks one controller who it is.
    pub(super) async fn chassis(&self, at: &Controller) -> Result<Chassis, Fault> {
        let said: Chassis = self
            .http
            .call(self.call_at(at, Method::GET, "/Chassis/1", None))
            .await?;
        Ok(Chassis {
            manufacturer: limited(said.manufacturer),
            model: limited(said.model),
            serial_number: limited(said.serial_number),
        })
    }

    /// The controllers, those that were silent last time at the end.
    fn in_order(&self) -> Vec<&Controller> {
        let mut order: Vec<&Controller> = self.array.controllers.iter().collect();
        order.sort_by_key(|c| c.silent.is_some());
        order
    }

    /// By the first controller that answers. Only for what may be asked twice.
    pub(super) async fn any<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: Option<Value>,
    ) -> Result<T, Fault> {
        let mut last = no_address();
        for controller in self.in_order() {
            let call = self.call_at(controller, method.clone(), path, body.clone());
            match self.http.call(call).await {
                Ok(said) => return Ok(said),
                Err(fault) if gave_no_answer(&fault) => last = fault,
                Err(fault) => return Err(fault),
            }
        }
        Err(last)
    }

    /// Makes something by the first controller that answers. One that took the call and gave no answer may have made it:
    /// before another is asked, it is looked for.
    pub(super) async fn make_once<W: Wanted>(&self, wanted: &W) -> Result<W::Made, Fault> {
        let (path, body) = wanted.order(self);
        let mut last = no_address();
        let mut array = self.array.clone();
        for controller in self.in_order() {
            let call = self.call_at(controller, Method::POST, path, Some(body.clone()));
            match self.http.call(call).await {
                Ok(said) => return Ok(W::read(said)),
                Err(fault) if gave_no_answer(&fault) => last = fault,
                Err(fault) => return Err(fault),
            }
            let asked = array.controllers.iter_mut();
            for same in asked.filter(|c| c.address == controller.address) {
                same.silent = Some(last.said.clone());
            }
            if last.kind != FaultKind::Unreachable {
                let others = Keeper {
                    array: &array,
                    ..*self
                };
                if let Some(made) = wanted.look(&others).await? {
                    return Ok(made);
                }
            }
        }
        Err(last)
    }

    async fn members<T: DeserializeOwned>(&self, path: &str) -> Result<Vec<T>, Fault> {
        let said: Members<T> = self.any(Method::GET, path, None).await?;
        Ok(said.members)
    }

    pub(super) fn volumes_path(&self) -> &'static str {
        match self.array.kind {
            ArrayKind::Block => "/Storage/1/Volumes",
            ArrayKind::File => "/Storage/1/FileSystems",
        }
    }

    /// The same; none where there is no such thing.
    pub(super) async fn members_if_any<T: DeserializeOwned>(
        &self,
        path: &str,
    ) -> Result<Option<Vec<T>>, Fault> {
        let mut last = no_address();
        for controller in self.in_order() {
            let call = self.call_at(controller, Method::GET, path, None);
            match self.http.call_if_found::<Members<T>>(call).await {
                Ok(said) => return Ok(said.map(|all| all.members)),
                Err(fault) if gave_no_answer(&fault) => last = fault,
                Err(fault) => return Err(fault),
            }
        }
        Err(last)
    }

    /// Of each volume its own identity, its class of service, and its consistency group.
    pub(super) async fn classed(
        &self,
    ) -> Result<Vec<(String, Option<String>, Option<String>)>, Fault> {
        let volumes = self.members::<WireVolume>(self.volumes_path()).await?;
        let one = |v: WireVolume| {
            let uid = v.identifiers.into_iter().next()?;
            let class = v.links.class_of_service.as_ref().map(Link::last);
            let group = Link::named(&v.links.consistency_groups);
            Some((limited(uid.durable_name), class, group))
        };
        Ok(volumes.into_iter().take(4096).filter_map(one).collect())
    }

    pub(super) async fn pools(&self, classes: &Classes) -> Result<Vec<Pool>, Fault> {
        let pools = self.members::<WirePool>("/Storage/1/StoragePools").await?;
        Ok(pools
            .into_iter()
            .take(64)
            .map(|p| Pool {
                service: p
                    .default_class_of_service
                    .and_then(|c| classes.get(&c.last()).cloned())
                    .map(Box::new),
                name: limited(p.name),
                capacity: Bytes(figure(
                    p.capacity.data.allocated_bytes,
                    &limits::FIGURE_DISK,
                )),
                used: Bytes(figure(p.capacity.data.consumed_bytes, &limits::FIGURE_DISK)),
            })
            .collect())
    }

    pub(super) async fn fabric(&self) -> Result<Fabric, Fault> {
        let all = self.members::<WireEndpoint>("/Fabrics/1/Endpoints").await?;
        let mut fabric = Fabric {
            initiators: vec![],
            portals: vec![],
        };
        for endpoint in all.into_iter().take(4096) {
            let target = endpoint
                .connected_entities
                .iter()
                .any(|e| e.entity_role == "Target");
            if target {
                let portals = endpoint.transports.into_iter();
                fabric
                    .portals
                    .extend(portals.map(|t| limited(format!("{}:{}", t.address.address, t.port))));
            } else if let Some(name) = endpoint.identifiers.into_iter().next() {
                fabric
                    .initiators
                    .push((limited(endpoint.id), limited(name.durable_name)));
            }
        }
        Ok(fabric)
    }

    pub(super) async fn mappings(&self) -> Result<Vec<Mapping>, Fault> {
        let all = self
            .members::<WireConnection>("/Fabrics/1/Connections")
            .await?;
        let mut found = Vec::new();
        for connection in all {
            for info in &connection.volume_info {
                for initiator in &connection.links.initiator_endpoints {
                    found.push(Mapping {
                        id: limited(connection.id.clone()),
                        lun: info.volume.last(),
                        initiator: initiator.last(),
                    });
                }
            }
        }
        Ok(found)
    }

    pub(super) fn read(volume: WireVolume) -> SeenLun {
        let pool = volume
            .capacity_sources
            .first()
            .and_then(|s| s.providing_pools.members.first())
            .map(Link::last);
        SeenLun {
            id: limited(volume.id),
            uid: volume
                .identifiers
                .into_iter()
                .next()
                .map_or_else(String::new, |i| limited(i.durable_name)),
            name: limited(volume.name),
            pool: pool.unwrap_or_default(),
            capacity: Bytes(figure(volume.capacity_bytes, &limits::FIGURE_DISK)),
            used: Bytes(figure(
                volume.capacity.data.consumed_bytes,
                &limits::FIGURE_DISK,
            )),
            initiators: vec![],
        }
    }

    /// Every volume, with the names of the initiators that may reach it.
    pub(crate) async fn luns(&self) -> Result<Vec<SeenLun>, Fault> {
        let volumes = self.members::<WireVolume>(self.volumes_path()).await?;
        let fabric = self.fabric().await?;
        let mappings = self.mappings().await?;
        let mut luns: Vec<SeenLun> = volumes.into_iter().take(4096).map(Self::read).collect();
        for lun in &mut luns {
            let ours = mappings.iter().filter(|m| m.lun == lun.id);
            lun.initiators = ours
                .filter_map(|m| fabric.initiators.iter().find(|(id, _)| *id == m.initiator))
                .map(|(_, name)| name.clone())
                .collect();
        }
        Ok(luns)
    }

    pub(super) async fn grow(&self, lun: &str, size: Bytes) -> Result<(), Fault> {
        let path = format!("{}/{lun}", self.volumes_path());
        self.any::<Value>(Method::PATCH, &path, Some(json!({"CapacityBytes": size.0})))
            .await
            .map(drop)
    }

    pub(super) async fn remove(&self, lun: &str) -> Result<(), Fault> {
        let path = format!("{}/{lun}", self.volumes_path());
        self.any::<Value>(Method::DELETE, &path, None)
            .await
            .map(drop)
    }

    pub(super) async fn disconnect(&self, connection: &str) -> Result<(), Fault> {
        let path = format!("/Fabrics/1/Connections/{connection}");
        self.any::<Value>(Method::DELETE, &path, None)
            .await
            .map(drop)
    }

    pub(super) fn odd(&self, why: &str) -> Fault {
        garbled(&self.array.name, why)
    }
}

fn no_address() -> Fault {
    Fault::new(
        FaultKind::Refused,
        "No management address is known.",
        "Connect the array again.",
    )
}

/// Whether another controller may answer what this one did not.
pub(super) fn gave_no_answer(fault: &Fault) -> bool {
    matches!(
        fault.kind,
        FaultKind::Unreachable | FaultKind::TimedOut | FaultKind::Garbled
    )
}
