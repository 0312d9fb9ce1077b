//! Listeners: one HTTPS socket for each agent and each controller, and the control socket.

use crate::{
    Scenario, agent,
    control::{self, Control},
    fault::{self, Device, Part},
    rooms::hosts::announce::Announcer,
    rooms::hosts::bmc,
    rooms::hosts::host::{Host, Identity},
    rooms::hosts::leases::BEAT,
    rooms::{naming, timing},
    world::World,
};
use axum::{Router, middleware};
use hyper_util::{
    rt::{TokioExecutor, TokioIo},
    service::TowerToHyperService,
};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject};
use sha2::{Digest, Sha256};
use std::{collections::BTreeMap, io, net::SocketAddr, path::PathBuf, sync::Arc};
use tokio::{net::TcpListener, task::JoinSet};
use tokio_rustls::TlsAcceptor;

/// How the stand-ins are started.
#[derive(Debug, Clone)]
pub struct Settings {
    pub dir: PathBuf,
    pub scenario: Scenario,
    /// First two numbers of all addresses, such as `127.77`.
    pub net: String,
    /// Virtual seconds per second.
    pub speed: f64,
    pub control: SocketAddr,
    pub control_token: String,
    /// UDP port for announcements; none for silence.
    pub announce: Option<u16>,
}

/// All simulated devices, listening until this is dropped.
pub struct Standins {
    pub world: Arc<World>,
    pub control: SocketAddr,
    tasks: JoinSet<()>,
    _announcer: Option<Announcer>,
}

impl Standins {
    /// Binds every socket and begins to answer.
    ///
    /// # Errors
    /// When an address is taken or the state can't be read.
    pub async fn start(settings: Settings) -> io::Result<Standins> {
        let world = Arc::new(World::open(
            &settings.dir,
            &settings.scenario,
            &settings.net,
            settings.speed,
        )?);
        let mut tasks = JoinSet::new();
        let mut listening = Listening::default();
        listening.tend(&world).await?;
        serve_arrays(&mut tasks, &world).await?;
        serve_switches(&mut tasks, &world).await?;
        serve_balancers(&mut tasks, &world).await?;
        serve_buckets(&mut tasks, &world).await?;
        timing::serve(&mut tasks, &world).await?;
        naming::serve(&mut tasks, &world).await?;
        tasks.spawn(keep_time(world.clone(), listening));
        let listener = TcpListener::bind(settings.control).await?;
        let control_address = listener.local_addr()?;
        let routes = control::routes(Control {
            world: world.clone(),
            token: settings.control_token,
        });
        tasks.spawn(async move {
            if let Err(error) = axum::serve(listener, routes).await {
                tracing::error!(%error, "the control socket ended");
            }
        });
        let announcer = settings
            .announce
            .map(|port| Announcer::start(&world, port))
            .transpose();
        let announcer = announcer.map_err(io::Error::other)?;
        Ok(Standins {
            world,
            control: control_address,
            tasks,
            _announcer: announcer,
        })
    }

    /// Goes on until all listeners have ended, which they don't by themselves.
    pub async fn run(mut self) {
        while self.tasks.join_next().await.is_some() {}
    }
}

/// Hosts look at their clocks, and at the keepers that they should run; installations go on.
async fn keep_time(world: Arc<World>, mut listening: Listening) {
    loop {
        tokio::time::sleep(BEAT).await;
        world.beat();
        world.tend_keepers();
        world.install();
        if let Err(error) = listening.tend(&world).await {
            tracing::error!(%error, "a host can't listen");
        }
    }
}

/// The sockets of each host, by its name: its controller's, and its agent's where one is installed.
#[derive(Default)]
struct Listening(BTreeMap<String, (JoinSet<()>, Option<JoinSet<()>>)>);

