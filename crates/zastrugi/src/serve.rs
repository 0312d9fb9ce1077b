//! Serving, the stand-ins, and small commands.

use crate::{
    args::{AddPerson, AgentCheck, Database, Serve, Standins as StandinsArgs},
    keeper::Processes,
    weather::Control,
};
use std::{io::Read, net::SocketAddr, sync::Arc, time::Duration};
use tokio::net::TcpListener;
use zastrugi_core::{guard::Times, moment::Span};
use zastrugi_engine::{Desk, Ends, Engine, EngineSettings, Exports, Media, StoreError};
use zastrugi_standins::{SKARHOLM, Scenario, Settings, Standins};
use zastrugi_web::{Climate, Pace, ServeError, Weather, WebSettings};

/// Why a command did not go on.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Failed {
    #[error("{0}")]
    Store(#[from] StoreError),
    #[error("{0}")]
    Io(#[from] std::io::Error),
    #[error("{0}")]
    Web(#[from] ServeError),
    #[error("{0}")]
    Other(String),
}

pub(crate) async fn engine_settings(args: &Serve) -> Result<EngineSettings, Failed> {
    let (file, database) = (&args.key_file, &args.database.database);
    let key = crate::key::seal_key(file, database, args.stand_by).await;
    Ok(EngineSettings {
        database: args.database.database.clone(),
        connections: 24,
        key: key.map_err(Failed::Other)?,
        name: args.name.clone(),
        networks: args.networks.clone(),
        announcements: (args.announcements > 0).then_some(args.announcements),
        announcements_everywhere: args.behind_proxy,
        works: !args.pages_only,
        carries: (!args.carry_only.is_empty()).then(|| args.carry_only.clone()),
        order_lease: Span::secs(args.order_lease),
        guard: Some(Times::default()),
        own: args.own_machine,
        media: Media {
            dir: args.media.clone(),
            url: Some(args.media_url.clone().unwrap_or_else(|| {
                let at = SocketAddr::new(args.address, args.port);
                format!("http://{at}")
            })),
        },
        exports: Exports(args.exports.clone()),
        stand_by: args
            .stand_by
            .then(|| crate::key::who(file).unwrap_or_default()),
        ends: args.die_at.map_or(Ends::Nowhere, Ends::Process),
    })
}

pub(crate) async fn serve(args: Serve) -> Result<(), Failed> {
    if !args.address.is_loopback() && !args.behind_proxy {
        let words = "Beyond loopback Zastrugi listens only behind a proxy that does TLS: say --behind-proxy.";
        return Err(Failed::Other(words.into()));
    }
    let mut engine = Engine::start(engine_settings(&args).await?).await?;
    if !args.carry_only.is_empty() {
        tracing::info!(sites = ?args.carry_only, "carries bytes of copies, and does nothing else");
        let ended = tokio::select! {
            told = told_to_end() => told,
            why = engine.ended() => Err(Failed::Other(format!("Stopped: {why}."))),
        };
        engine.stop().await;
        return ended;
    }
    let (desk, mut anew) = (engine.desk(), false);
    let served = tokio::select! {
        served = pages(desk.clone(), &args, weather(&args)) => served,
        () = turned(&desk) => {
            anew = true;
            Ok(())
        }
        () = parent_ends(args.weather.is_some()) => Ok(()),
        // A supervisor starts it again; going on would hold the lead and do nothing.
        why = engine.ended() => Err(Failed::Other(format!("Stopped: {why}."))),
    };
    engine.stop().await;
    match anew {
        true => Err(begin_anew()),
        false => served,
    }
}

/// Until this process, which stood by, is to begin anew as a manager; whoever made it so reads the answer first.
async fn turned(desk: &Desk) {
    desk.turned().await;
    tokio::time::sleep(ANSWERED).await;
}

/// By then whoever made a manager take over has their answer.
const ANSWERED: Duration = Duration::from_secs(1);

/// The same program with the same words in this process's place: nothing is left of what it was. Comes back only where that
/// failed.
fn begin_anew() -> Failed {
    use std::os::unix::process::CommandExt;
    tracing::info!("the database leads now: begins anew");
    match std::env::current_exe() {
        Ok(program) => {
            let words = std::env::args_os().skip(1);
            Failed::Io(std::process::Command::new(program).args(words).exec())
        }
        Err(error) => Failed::Io(error),
    }
}

/// Until somebody ends this process.
async fn told_to_end() -> Result<(), Failed> {
    let mut term = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())?;
    tokio::select! {
        told = tokio::signal::ctrl_c() => told?,
        _ = term.recv() => {}
    }
    Ok(())
}

/// The demo's weather, where whoever started this process says where it is made.
fn weather(args: &Serve) -> Weather {
    let control = args.weather.zip(args.control_token.clone());
    let climate = control.map(|(at, token)| Control::new(at, token));
    Weather(climate.map(|c| Arc::new(c) as Arc<dyn Climate>))
}

/// The manager of the demo ends with the demo, however that ends.
async fn parent_ends(has_parent: bool) {
    if !has_parent {
        return std::future::pending().await;
    }
    let (say, ended) = tokio::sync::oneshot::channel::<()>();
    std::thread::spawn(move || {
        drop(std::io::copy(
            &mut std::io::stdin().lock(),
            &mut std::io::sink(),
        ));
        drop(say);
    });
    drop(ended.await);
}

/// Serves the pages until it is told to stop.
pub(crate) async fn pages(desk: Desk, args: &Serve, weather: Weather) -> Result<(), Failed> {
    let at = (args.address, args.port);
    let listener = TcpListener::bind(at).await.map_err(|error| {
        Failed::Other(format!(
            "{}, port {}, can't be listened on: {error}",
            at.0, at.1
        ))
    })?;
    // Each connection takes descriptors: as many as this process may have.
    let descriptors = rlimit::increase_nofile_limit(rlimit::INFINITY).unwrap_or(1024);
    let settings = WebSettings {
        behind_proxy: args.behind_proxy,
        proxies: args.proxies.clone(),
        pace: Pace::default().within(usize::try_from(descriptors).unwrap_or(usize::MAX)),
        weather,
    };
    Ok(zastrugi_web::serve(desk, settings, listener).await?)
}

pub(crate) async fn migrate(database: &Database) -> Result<(), Failed> {
    let pool = zastrugi_store::connect(&database.database, 2).await?;
    Ok(zastrugi_store::migrate(&pool).await?)
}

fn scenario(args: &StandinsArgs) -> Result<Scenario, Failed> {
    if let Some((hosts, machines)) = args.large.as_ref().and_then(|l| l.split_once('x')) {
        let number = |n: &str| {
            n.parse::<u32>()
                .map_err(|_| Failed::Other("--large is written 1000x20000".into()))
        };
        return Ok(zastrugi_standins::large(number(hosts)?, number(machines)?));
    }
    let text = match &args.scenario {
        Some(path) => std::fs::read_to_string(path)?,
        None => SKARHOLM.to_owned(),
    };
    serde_json::from_str(&text)
        .map_err(|e| Failed::Other(format!("the scenario can't be read: {e}")))
}

pub(crate) async fn start_standins(args: &StandinsArgs) -> Result<Standins, Failed> {
    let settings = Settings {
        dir: args.dir.clone(),
        scenario: scenario(args)?,
        net: args.net.clone(),
        speed: args.speed,
        control: SocketAddr::from(([127, 0, 0, 1], args.control_port)),
        control_token: args.control_token.clone(),
        announce: (args.announcements > 0).then_some(args.announcements),
    };
    let standins = Standins::start(settings).await?;
    standins
        .world
        .run_keepers_by(std::sync::Arc::new(Processes));
    Ok(standins)
}

pub(crate) async fn standins(args: StandinsArgs) -> Result<(), Failed> {
    let standins = start_standins(&args).await?;
    tracing::info!(control = %standins.control, hosts = standins.world.agents().len(), "the stand-ins listen");
    tokio::select! {
        () = standins.run() => {}
        stopped = tokio::signal::ctrl_c() => stopped?,
    }
    Ok(())
}

pub(crate) async fn add_person(args: AddPerson) -> Result<(), Failed> {
    let role = args.role.parse().map_err(Failed::Other)?;
    let mut password = String::new();
    std::io::stdin().read_to_string(&mut password)?;
    let key = crate::key::seal_key(&args.key_file, &args.database.database, false).await;
    let settings = EngineSettings::new(args.database.database, key.map_err(Failed::Other)?);
    let engine = Engine::start(settings).await?;
    let added = engine
        .desk()
        .add_person(&args.name, role, password.trim_end_matches(['\r', '\n']))
        .await;
    added.map(drop).map_err(|e| Failed::Other(e.to_string()))
}

pub(crate) async fn agent_check(args: AgentCheck) -> Result<(), Failed> {
    let address = args
        .url
        .trim_start_matches("https://")
        .trim_end_matches('/');
    let results = zastrugi_engine::check::run(address, &args.volume, &args.password).await;
    let mut out = std::io::stdout().lock();
    let mut wrong = 0;
    for result in &results {
        use std::io::Write;
        let word = if result.problem.is_none() {
            "fine "
        } else {
            "WRONG"
        };
        writeln!(
            out,
            "{word}  {}{}",
            result.what,
            result
                .problem
                .as_ref()
                .map_or(String::new(), |p| format!(": {p}"))
        )?;
        wrong += usize::from(result.problem.is_some());
    }
    if wrong == 0 {
        Ok(())
    } else {
        Err(Failed::Other(format!(
            "{wrong} of {} checks are wrong",
            results.len()
        )))
    }
}
