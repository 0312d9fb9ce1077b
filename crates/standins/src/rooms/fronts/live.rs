//! What goes on at load balancers: who listens, whose health was asked with which result, which connections are open.

use super::{Config, LoadBalancer, MemberConfig, Service, passing};
use crate::world::World;
use std::{
    collections::{BTreeMap, btree_map::Entry},
    net::{IpAddr, SocketAddr},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};
use tokio::{net::TcpListener, task::JoinSet};

/// How often it is looked what changed.
const LOOK: Duration = Duration::from_millis(50);

/// Every front that is listened on, by balancer and its number there.
#[derive(Default)]
pub(crate) struct Balancing(Mutex<BTreeMap<(String, String), Arc<Live>>>);

/// One front at work.
pub(crate) struct Live {
    pub(crate) config: Mutex<Config>,
    members: Mutex<BTreeMap<String, Pulse>>,
    pub(crate) turn: AtomicUsize,
    trouble: Mutex<Option<String>>,
}

/// What is known of a member.
#[derive(Debug, Clone, Default)]
struct Pulse {
    /// None: never asked.
    healthy: Option<bool>,
    why: String,
    /// Results in a row that speak against what is held.
    streak: u8,
    asked: i64,
    open: usize,
    /// Since when it gets no new connections.
    out: Option<i64>,
}

/// What is said of a member.
pub(crate) struct Told {
    pub(crate) state: &'static str,
    pub(crate) why: String,
    pub(crate) connections: usize,
}

impl Told {
    pub(crate) fn unasked() -> Self {
        Told {
            state: "fails",
            why: "not asked yet".into(),
            connections: 0,
        }
    }
}

pub(crate) fn held<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Balancing {
    pub(crate) fn of(&self, balancer: &str, front: &str) -> Option<Arc<Live>> {
        held(&self.0)
            .get(&(balancer.to_owned(), front.to_owned()))
            .cloned()
    }
}

impl Live {
    fn new(config: Config) -> Self {
        Live {
            config: Mutex::new(config),
            members: Mutex::default(),
            turn: AtomicUsize::new(0),
            trouble: Mutex::default(),
        }
    }
    pub(crate) fn trouble(&self) -> Option<String> {
        held(&self.trouble).clone()
    }
    pub(crate) fn connections(&self, at: &str) -> usize {
        held(&self.members).get(at).map_or(0, |p| p.open)
    }
    pub(crate) fn told(&self, at: &str, member: &MemberConfig) -> Told {
        let pulse = held(&self.members).get(at).cloned().unwrap_or_default();
        let (state, why) = match (member.admitted, pulse.healthy, pulse.open) {
            (true, Some(true), _) => ("serves", String::new()),
            (true, Some(false), _) => ("fails", pulse.why),
            (true, None, _) => ("fails", "not asked yet".into()),
            (false, _, 0) => ("out", String::new()),
            (false, _, _) => ("drains", String::new()),
        };
        Told {
            state,
            why,
            connections: pulse.open,
        }
    }

    /// Asks whoever is due, in the time of the stand-ins.
    fn ask(&self, world: &World, now: i64) {
        let config = held(&self.config).clone();
        let mut pulses = held(&self.members);
        pulses.retain(|at, _| config.members.contains_key(at));
        for (at, member) in &config.members {
            let pulse = pulses.entry(at.clone()).or_default();
            pulse.out = match member.admitted {
                true => None,
                false => pulse.out.or(Some(now)),
            };
            let due = pulse.healthy.is_none()
                || now - pulse.asked >= i64::from(config.health.every_s) * 1000;
            let Some(address) = at
                .parse::<SocketAddr>()
                .ok()
                .filter(|_| due)
                .map(|a| a.ip())
            else {
                continue;
            };
            pulse.asked = now;
            let verdict = ask_one(world, &config, address, now);
            pulse.take(verdict, &config);
        }
    }

