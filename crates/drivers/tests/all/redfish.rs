//! Management controllers that nobody here wrote: each a small service with the oddities of the world.

use crate::{bench::Bench, turn};
use axum::{
    Json, Router,
    body::Bytes,
    extract::State,
    http::{HeaderMap, Method, StatusCode, Uri},
    response::{IntoResponse, Response},
};
use serde_json::{Value, json};
use std::sync::{
    Arc, Mutex,
    atomic::{AtomicU32, Ordering},
};
use zastrugi_core::{
    estate::{Bmc, DiskState, Fact, Host},
    evidence::{Answer, Probe},
    guard::Power,
    ids::HostId,
    moment::Span,
    rooms::{Step, hosts},
    runs::FaultKind,
};
use zastrugi_drivers::{Outcome, Secrets, Turn};
use zastrugi_standins::Foreign;

/// How a service is odd.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Odd {
    No,
    /// Names and passwords are taken only where a session is opened.
    SessionsOnly,
    /// Says twice that it can't now, and when it can.
    Busy,
    /// The values of the reset stand elsewhere.
    Elsewhere,
    NoReset,
    /// It can only be asked nicely.
    NicelyOnly,
    /// Takes the order as a task and never does it.
    AcceptsOnly,
    Garbage,
    /// Its links lead to somebody else.
    Astray,
    /// It doesn't say whether it is on.
    Mute,
}

struct Service {
    odd: Odd,
    serial: String,
    power: Mutex<&'static str>,
    told: Mutex<Vec<String>>,
    asked: AtomicU32,
    sessions: AtomicU32,
    busy: AtomicU32,
}

const TOKEN: &str = "a-token-of-that-service";

impl Service {
    fn lets_in(&self, headers: &HeaderMap) -> bool {
        let said = |name: &str| headers.get(name).and_then(|v| v.to_str().ok());
        said("x-auth-token") == Some(TOKEN)
            || (self.odd != Odd::SessionsOnly
                && said("authorization").is_some_and(|a| a.starts_with("Basic ")))
    }
    fn system(&self) -> Value {
        let at = "/redfish/v1/Systems/node-b";
        let values = match self.odd {
            Odd::NicelyOnly => json!(["GracefulShutdown", "On"]),
            _ => json!(["GracefulShutdown", "ForceOff", "ForceOn", "Nmi"]),
        };
        let target = format!("{at}/Actions/ComputerSystem.Reset");
        let reset = match self.odd {
            Odd::Elsewhere => {
                json!({"target": target, "@Redfish.ActionInfo": format!("{at}/ResetInfo")})
            }
            Odd::Astray => {
                json!({"target": "https://192.0.2.9/reset", "ResetType@Redfish.AllowableValues": values})
            }
            _ => json!({"target": target, "ResetType@Redfish.AllowableValues": values}),
        };
        let actions = if self.odd == Odd::NoReset {
            json!({"Oem": {}})
        } else {
            json!({"#ComputerSystem.Reset": reset, "Oem": {"#Maker.Blink": {"target": "/blink"}}})
        };
        let power = *self.power.lock().unwrap();
        json!({
            "@odata.id": at, "@odata.type": "#ComputerSystem.v1_5_0.ComputerSystem", "Id": "node-b", "Name": "B",
            "SerialNumber": self.serial, "PowerState": if self.odd == Odd::Mute { Value::Null } else { json!(power) },
            "Actions": actions, "Oem": {"Maker": {"@odata.type": "#Maker.v1_0_0.Thing", "Deep": [[[1, "x"]]], "SerialNumber": "not this"}}
        })
    }
}

fn json_of(value: Value) -> Response {
    Json(value).into_response()
}