impl Listening {
    /// Listens where something came to be, and no longer where it is gone.
    async fn tend(&mut self, world: &Arc<World>) -> io::Result<()> {
        let hosts: Vec<(String, bool)> = world.installations();
        self.0
            .retain(|name, _| hosts.iter().any(|(n, _)| n == name));
        for (name, installed) in hosts {
            let of = |part| Device {
                world: world.clone(),
                name: name.clone(),
                part,
            };
            if !self.0.contains_key(&name) {
                let controller = serve_controller(of(Part::Bmc)).await?;
                self.0.insert(name.clone(), (controller, None));
            }
            let Some((_, agent)) = self.0.get_mut(&name) else {
                continue;
            };
            match (installed, agent.is_some()) {
                (true, false) => *agent = Some(serve_agent(of(Part::Agent)).await?),
                (false, true) => *agent = None,
                (true, true) | (false, false) => {}
            }
        }
        Ok(())
    }
}

/// What a device of a host needs to listen; none where the host is gone.
fn at(device: &Device, of: fn(&Host) -> (&String, &Identity)) -> Option<(String, Identity)> {
    let state = device.world.lock();
    let (address, identity) = of(state.hosts.get(&device.name)?);
    Some((address.clone(), identity.clone()))
}

async fn serve_controller(device: Device) -> io::Result<JoinSet<()>> {
    let mut tasks = JoinSet::new();
    if let Some((address, identity)) = at(&device, |h| (&h.bmc_address, &h.bmc_identity)) {
        let guard = middleware::from_fn_with_state(device.clone(), fault::inject);
        let routes = bmc::routes(device.clone()).layer(guard);
        serve_tls(&mut tasks, &address, identity, routes, device).await?;
    }
    Ok(tasks)
}

async fn serve_agent(device: Device) -> io::Result<JoinSet<()>> {
    let mut tasks = JoinSet::new();
    if let Some((address, identity)) = at(&device, |h| (&h.address, &h.identity)) {
        let guard = middleware::from_fn_with_state(device.clone(), fault::inject);
        let routes = agent::routes(device.clone()).layer(guard);
        let moving = crate::moving_address(&address);
        let listener = TcpListener::bind(&moving).await;
        let listener = listener.map_err(|e| io::Error::new(e.kind(), format!("{moving}: {e}")))?;
        let (world, name) = (device.world.clone(), device.name.clone());
        tasks.spawn(crate::rooms::moving::arriving::listen(
            world, name, listener,
        ));
        serve_tls(&mut tasks, &address, identity, routes, device).await?;
    }
    Ok(tasks)
}

/// Every management controller of every array and filer.
async fn serve_arrays(tasks: &mut JoinSet<()>, world: &Arc<World>) -> io::Result<()> {
    let arrays: Vec<_> = world.lock().arrays.values().cloned().collect();
    for array in arrays {
        for (n, controller) in array.controllers.into_iter().enumerate() {
            let device = Device {
                world: world.clone(),
                name: array.name.clone(),
                part: Part::Controller(n),
            };
            let guard = middleware::from_fn_with_state(device.clone(), fault::inject);
            let routes = crate::rooms::storage::swordfish::routes(device.clone()).layer(guard);
            serve_tls(
                tasks,
                &controller.address,
                controller.identity,
                routes,
                device,
            )
            .await?;
        }
    }
    Ok(())
}

async fn serve_switches(tasks: &mut JoinSet<()>, world: &Arc<World>) -> io::Result<()> {
    let switches: Vec<_> = world.lock().switches.values().cloned().collect();
    for switch in switches {
        let device = Device {
            world: world.clone(),
            name: switch.name.clone(),
            part: Part::Switch,
        };
        let guard = middleware::from_fn_with_state(device.clone(), fault::inject);
        let routes = crate::rooms::networks::restconf::routes(device.clone()).layer(guard);
        serve_tls(tasks, &switch.address, switch.identity, routes, device).await?;
    }
    Ok(())
}

async fn serve_balancers(tasks: &mut JoinSet<()>, world: &Arc<World>) -> io::Result<()> {
    let balancers: Vec<_> = world.lock().balancers.values().cloned().collect();
    for balancer in balancers {
        let device = Device {
            world: world.clone(),
            name: balancer.name.clone(),
            part: Part::Balancer,
        };
        let guard = middleware::from_fn_with_state(device.clone(), fault::inject);
        let routes = crate::rooms::fronts::calls::routes(device.clone()).layer(guard);
        serve_tls(tasks, &balancer.address, balancer.identity, routes, device).await?;
    }
    tasks.spawn(crate::rooms::fronts::live::keep(world.clone()));
    Ok(())
}

