//! Fit: may this machine run on this host (rules, section 1)? Every rule is evaluated, not only up to the first.

use super::Account;
use crate::{
    estate::{
        Cluster, Condition, Estate, Machine, PlaceRule, PsabiLevel, RuleKind, Standing, Volume,
    },
    finding::{Finding, Rule, Severity},
    units::Bytes,
};

/// One machine before one host.
#[derive(Clone, Copy)]
pub struct Ask<'a> {
    pub machine: &'a Machine,
    pub row: &'a Account,
    pub cluster: Option<&'a Cluster>,
    pub estate: &'a Estate,
}

/// Why a machine may not, or should not, run on a host; with the figures.
#[derive(Debug, Clone, PartialEq)]
pub enum Obstacle {
    NotOpen {
        why: String,
    },
    Memory {
        needs: Bytes,
        free: Bytes,
        installed: Bytes,
    },
    Overcommit {
        hundredths: u64,
    },
    MoreVcpusThanCores {
        vcpus: u32,
        cores: u32,
    },
    MoreVcpusThanThreads {
        vcpus: u32,
        threads: u32,
    },
    Ratio {
        hundredths: u64,
    },
    Numa {
        cores: u32,
        memory: Bytes,
    },
    Level {
        host: PsabiLevel,
        cluster: PsabiLevel,
    },
    Maker {
        host: String,
        cluster: String,
    },
    Hardware {
        machine: u32,
        host: u32,
    },
    Apart {
        group: String,
    },
    /// The others of a keep-together rule are elsewhere.
    Together {
        rule: String,
    },
    /// A rule keeps it to other hosts.
    Pinned {
        rule: String,
    },
    /// A rule that is only preferred would be broken.
    Preferred {
        rule: String,
    },
    /// It doesn't mount a volume that the machine has a disk on, or no path to it works.
    NoPath {
        volume: String,
    },
    OnePath {
        volume: String,
    },
    /// The host or its switch port doesn't carry a network of the machine as it was meant.
    Network {
        network: String,
        why: String,
        /// False where the switch port could not be read.
        known: bool,
    },
}