async fn answer(
    State(service): State<Arc<Service>>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    service.asked.fetch_add(1, Ordering::SeqCst);
    let path = uri.path().trim_end_matches('/');
    let body: Value = serde_json::from_slice(&body).unwrap_or_default();
    if path == "/redfish/v1" {
        return json_of(json!({
            "@odata.id": "/redfish/v1", "RedfishVersion": "1.6.0", "Product": "Somebody's",
            "Systems": {"@odata.id": "/redfish/v1/Systems"}, "Links": {"Sessions": {"@odata.id": "/redfish/v1/Sessions"}}
        }));
    }
    if (method == Method::POST) && path == "/redfish/v1/Sessions" {
        service.sessions.fetch_add(1, Ordering::SeqCst);
        let fine = body["UserName"] == "zastrugi"
            && body["Password"].as_str().is_some_and(|p| !p.is_empty());
        let status = if fine {
            StatusCode::CREATED
        } else {
            StatusCode::UNAUTHORIZED
        };
        return (
            status,
            [
                ("x-auth-token", TOKEN),
                ("location", "/redfish/v1/Sessions/1"),
            ],
        )
            .into_response();
    }
    if !service.lets_in(&headers) {
        return StatusCode::UNAUTHORIZED.into_response();
    }
    if service.odd == Odd::Busy && service.busy.fetch_add(1, Ordering::SeqCst) % 3 < 2 {
        return (StatusCode::SERVICE_UNAVAILABLE, [("retry-after", "0")]).into_response();
    }
    if service.odd == Odd::Garbage {
        return "<html>Welcome</html>".into_response();
    }
    let system = service.system();
    match (method, path) {
        // Three systems behind one service; a link of the first leads nowhere.
        (Method::GET, "/redfish/v1/Systems") => json_of(json!({"Members": [
            {"@odata.id": "/redfish/v1/Systems/gone"}, {"@odata.id": "/redfish/v1/Systems/node-a"}],
            "Members@odata.nextLink": "/redfish/v1/Systems/more"})),
        (Method::GET, "/redfish/v1/Systems/more") => {
            json_of(json!({"Members": [{"@odata.id": "/redfish/v1/Systems/node-b"}]}))
        }
        (Method::GET, "/redfish/v1/Systems/node-a") => {
            json_of(json!({"SerialNumber": "ANOTHER", "PowerState": "Off"}))
        }
        (Method::GET, "/redfish/v1/Systems/node-b") => json_of(system),
        (Method::GET, "/redfish/v1/Systems/node-b/ResetInfo") => json_of(json!({"Parameters": [
            {"Name": "Delay"}, {"Name": "ResetType", "AllowableValues": ["ForceOff", "On"]}]})),
        (Method::POST, "/redfish/v1/Systems/node-b/Actions/ComputerSystem.Reset") => {
            let kind = body["ResetType"].as_str().unwrap_or_default().to_owned();
            service.told.lock().unwrap().push(kind.clone());
            if service.odd != Odd::AcceptsOnly {
                *service.power.lock().unwrap() = if kind == "ForceOff" { "Off" } else { "On" };
            }
            let task = json!({"@odata.id": "/redfish/v1/TaskService/Tasks/7", "TaskState": "New"});
            (
                StatusCode::ACCEPTED,
                [("location", "/redfish/v1/TaskMonitors/7")],
                Json(task),
            )
                .into_response()
        }
        _ => StatusCode::NOT_FOUND.into_response(),
    }
}

struct Elsewhere {
    bench: Bench,
    service: Arc<Service>,
    _served: Foreign,
}

/// A host that was claimed, behind somebody else's controller.
async fn behind(odd: Odd) -> Elsewhere {
    let mut bench = Bench::claimed().await;
    let service = Arc::new(Service {
        odd,
        serial: bench.host().hardware.serial.clone(),
        power: Mutex::new("On"),
        told: Mutex::default(),
        asked: AtomicU32::new(0),
        sessions: AtomicU32::new(0),
        busy: AtomicU32::new(0),
    });
    let address = format!("{}.77.1:8443", bench.net);
    let routes = Router::new().fallback(answer).with_state(service.clone());
    let served = Foreign::serve(&address, routes).await.unwrap();
    let mut host = Host::clone(bench.host());
    let key = host.bmc.as_ref().and_then(|b| b.key);
    host.bmc = Some(Bmc {
        address,
        pin: served.pin.clone(),
        user: "zastrugi".into(),
        key,
    });
    bench.estate.put(Fact::Host(host.into()));
    Elsewhere {
        bench,
        service,
        _served: served,
    }
}

impl Elsewhere {
    async fn power(&self) -> Power {
        self.bench.drivers.read_power(self.bench.host()).await
    }
    fn told(&self) -> Vec<String> {
        self.service.told.lock().unwrap().clone()
    }
    async fn step(
        &self,
        step: hosts::Step,
        key: &str,
        waited: Span,
    ) -> Result<Outcome, zastrugi_core::runs::Fault> {
        let turn = Turn {
            waited,
            ..turn(key, 1)
        };
        self.bench
            .drivers
            .perform(&self.bench.estate, &Step::Hosts(step), turn)
            .await
    }
    async fn off(&self, waited: Span) -> Result<Outcome, zastrugi_core::runs::Fault> {
        self.step(hosts::Step::PowerOff { host: HostId(1) }, "off", waited)
            .await
    }
}