async fn serve_buckets(tasks: &mut JoinSet<()>, world: &Arc<World>) -> io::Result<()> {
    let servers: Vec<_> = world.lock().buckets.values().cloned().collect();
    for server in servers {
        let device = Device {
            world: world.clone(),
            name: server.name.clone(),
            part: Part::Buckets,
        };
        let guard = middleware::from_fn_with_state(device.clone(), fault::inject);
        let routes = crate::rooms::stores::routes(device.clone(), &server)?.layer(guard);
        serve_tls(tasks, &server.address, server.identity, routes, device).await?;
    }
    Ok(())
}

async fn serve_tls(
    tasks: &mut JoinSet<()>,
    address: &str,
    identity: Identity,
    routes: Router,
    device: Device,
) -> io::Result<()> {
    // A host without power answers nobody; its controller still does.
    listen(tasks, address, &identity, routes, move || device.lives()).await
}

/// A service of somebody else's, listening until this is dropped: for tests of what speaks to services that nobody here
/// wrote.
pub struct Foreign {
    /// SHA-256 of its SubjectPublicKeyInfo, lower-case hex.
    pub pin: String,
    _tasks: JoinSet<()>,
}

impl Foreign {
    /// # Errors
    /// When the address is taken.
    pub async fn serve(address: &str, routes: Router) -> io::Result<Foreign> {
        let identity = crate::make::identity(address)?;
        let pin = pin_of(&identity.certificate).unwrap_or_default();
        let mut tasks = JoinSet::new();
        listen(&mut tasks, address, &identity, routes, || true).await?;
        Ok(Foreign { pin, _tasks: tasks })
    }
}

/// Accepts connections as long as somebody is there.
async fn listen(
    tasks: &mut JoinSet<()>,
    address: &str,
    identity: &Identity,
    routes: Router,
    lives: impl Fn() -> bool + Send + 'static,
) -> io::Result<()> {
    let acceptor = TlsAcceptor::from(Arc::new(config(identity)?));
    let listener = TcpListener::bind(address)
        .await
        .map_err(|e| io::Error::new(e.kind(), format!("{address} can't be listened on: {e}")))?;
    tasks.spawn(async move {
        // Connections end with their listener.
        let mut connections = JoinSet::new();
        loop {
            while connections.try_join_next().is_some() {}
            let Ok((stream, _)) = listener.accept().await else {
                tokio::time::sleep(std::time::Duration::from_millis(50)).await;
                continue;
            };
            if !lives() {
                continue;
            }
            let (acceptor, routes) = (acceptor.clone(), routes.clone());
            connections.spawn(async move {
                if let Ok(stream) = acceptor.accept(stream).await {
                    let service = TowerToHyperService::new(routes);
                    let server = hyper_util::server::conn::auto::Builder::new(TokioExecutor::new());
                    drop(
                        server
                            .serve_connection_with_upgrades(TokioIo::new(stream), service)
                            .await,
                    );
                }
            });
        }
    });
    Ok(())
}

fn config(identity: &Identity) -> io::Result<rustls::ServerConfig> {
    let certificate = CertificateDer::from_pem_slice(identity.certificate.as_bytes())
        .map_err(io::Error::other)?;
    let key = PrivateKeyDer::from_pem_slice(identity.key.as_bytes()).map_err(io::Error::other)?;
    rustls::ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?
        .with_no_client_auth()
        .with_single_cert(vec![certificate], key)
        .map_err(io::Error::other)
}

/// SHA-256 of the SubjectPublicKeyInfo of a PEM certificate, lower-case hex.
pub(crate) fn pin_of(pem: &str) -> Option<String> {
    let der = CertificateDer::from_pem_slice(pem.as_bytes()).ok()?;
    let (_, certificate) = x509_parser::parse_x509_certificate(&der).ok()?;
    let digest = Sha256::digest(certificate.tbs_certificate.subject_pki.raw);
    Some(digest.iter().map(|b| format!("{b:02x}")).collect())
}