type FitRule = fn(Ask<'_>) -> Option<Obstacle>;

const RULES: &[FitRule] = &[
    open, memory, overcommit, cores, ratio, numa, level, maker, hardware, apart, together, pinned,
    preferred, storage, network,
];

/// How many checks stand behind a clear answer.
pub fn clear_checks() -> usize {
    RULES.len()
}

/// Everything that speaks against it; empty when all is clear.
pub fn obstacles(ask: Ask<'_>) -> Vec<Obstacle> {
    RULES.iter().filter_map(|rule| rule(ask)).collect()
}

fn open(ask: Ask<'_>) -> Option<Obstacle> {
    let why = match &ask.row.host.condition {
        Condition::Steady if ask.row.host.maintenance.is_none() => return None,
        Condition::Steady => "it is in maintenance".to_owned(),
        Condition::Claiming => "it is being claimed".to_owned(),
        Condition::Lost { why, .. } => format!("its agent does not answer ({why})"),
        Condition::Hangs { why, .. } => {
            format!("its agent answers nothing that it is asked ({why})")
        }
        Condition::Stranger { .. } => "its certificate is not the pinned one".to_owned(),
        Condition::Off { .. } => "it is off".to_owned(),
        Condition::ShutOut { .. } => "it is shut out of its storage".to_owned(),
    };
    Some(Obstacle::NotOpen { why })
}

fn memory(ask: Ask<'_>) -> Option<Obstacle> {
    let (needs, free) = (ask.machine.held(), ask.row.free());
    (needs > free).then_some(Obstacle::Memory {
        needs,
        free,
        installed: ask.row.host.hardware.memory,
    })
}

fn overcommit(ask: Ask<'_>) -> Option<Obstacle> {
    let usable = ask.row.host.usable();
    let sizes = ask.row.size + ask.machine.memory.size;
    let hundredths = (u128::from(sizes.0) * 100).checked_div(u128::from(usable.0))?;
    (hundredths > 125).then(|| Obstacle::Overcommit {
        hundredths: u64::try_from(hundredths).unwrap_or(u64::MAX),
    })
}

fn cores(ask: Ask<'_>) -> Option<Obstacle> {
    let cpu = &ask.row.host.hardware.cpu;
    let vcpus = ask.machine.vcpus;
    if vcpus > cpu.threads {
        Some(Obstacle::MoreVcpusThanThreads {
            vcpus,
            threads: cpu.threads,
        })
    } else {
        (vcpus > cpu.cores).then_some(Obstacle::MoreVcpusThanCores {
            vcpus,
            cores: cpu.cores,
        })
    }
}

fn ratio(ask: Ask<'_>) -> Option<Obstacle> {
    let vcpus = u64::from(ask.row.vcpus) + u64::from(ask.machine.vcpus);
    let hundredths = (vcpus * 100).checked_div(u64::from(ask.row.host.hardware.cpu.cores))?;
    (hundredths > 400).then_some(Obstacle::Ratio { hundredths })
}

fn numa(ask: Ask<'_>) -> Option<Obstacle> {
    let hardware = &ask.row.host.hardware;
    let nodes = hardware.numa_nodes.max(1);
    let cores = hardware.cpu.cores / nodes;
    let memory = Bytes(hardware.memory.0 / u64::from(nodes));
    let wide = ask.machine.vcpus > cores || ask.machine.memory.size > memory;
    (nodes > 1 && wide).then_some(Obstacle::Numa { cores, memory })
}

fn level(ask: Ask<'_>) -> Option<Obstacle> {
    let (host, cluster) = (ask.row.host.hardware.cpu.level, ask.cluster?.cpu_level);
    (host < cluster).then_some(Obstacle::Level { host, cluster })
}

fn maker(ask: Ask<'_>) -> Option<Obstacle> {
    let (host, cluster) = (&ask.row.host.hardware.cpu.maker, &ask.cluster?.cpu_maker);
    (host != cluster).then(|| Obstacle::Maker {
        host: host.clone(),
        cluster: cluster.clone(),
    })
}

fn hardware(ask: Ask<'_>) -> Option<Obstacle> {
    let (machine, host) = (
        ask.machine.virtual_hardware,
        ask.row.host.hardware.virtual_hardware,
    );
    (machine > host).then_some(Obstacle::Hardware { machine, host })
}

fn apart(ask: Ask<'_>) -> Option<Obstacle> {
    let mut groups = ask.estate.apart_groups(ask.machine).into_iter();
    let group = groups.find(|g| ask.row.groups.contains(g))?;
    Some(Obstacle::Apart { group })
}

/// Where the other machines of a keep-together rule are; none while none of them is on.
fn away(ask: Ask<'_>, rule: &PlaceRule) -> bool {
    let machines = ask.cluster.map(|c| ask.estate.machines_in(c.id));
    let others = machines
        .into_iter()
        .flatten()
        .filter(|m| m.id != ask.machine.id && rule.who.has(m));
    // Where they are going counts: they are moved as one.
    let mut hosts = others.filter_map(|m| m.arriving.or(m.host)).peekable();
    hosts.peek().is_some() && !hosts.any(|h| h == ask.row.host.id)
}

fn together(ask: Ask<'_>) -> Option<Obstacle> {
    let mut rules = ask.estate.rules_of(ask.machine);
    let rule = rules.find(|r| r.required && r.kind == RuleKind::Together && away(ask, r))?;
    Some(Obstacle::Together {
        rule: rule.name.to_string(),
    })
}

fn pinned(ask: Ask<'_>) -> Option<Obstacle> {
    let mut rules = ask.estate.rules_of(ask.machine);
    let off = |r: &&PlaceRule| matches!(&r.kind, RuleKind::Pinned(to) if !to.has(&ask.row.host));
    let rule = rules.find(|r| r.required && off(r))?;
    Some(Obstacle::Pinned {
        rule: rule.name.to_string(),
    })
}

/// The first preferred rule that this host would break.
fn preferred(ask: Ask<'_>) -> Option<Obstacle> {
    let shares = |rule: &PlaceRule| {
        let on = ask.estate.machines_on(ask.row.host.id);
        on.into_iter()
            .any(|m| m.id != ask.machine.id && rule.who.has(m))
    };
    let broken = |rule: &&PlaceRule| match &rule.kind {
        RuleKind::Apart => shares(rule),
        RuleKind::Together => away(ask, rule),
        RuleKind::Pinned(to) => !to.has(&ask.row.host),
    };
    let mut rules = ask.estate.rules_of(ask.machine).filter(|r| !r.required);
    let rule = rules.find(broken)?;
    Some(Obstacle::Preferred {
        rule: rule.name.to_string(),
    })
}

/// Mounted by at least two paths (rules, section 1.5); the worst volume speaks.
fn storage(ask: Ask<'_>) -> Option<Obstacle> {
    let mut ways: Vec<(usize, &Volume)> = ask
        .machine
        .mounts()
        .iter()
        .filter_map(|id| ask.estate.volumes.get(id))
        .map(|v| (ask.row.host.paths_up(v.id), &**v))
        .collect();
    ways.sort_by_key(|(up, v)| (*up, v.id));
    match ways.first() {
        Some((0, v)) => Some(Obstacle::NoPath {
            volume: v.name.clone(),
        }),
        Some((1, v)) => Some(Obstacle::OnePath {
            volume: v.name.clone(),
        }),
        _ => None,
    }
}

/// Every network of the machine is on the host and carried by its switch ports (rules, section 1.6).
fn network(ask: Ask<'_>) -> Option<Obstacle> {
    let mut worst = None;
    for id in ask.machine.nics.iter().filter_map(|n| n.network) {
        let Some(network) = ask.estate.networks.get(&id) else {
            continue;
        };
        let standing = network.standing(ask.estate, &ask.row.host);
        let found = |known| Obstacle::Network {
            network: network.name.clone(),
            why: standing.words(),
            known,
        };
        match &standing {
            Standing::Fine => {}
            Standing::Unchecked(_) => worst = worst.or(Some(found(false))),
            _ => return Some(found(true)),
        }
    }
    worst
}

impl Obstacle {
    pub fn severity(&self) -> Severity {
        match self {
            Obstacle::Overcommit { hundredths } if *hundredths <= 150 => Severity::Mind,
            Obstacle::Ratio { hundredths } if *hundredths <= 800 => Severity::Mind,
            Obstacle::Network { known: false, .. } => Severity::Unchecked,
            Obstacle::MoreVcpusThanCores { .. }
            | Obstacle::Numa { .. }
            | Obstacle::Preferred { .. }
            | Obstacle::OnePath { .. } => Severity::Mind,
            _ => Severity::Stop,
        }
    }
    pub fn stops(&self) -> bool {
        self.severity() == Severity::Stop
    }
    fn rule(&self) -> Rule {
        match self {
            Obstacle::NotOpen { .. } => Rule::HostOpen,
            Obstacle::Memory { .. } => Rule::Memory,
            Obstacle::Overcommit { .. } => Rule::Overcommit,
            Obstacle::MoreVcpusThanCores { .. } | Obstacle::MoreVcpusThanThreads { .. } => {
                Rule::Cores
            }
            Obstacle::Ratio { .. } => Rule::CpuRatio,
            Obstacle::Numa { .. } => Rule::Numa,
            Obstacle::Level { .. } => Rule::CpuLevel,
            Obstacle::Maker { .. } => Rule::CpuMaker,
            Obstacle::Hardware { .. } => Rule::Hardware,
            Obstacle::Apart { .. } => Rule::Apart,
            Obstacle::Together { .. } | Obstacle::Pinned { .. } | Obstacle::Preferred { .. } => {
                Rule::Place
            }
            Obstacle::NoPath { .. } | Obstacle::OnePath { .. } => Rule::Paths,
            Obstacle::Network { .. } => Rule::Wire,
        }
    }
    /// In a few words, behind the host's name.
    pub fn words(&self) -> String {
        match self {
            Obstacle::NotOpen { why } => why.clone(),
            Obstacle::Memory { needs, free, .. } => {
                format!(
                    "{} too little memory ({free} free, {needs} needed)",
                    needs.less(*free)
                )
            }
            Obstacle::Overcommit { hundredths } => {
                format!(
                    "memory would be promised {} times over",
                    decimal(*hundredths)
                )
            }
            Obstacle::MoreVcpusThanCores { vcpus, cores } => {
                format!("{vcpus} vCPUs on {cores} cores")
            }
            Obstacle::MoreVcpusThanThreads { vcpus, threads } => {
                format!("{vcpus} vCPUs, but only {threads} hardware threads")
            }
            Obstacle::Ratio { hundredths } => format!("{} vCPUs per core", decimal(*hundredths)),
            Obstacle::Numa { cores, memory } => {
                format!("wider than one NUMA node ({cores} cores, {memory})")
            }
            Obstacle::Level { host, cluster } => {
                format!("its CPU is {host}, the cluster asks for {cluster}")
            }
            Obstacle::Maker { host, cluster } => {
                format!("its CPU is from {host}, the cluster's from {cluster}")
            }
            Obstacle::Hardware { machine, host } => {
                format!("it runs virtual hardware up to {host}, the machine has {machine}")
            }
            Obstacle::Network { network, why, .. } => format!("network {network}: {why}"),
            Obstacle::Together { rule } => {
                format!("the others of “{rule}”, which are kept together, are elsewhere")
            }
            Obstacle::Pinned { rule } => format!("“{rule}” keeps it to other hosts"),
            Obstacle::Preferred { rule } => {
                format!("“{rule}”, which is preferred, would be broken")
            }
            Obstacle::NoPath { volume } => format!("no path to {volume} works"),
            Obstacle::OnePath { volume } => format!("only one path to {volume} works"),
            Obstacle::Apart { group } => {
                format!("another machine of “{group}”, which are kept apart, is there")
            }
        }
    }
    pub fn finding(&self, machine: &str, host: &str) -> Finding {
        let field = match self {
            Obstacle::Memory { .. } | Obstacle::Overcommit { .. } => "memory",
            Obstacle::MoreVcpusThanCores { .. }
            | Obstacle::MoreVcpusThanThreads { .. }
            | Obstacle::Ratio { .. } => "vcpus",
            Obstacle::Numa { .. } => "memory",
            Obstacle::Apart { .. } => "apart",
            _ => "host",
        };
        Finding::new(
            self.rule(),
            self.severity(),
            machine,
            format!("{machine} on {host}: {}.", self.words()),
        )
        .at(field)
    }
}

fn decimal(hundredths: u64) -> String {
    format!("{}.{:02}", hundredths / 100, hundredths % 100)
}