/// If this fails, a host behind a service that is not like ours can't be proved off, or another system is taken for it.
#[tokio::test]
async fn the_system_of_the_pinned_serial_is_found_among_several_and_switched_by_what_it_offers() {
    for odd in [Odd::No, Odd::SessionsOnly, Odd::Busy, Odd::Elsewhere] {
        let there = behind(odd).await;
        let serial = there.service.serial.clone();
        assert_eq!(
            there.power().await,
            Power::On {
                serial: serial.clone()
            },
            "{odd:?}"
        );
        let first = there.off(Span(0)).await.unwrap();
        assert!(
            matches!(first, Outcome::NotYet { .. }),
            "{odd:?}: {first:?}"
        );
        let then = there.off(Span::secs(1)).await.unwrap();
        assert!(matches!(then, Outcome::Done { .. }), "{odd:?}: {then:?}");
        assert_eq!(there.power().await, Power::Off { serial }, "{odd:?}");
        let on = hosts::Step::PowerOn { host: HostId(1) };
        let first = there.step(on.clone(), "on", Span(0)).await.unwrap();
        assert!(matches!(first, Outcome::NotYet { .. }));
        there.step(on, "on", Span::secs(1)).await.unwrap();
        let kinds = there.told();
        let on = if odd == Odd::Elsewhere {
            "On"
        } else {
            "ForceOn"
        };
        assert_eq!(
            kinds,
            ["ForceOff", on],
            "{odd:?}: each is sent once, in words that the service takes"
        );
        let sessions = there.service.sessions.load(Ordering::SeqCst);
        assert_eq!(
            sessions,
            u32::from(odd == Odd::SessionsOnly),
            "{odd:?}: one session is enough"
        );
    }
}

/// If this fails, it is asked again and again where the system stands.
#[tokio::test]
async fn where_the_system_stands_is_remembered_and_looked_for_anew_when_it_is_another() {
    let mut there = behind(Odd::No).await;
    there.power().await;
    let before = there.service.asked.load(Ordering::SeqCst);
    there.power().await;
    assert_eq!(there.service.asked.load(Ordering::SeqCst), before + 1);
    let mut host = Host::clone(there.bench.host());
    host.hardware.serial = "ANOTHER".into();
    there.bench.estate.put(Fact::Host(host.into()));
    assert_eq!(
        there.power().await,
        Power::Off {
            serial: "ANOTHER".into()
        }
    );
}

/// If this fails, an order that can't be carried out looks as if it had been, or is sent to somebody else.
#[tokio::test]
async fn what_a_service_does_not_offer_or_does_not_do_is_said_in_its_words() {
    for (odd, words) in [
        (Odd::NoReset, "offers no way to switch the host"),
        (
            Odd::NicelyOnly,
            "offers to switch the host by GracefulShutdown, On; none of that switches it off at once",
        ),
        (Odd::Astray, "leads out of the service; it is not followed"),
        (Odd::Garbage, "makes no sense"),
    ] {
        let there = behind(odd).await;
        let fault = there.off(Span(0)).await.unwrap_err();
        assert!(fault.said.contains(words), "{odd:?}: {}", fault.said);
        assert!(there.told().is_empty());
    }
    let there = behind(Odd::AcceptsOnly).await;
    for waited in [0, 5, 30] {
        let said = there.off(Span::secs(waited)).await.unwrap();
        assert!(
            matches!(said, Outcome::NotYet { .. }),
            "accepted is not done"
        );
    }
    let fault = there.off(Span::secs(61)).await.unwrap_err();
    assert!(
        fault
            .said
            .contains("took the order to switch it off and has not done it"),
        "{}",
        fault.said
    );
    assert_eq!(there.told(), ["ForceOff"], "told once");
    // Somebody looked, and tries the step again.
    let said = there.off(Span(0)).await.unwrap();
    assert!(matches!(said, Outcome::NotYet { .. }));
    assert_eq!(
        there.told(),
        ["ForceOff"; 2],
        "whoever tries again tells it again"
    );
    let there = behind(Odd::Mute).await;
    let Power::Silent { why } = there.power().await else {
        panic!("it said nothing")
    };
    assert_eq!(why, "it does not say whether it is on");
}

