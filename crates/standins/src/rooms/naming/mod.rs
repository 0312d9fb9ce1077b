//! Name servers: zones forward and back, changed by RFC 2136 with TSIG (RFC 8945), and how they go wrong.

mod resolve;

pub(crate) use resolve::resolve;

use crate::{
    scenario::ScenarioNames,
    world::{State, World},
};
use base64::{Engine, engine::general_purpose::STANDARD};
use hickory_proto::{
    op::ResponseCode,
    rr::{LowerName, Name, rdata::tsig::TsigAlgorithm},
};
use hickory_server::{
    Server,
    net::runtime::Time,
    server::{Request, RequestHandler, ResponseHandler, ResponseInfo},
    store::sqlite::{SqliteConfig, SqliteZoneHandler, TsigKeyConfig},
    zone_handler::{AxfrPolicy, Catalog, MessageResponseBuilder, ZoneType},
};
use serde::{Deserialize, Serialize};
use std::{
    collections::BTreeSet,
    fs, io,
    net::{IpAddr, SocketAddr},
    path::Path,
    sync::Arc,
};
use tokio::{net::UdpSocket, task::JoinSet};

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct NameServer {
    pub(crate) name: String,
    /// `ip:port`
    pub(crate) address: String,
    /// What changes must be signed with: the key's name, and its secret in base64.
    pub(crate) key: (String, String),
    pub(crate) zones: Vec<String>,
    #[serde(default)]
    pub(crate) silent: bool,
    /// It is in charge of no zone that leads from addresses to names.
    #[serde(default)]
    pub(crate) without_reverse: bool,
    /// Whose questions don't reach it, as with a firewall between.
    #[serde(default)]
    pub(crate) deaf_to: BTreeSet<IpAddr>,
}

impl NameServer {
    pub(crate) fn of(name: &str, made: &ScenarioNames, net: &str) -> Self {
        NameServer {
            name: name.into(),
            address: format!("{net}.{}:1053", made.address),
            key: (made.key.clone(), made.secret.clone()),
            zones: made.zones.clone(),
            silent: false,
            without_reverse: false,
            deaf_to: BTreeSet::new(),
        }
    }
}

/// The zones, and who else has a word in the answer.
struct Guarded {
    world: Arc<World>,
    name: String,
    zones: Catalog,
}

#[async_trait::async_trait]
impl RequestHandler for Guarded {
    async fn handle_request<R: ResponseHandler, T: Time>(
        &self,
        request: &Request,
        mut handle: R,
    ) -> ResponseInfo {
        let state = self.world.lock().names.get(&self.name).cloned();
        let from = request.src().ip();
        let silent = state
            .as_ref()
            .is_some_and(|s| s.silent || s.deaf_to.contains(&from));
        let without = state.is_some_and(|s| s.without_reverse);
        let mut asked = request.queries.queries().iter();
        let leads_back = asked.any(|q| q.name().to_string().ends_with("arpa."));
        if silent {
            return lost(request);
        }
        if without && leads_back {
            let answer = MessageResponseBuilder::from_message_request(request);
            let refused = answer.error_msg(&request.metadata, ResponseCode::Refused);
            let sent = handle.send_response(refused).await;
            // Who does not hear it asks again.
            return sent.unwrap_or_else(|_| lost(request));
        }
        self.zones.handle_request::<R, T>(request, handle).await
    }
}

/// What is told of an answer that nobody got.
fn lost(request: &Request) -> ResponseInfo {
    let counts = Default::default();
    let metadata = request.metadata;
    ResponseInfo::from(hickory_proto::op::Header { metadata, counts })
}

pub(crate) async fn serve(tasks: &mut JoinSet<()>, world: &Arc<World>) -> io::Result<()> {
    let all: Vec<NameServer> = world.lock().names.values().cloned().collect();
    for server in all {
        let dir = world
            .dir
            .join("names")
            .join(format!("{}-zones", server.name));
        fs::create_dir_all(&dir)?;
        let guarded = Guarded {
            zones: catalog(&dir, &server).await?,
            world: world.clone(),
            name: server.name.clone(),
        };
        let socket = UdpSocket::bind(&server.address).await?;
        tasks.spawn(async move {
            let mut running = Server::new(guarded);
            running.register_socket(socket);
            if let Err(error) = running.block_until_done().await {
                tracing::error!(%error, "a name server ended");
            }
        });
    }
    Ok(())
}

/// Every zone from its file the first time, and from its journal from then on.
async fn catalog(dir: &Path, server: &NameServer) -> io::Result<Catalog> {
    let key_file = dir.join("key");
    let secret = STANDARD.decode(&server.key.1).map_err(io::Error::other)?;
    fs::write(&key_file, secret)?;
    let mut catalog = Catalog::new();
    for zone in &server.zones {
        let origin = Name::from_ascii(format!("{zone}.")).map_err(io::Error::other)?;
        let zone_path = dir.join(format!("{zone}.zone"));
        let ns = format!("{}.{}", server.name, server.zones[0]);
        fs::write(
            &zone_path,
            format!(
                "@ 3600 IN SOA {ns}. hostmaster.{}. 1 3600 600 86400 60\n@ 3600 IN NS {ns}.\n",
                server.zones[0]
            ),
        )?;
        let config = SqliteConfig {
            zone_path,
            journal_path: dir.join(format!("{zone}.journal")),
            allow_update: true,
            tsig_keys: vec![TsigKeyConfig {
                name: format!("{}.", server.key.0),
                key_file: key_file.clone(),
                algorithm: TsigAlgorithm::HmacSha256,
                fudge: 300,
            }],
        };
        let (kind, copies) = (ZoneType::Primary, AxfrPolicy::Deny);
        let handler: SqliteZoneHandler = SqliteZoneHandler::try_from_config(
            origin.clone(),
            kind,
            copies,
            false,
            None,
            &config,
            None,
        )
        .await
        .map_err(io::Error::other)?;
        catalog.upsert(LowerName::from(&origin), vec![Arc::new(handler)]);
    }
    Ok(catalog)
}

fn own(address: &str) -> Option<IpAddr> {
    address.parse::<SocketAddr>().ok().map(|a| a.ip())
}

impl State {
    pub(crate) fn unheard(&self, address: &str) -> bool {
        own(address).is_some_and(|ip| self.names.values().any(|s| s.deaf_to.contains(&ip)))
    }
}

impl World {
    /// A name server that answers nobody.
    pub fn names_silent(&self, name: &str, silent: bool) {
        self.at_names(name, |s| s.silent = silent);
    }
    /// One that leads from no address to a name.
    pub fn names_without_reverse(&self, name: &str, without: bool) {
        self.at_names(name, |s| s.without_reverse = without);
    }
    /// No question of a host reaches any name server, as with a firewall between.
    pub fn unheard(&self, host: &str, unheard: bool) {
        let found = self.lock().hosts.get(host).and_then(|h| own(&h.address));
        let all: Vec<String> = self.lock().names.keys().cloned().collect();
        for (name, ip) in all.iter().zip(found.into_iter().cycle()) {
            self.at_names(name, |s| {
                if unheard {
                    s.deaf_to.insert(ip);
                } else {
                    s.deaf_to.remove(&ip);
                }
            });
        }
    }
    fn at_names(&self, name: &str, change: impl FnOnce(&mut NameServer)) {
        let mut state = self.lock();
        if let Some(server) = state.names.get_mut(name) {
            change(server);
        }
        self.save_names(&state, name);
    }
    pub(crate) fn save_names(&self, state: &State, name: &str) {
        self.save("names", name, state.names.get(name));
    }
}