    /// Members that get new connections, with how many each has.
    pub(crate) fn serving(&self) -> Vec<(String, String, usize)> {
        let config = held(&self.config);
        let pulses = held(&self.members);
        let serves = |at: &str| pulses.get(at).is_some_and(|p| p.healthy == Some(true));
        let all = config
            .members
            .iter()
            .filter(|(at, m)| m.admitted && serves(at));
        all.map(|(at, m)| {
            (
                at.clone(),
                m.name.clone(),
                pulses.get(at).map_or(0, |p| p.open),
            )
        })
        .collect()
    }
    pub(crate) fn opens(&self, at: &str) {
        held(&self.members).entry(at.to_owned()).or_default().open += 1;
    }
    pub(crate) fn closes(&self, at: &str) {
        if let Some(pulse) = held(&self.members).get_mut(at) {
            pulse.open = pulse.open.saturating_sub(1);
        }
    }
    /// Whether the time that open connections of a member may take is over, or it is no member any more.
    pub(crate) fn is_over(&self, at: &str, now: i64) -> bool {
        let limit = i64::from(held(&self.config).drain_s) * 1000;
        match held(&self.members).get(at) {
            Some(pulse) => pulse.out.is_some_and(|since| now - since >= limit),
            None => true,
        }
    }
    pub(crate) fn next_turn(&self) -> usize {
        self.turn.fetch_add(1, Ordering::Relaxed)
    }
}

impl Pulse {
    fn take(&mut self, verdict: Result<(), String>, config: &Config) {
        let fine = verdict.is_ok();
        let why = verdict.err().unwrap_or_default();
        // The first answer counts at once.
        let Some(healthy) = self.healthy else {
            (self.healthy, self.why) = (Some(fine), why);
            return;
        };
        if healthy == fine {
            self.streak = 0;
            self.why = why;
            return;
        }
        self.streak += 1;
        let needs = if fine {
            config.health.rises
        } else {
            config.health.falls
        };
        if self.streak >= needs {
            (self.healthy, self.why, self.streak) = (Some(fine), why, 0);
        }
    }
}

fn ask_one(world: &World, config: &Config, address: IpAddr, now: i64) -> Result<(), String> {
    let service = world.lock().service_at(address, now);
    match (service, config.health.kind.as_str()) {
        (Service::Nobody, _) => Err("connection refused".into()),
        (Service::Hangs, "tcp") => Ok(()),
        (Service::Hangs, _) => Err("no answer in time".into()),
        (Service::Answers(_), "tcp") => Ok(()),
        (Service::Answers(name), _) => {
            let (status, text) = passing::answer(&name, &config.health.path);
            if status != config.health.status {
                return Err(format!("{} answers {status}", config.health.path));
            }
            match text.contains(&config.health.text) {
                true => Ok(()),
                false => Err(format!(
                    "{} answers without “{}”",
                    config.health.path, config.health.text
                )),
            }
        }
    }
}

/// Listens where fronts are set, and no longer where they are gone.
pub(crate) async fn keep(world: Arc<World>) {
    let mut listening: BTreeMap<(String, String), (String, JoinSet<()>)> = BTreeMap::new();
    loop {
        tokio::time::sleep(LOOK).await;
        let all: Vec<LoadBalancer> = world.lock().balancers.values().cloned().collect();
        let set: BTreeMap<(String, String), (String, Config)> = all
            .iter()
            .flat_map(|b| {
                b.fronts.iter().map(move |(id, f)| {
                    (
                        (b.name.clone(), id.clone()),
                        (format!("{}:{}", b.loopback(f.address), f.port), f.clone()),
                    )
                })
            })
            .collect();
        listening.retain(|key, (at, _)| set.get(key).is_some_and(|(now, _)| now == at));
        held(&world.balancing.0).retain(|key, _| set.contains_key(key));
        let now = world.now();
        for (key, (at, config)) in set {
            let live = held(&world.balancing.0)
                .entry(key.clone())
                .or_insert_with(|| Arc::new(Live::new(config.clone())))
                .clone();
            *held(&live.config) = config;
            live.ask(&world, now);
            let Entry::Vacant(place) = listening.entry(key) else {
                continue;
            };
            let bound = TcpListener::bind(&at).await;
            *held(&live.trouble) = bound
                .as_ref()
                .err()
                .map(|e| format!("{at} can't be listened on: {e}"));
            if let Ok(listener) = bound {
                let mut tasks = JoinSet::new();
                tasks.spawn(passing::accept(world.clone(), live, listener));
                place.insert((at, tasks));
            }
        }
    }
}