/// If this fails, our password goes to whoever stands at the address.
#[tokio::test]
async fn a_service_with_another_certificate_gets_no_password() {
    let mut there = behind(Odd::No).await;
    let mut host = Host::clone(there.bench.host());
    if let Some(bmc) = &mut host.bmc {
        bmc.pin = "0".repeat(64);
    }
    there.bench.estate.put(Fact::Host(host.into()));
    let probe = Probe::Bmc(HostId(1));
    let Answer::Silent { why } = there.bench.drivers.probe(&there.bench.estate, &probe).await
    else {
        panic!("it was believed")
    };
    assert!(why.contains("another certificate"), "{why}");
    assert_eq!(there.service.asked.load(Ordering::SeqCst), 0);
    let fault = there.off(Span(0)).await.unwrap_err();
    assert_eq!(fault.kind, FaultKind::Stranger);
}

/// If this fails, our own stand-in is no service of the standard: what it links to isn't there, or isn't what it says.
#[tokio::test]
async fn every_link_of_our_own_controller_leads_to_what_says_what_it_is() {
    let bench = Bench::claimed().await;
    let host = bench.host().clone();
    bench
        .standins
        .world
        .deceive("h1", zastrugi_standins::Deceit::DoesNothing);
    bench.drivers.switch_off(&host).await.unwrap();
    assert_eq!(
        bench.standins.world.controller_told("h1"),
        ["ForceOff"],
        "it was told, and did nothing"
    );
    let seen = bench.drivers.walk_controller(&host, 200).await.unwrap();
    let at = |path: &str| {
        seen.iter()
            .find(|(p, _)| p == path)
            .map(|(_, v)| v.clone())
            .unwrap_or_default()
    };
    for (path, value) in &seen {
        let kind = value["@odata.type"].as_str().unwrap_or_default();
        assert!(kind.starts_with('#'), "{path} has no @odata.type: {value}");
        assert_eq!(
            value["@odata.id"]
                .as_str()
                .unwrap_or_default()
                .trim_end_matches('/'),
            path.trim_end_matches('/')
        );
        assert!(
            !value["Name"].as_str().unwrap_or_default().is_empty(),
            "{path} has no Name"
        );
        let Some(members) = value["Members"].as_array() else {
            assert!(
                !value["Id"].as_str().unwrap_or_default().is_empty(),
                "{path} has no Id"
            );
            continue;
        };
        assert!(kind.ends_with("Collection"), "{path}: {kind}");
        assert_eq!(value["Members@odata.count"], members.len());
    }
    for path in [
        "/redfish/v1/Managers/1",
        "/redfish/v1/Chassis/1",
        "/redfish/v1/TaskService/Tasks",
        "/redfish/v1/SessionService/Sessions",
    ] {
        assert_ne!(at(path), Value::Null, "{path}");
    }
    let log = at("/redfish/v1/Systems/1/LogServices/Orders/Entries");
    assert_eq!(
        log["Members"][0]["Message"],
        "ComputerSystem.Reset: ForceOff"
    );
}

/// A bare host's service, of an older version: what it doesn't know is `null`, media are its manager's, memory is no whole number.
async fn older(method: Method, uri: Uri, headers: HeaderMap, body: Bytes) -> Response {
    let path = uri.path().trim_end_matches('/');
    let body: Value = serde_json::from_slice(&body).unwrap_or_default();
    if path == "/redfish/v1" {
        return json_of(
            json!({"RedfishVersion": "1.2.0", "Product": null, "Name": "Old", "Systems": {"@odata.id": "/redfish/v1/Systems"},
            "Links": {"Sessions": {"@odata.id": "/redfish/v1/Sessions"}}}),
        );
    }
    if method == Method::POST && path == "/redfish/v1/Sessions" {
        let status = match body["Password"] == "right" {
            true => StatusCode::CREATED,
            false => StatusCode::UNAUTHORIZED,
        };
        return (status, [("x-auth-token", TOKEN)]).into_response();
    }
    if headers.get("x-auth-token").is_none_or(|t| t != TOKEN) {
        return StatusCode::UNAUTHORIZED.into_response();
    }
    let medium = |kinds: Value| {
        json!({"Image": null, "Inserted": null, "MediaTypes": kinds, "Actions": {
            "#VirtualMedia.InsertMedia": {"target": "/in"}, "#VirtualMedia.EjectMedia": {"target": "/out"}}})
    };
    let links = |all: &[&str]| json!({"Members": all.iter().map(|at| json!({"@odata.id": at})).collect::<Vec<_>>()});
    json_of(match path {
        "/redfish/v1/Systems" => links(&["/sys"]),
        "/sys" => {
            json!({"SerialNumber": "SN-OLD", "Manufacturer": "Brattholm", "Model": null, "PowerState": null,
            "ProcessorSummary": {"Count": 2, "Model": null}, "MemorySummary": {"TotalSystemMemoryGiB": 127.5}, "Boot": null,
            "Status": {"Health": null, "Conditions": null}, "EthernetInterfaces": {"@odata.id": "/ports"},
            "Storage": {"@odata.id": "/stores"}, "Links": {"ManagedBy": [{"@odata.id": "/man"}]}})
        }
        "/man" => json!({"VirtualMedia": {"@odata.id": "/media"}}),
        "/media" => links(&["/media/usb", "/media/cd", "/media/gone", "/media/cd2"]),
        "/media/usb" => medium(json!(["USBStick"])),
        "/media/cd" | "/media/cd2" => medium(json!(["CD", "DVD"])),
        "/stores" => links(&["/store"]),
        "/store" => {
            json!({"Volumes": null, "Drives": [{"@odata.id": "/drive/1"}, {"@odata.id": "/drive/2"},
            {"@odata.id": "/drive/3"}, {"@odata.id": "/drive/gone"}]})
        }
        "/drive/1" => {
            json!({"Id": "1", "Name": null, "CapacityBytes": 480_000_000_000_u64, "Status": null})
        }
        "/drive/2" => {
            json!({"Id": "2", "Name": "Bay 2", "CapacityBytes": 960_000_000_000_u64, "Status": {"Health": "Critical"}})
        }
        "/drive/3" => {
            json!({"Id": "3", "Name": "Bay 3", "CapacityBytes": null, "Status": {"State": "Absent"}})
        }
        "/ports" => links(&["/ports/1"]),
        "/ports/1" => {
            json!({"Id": "1", "Name": null, "MACAddress": "06:AA:00:00:00:01", "SpeedMbps": null, "LinkStatus": "LinkUp"})
        }
        _ => return StatusCode::NOT_FOUND.into_response(),
    })
}

/// If this fails, a controller that is not like ours can't be looked beneath, or a wrong password passes because somebody signed in with
/// the right one before.
#[tokio::test]
async fn an_older_controller_is_looked_beneath_and_a_wrong_password_is_none_whoever_signed_in_before()
 {
    let bench = Bench::claimed().await;
    let address = format!("{}.77.2:8443", bench.net);
    let served = Foreign::serve(&address, Router::new().fallback(older))
        .await
        .unwrap();
    let greeted = bench
        .drivers
        .probe(&bench.estate, &Probe::ControllerGreeting(address.clone()))
        .await;
    let Answer::Manager { name, pin } = greeted else {
        panic!("{greeted:?}");
    };
    assert_eq!((name.as_str(), &pin), ("Old, Redfish 1.2.0", &served.pin));
    let look = async |password: &str| {
        let password = bench.drawer.keep(password.to_owned()).await.unwrap();
        let probe = Probe::Beneath {
            address: address.clone(),
            pin: pin.clone(),
            user: "root".into(),
            password,
        };
        bench.drivers.probe(&bench.estate, &probe).await
    };
    let said = look("right").await;
    let Answer::Beneath(found) = said else {
        panic!("{said:?}");
    };
    assert_eq!(
        (found.serial.as_str(), found.slots, found.on),
        ("SN-OLD", 2, false)
    );
    assert_eq!(
        found.memory,
        zastrugi_core::units::Bytes::mib(127 * 1024 + 512)
    );
    assert_eq!(
        (found.ports[0].name.as_str(), found.ports[0].mbit),
        ("1", 0)
    );
    let drives: Vec<_> = found
        .drives
        .iter()
        .map(|d| (d.name.as_str(), d.size.0, &d.state))
        .collect();
    assert_eq!(
        drives,
        [
            ("1", 480_000_000_000, &DiskState::Free),
            ("Bay 2", 960_000_000_000, &DiskState::Dead)
        ]
    );
    assert!(matches!(look("wrong").await, Answer::Refused { .. }));
}
