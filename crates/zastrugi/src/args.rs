//! The command line.

use clap::{Args as ClapArgs, Parser, Subcommand};
use ipnet::IpNet;
use std::{
    net::{IpAddr, SocketAddr},
    path::PathBuf,
};

/// Zastrugi: hosts, clusters and virtual machines, with the consequences before the action.
#[derive(Debug, Parser)]
#[command(version)]
pub(crate) struct Args {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Serve the pages and do the work.
    Serve(Serve),
    /// Run the simulated devices.
    Standins(Standins),
    /// Serve, with simulated devices, people and a filled estate.
    Demo(Demo),
    /// Decide a cluster's recovery without a manager or a database; a host runs it with what it was given.
    Keeper(Keeper),
    /// Bring the database up to date and leave.
    Migrate(Migrate),
    /// Add somebody who may sign in; the password is read from standard input.
    AddPerson(AddPerson),
    /// Try a host agent against the protocol. It is claimed, a machine made, run and removed, and handed back.
    AgentCheck(AgentCheck),
    /// Look at a machine in an archive, without database or devices.
    Ovf(Ovf),
    /// Look into a backup store with nothing but its place and its key; machines come out of it without a manager.
    Store(Store),
    /// Set up a second manager at another site, that takes over when this one's site is gone.
    StandBy(StandBy),
    /// Compute from files, without database or devices; answers in JSON.
    Compute(Compute),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Keeper {
    /// The serial of the host on which it runs.
    #[arg(long)]
    pub(crate) serial: String,
    /// The cluster that it watches, as its host was told.
    #[arg(long)]
    pub(crate) cluster: String,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Ovf {
    #[command(subcommand)]
    pub(crate) what: OvfWhat,
}

#[derive(Debug, Subcommand)]
pub(crate) enum OvfWhat {
    /// Read an archive from front to back: descriptor, manifest, sums, and whether it would be taken in.
    Check {
        /// A file in the OVA format; `-` reads standard input.
        file: PathBuf,
    },
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Store {
    #[command(subcommand)]
    pub(crate) what: StoreWhat,
}

/// Where a store lies, and what opens it.
#[derive(Debug, ClapArgs)]
pub(crate) struct At {
    /// A folder of a mounted export, or a bucket such as https://10.20.0.9:9443/bucket/folder.
    pub(crate) place: String,
    /// A file with the store's key, as it was shown when the store was made.
    #[arg(long)]
    pub(crate) key_file: PathBuf,
    /// Name of the bucket's access key.
    #[arg(long)]
    pub(crate) access: Option<String>,
    /// A file with its secret.
    #[arg(long)]
    pub(crate) secret_file: Option<PathBuf>,
    #[arg(long, default_value = "us-east-1")]
    pub(crate) region: String,
    /// SHA-256 of the server's public key.
    #[arg(long)]
    pub(crate) pin: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum StoreWhat {
    /// The recovery points in it, by machine and instant.
    List {
        #[command(flatten)]
        at: At,
        /// Only those of a machine, by its name or identity.
        #[arg(long)]
        machine: Option<String>,
    },
    /// Whether everything that its recovery points need is there; leaves with 2 where it is not.
    Check {
        #[command(flatten)]
        at: At,
        /// Read and open every chunk too.
        #[arg(long)]
        read: bool,
    },
    /// Write the disks of a recovery point into a folder.
    Restore {
        #[command(flatten)]
        at: At,
        /// By its name or identity.
        machine: String,
        /// The session that `list` tells; without it the newest.
        #[arg(long)]
        point: Option<String>,
        /// Files in it are not written over.
        #[arg(long)]
        out: PathBuf,
    },
}

#[derive(Debug, ClapArgs)]
pub(crate) struct StandBy {
    #[command(subcommand)]
    pub(crate) what: StandByWhat,
}

#[derive(Debug, Subcommand)]
pub(crate) enum StandByWhat {
    /// At the manager: make its database ready to be followed, and write an invitation.
    Invite(Invite),
    /// At the other site: copy the database by an invitation, and let it follow.
    Join(Join),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Invite {
    #[command(flatten)]
    pub(crate) database: Database,
    /// Address of the same database for somebody who administers its server.
    #[arg(long, env = "ADMIN_DATABASE_URL", hide_env_values = true)]
    pub(crate) admin_database: Option<String>,
    #[arg(long, default_value = "zastrugi.key")]
    pub(crate) key_file: PathBuf,
    /// What it is called, such as hilltop.
    #[arg(long)]
    pub(crate) name: String,
    /// Where the stand-by reaches the database's server; as this manager does, if nothing is said here.
    #[arg(long)]
    pub(crate) reach: Option<SocketAddr>,
    /// The invitation, readable only by whoever writes it.
    #[arg(long, default_value = "invitation.json")]
    pub(crate) out: PathBuf,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Join {
    #[arg(long, default_value = "invitation.json")]
    pub(crate) invitation: PathBuf,
    /// Where the copy of the database lies: a directory that is not there yet, or empty.
    #[arg(long)]
    pub(crate) data: PathBuf,
    /// On which port of loopback it listens.
    #[arg(long, default_value_t = 5432)]
    pub(crate) port: u16,
    /// Where PostgreSQL's programs are.
    #[arg(long)]
    pub(crate) bin: Option<PathBuf>,
    /// Written: what opens the key that was wrapped for this stand-by.
    #[arg(long, default_value = "stand-by.key")]
    pub(crate) key_file: PathBuf,
    /// Written: the address of the copy, as an environment.
    #[arg(long, default_value = "stand-by.env")]
    pub(crate) env_file: PathBuf,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Compute {
    #[command(subcommand)]
    pub(crate) what: ComputeWhat,
}

/// Where hosts and machines are read from.
#[derive(Debug, ClapArgs)]
pub(crate) struct Source {
    /// The bare problem: hosts and machines as numbers.
    #[arg(long, required_unless_present = "estate", conflicts_with = "estate")]
    pub(crate) table: Option<PathBuf>,
    /// A cluster that was saved as a file on its page.
    #[arg(long)]
    pub(crate) estate: Option<PathBuf>,
    /// Which cluster of the estate.
    #[arg(long)]
    pub(crate) cluster: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ComputeWhat {
    /// How many hosts may fail, and what happens when each set of them does.
    Headroom {
        #[command(flatten)]
        source: Source,
        /// Every set of up to so many hosts.
        #[arg(long, default_value_t = 1)]
        failures: usize,
        /// Only these hosts, together.
        #[arg(long, value_delimiter = ',')]
        fail: Vec<String>,
    },
    /// Hosts for the machines that have none.
    Place {
        #[command(flatten)]
        source: Source,
    },
    /// The moves that make the hosts most alike.
    Balance {
        #[command(flatten)]
        source: Source,
        /// At most so many.
        #[arg(long)]
        moves: usize,
    },
    /// Hosts for all machines of one.
    Evacuate {
        #[command(flatten)]
        source: Source,
        #[arg(long)]
        host: String,
    },
    /// The course of a live migration.
    Migrate {
        #[arg(long)]
        case: PathBuf,
    },
}

#[derive(Debug, Clone, ClapArgs)]
pub(crate) struct Database {
    /// Address of the database.
    #[arg(long, env = "DATABASE_URL", hide_env_values = true)]
    pub(crate) database: String,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Migrate {
    #[command(flatten)]
    pub(crate) database: Database,
}

/// A network, or one address.
fn net(text: &str) -> Result<IpNet, String> {
    let one = |_| text.parse::<IpAddr>().map(IpNet::from);
    let net = text.parse().or_else(one);
    net.map_err(|_| format!("“{text}” is neither a network nor an address"))
}

#[derive(Debug, Clone, ClapArgs)]
pub(crate) struct Serve {
    #[command(flatten)]
    pub(crate) database: Database,
    #[arg(long, default_value = "127.0.0.1")]
    pub(crate) address: IpAddr,
    #[arg(long, default_value_t = 8470)]
    pub(crate) port: u16,
    /// File with the key that seals secrets; made if it isn't there.
    #[arg(long, default_value = "zastrugi.key")]
    pub(crate) key_file: PathBuf,
    /// A proxy in front does TLS; needed to listen beyond loopback.
    #[arg(long)]
    pub(crate) behind_proxy: bool,
    /// Proxies that are believed about whom they met, as addresses or networks.
    #[arg(long, value_delimiter = ',', default_value = "127.0.0.1/32,::1/128", value_parser = net)]
    pub(crate) proxies: Vec<IpNet>,
    /// Name of this installation, for its first start.
    #[arg(long, default_value = "Zastrugi")]
    pub(crate) name: String,
    /// Management networks, for its first start.
    #[arg(long, default_value = "")]
    pub(crate) networks: String,
    /// UDP port on which hosts announce themselves; 0 to not listen.
    #[arg(long, default_value_t = 5353)]
    pub(crate) announcements: u16,
    /// The machine in which this manager runs, by its UUID; what its firmware says, if nothing is said here.
    #[arg(long, env = "ZASTRUGI_OWN_MACHINE")]
    pub(crate) own_machine: Option<uuid::Uuid>,
    /// Directory of images that hosts are installed from.
    #[arg(long)]
    pub(crate) media: Option<PathBuf>,
    /// Directory in which exports for backups are mounted, each under its name.
    #[arg(long)]
    pub(crate) exports: Option<PathBuf>,
    /// Under which address devices read them from this manager; where it listens, if nothing is said here.
    #[arg(long)]
    pub(crate) media_url: Option<String>,
    /// The demo's devices are broken from a page, by this control socket.
    #[arg(long, hide = true, requires = "control_token")]
    pub(crate) weather: Option<SocketAddr>,
    #[arg(
        long,
        env = "ZASTRUGI_CONTROL_TOKEN",
        hide = true,
        hide_env_values = true
    )]
    pub(crate) control_token: Option<String>,
    /// The database follows another manager's: show what it has received, and offer to take over. Once it leads, work.
    #[arg(long, conflicts_with = "carry_only")]
    pub(crate) stand_by: bool,
    /// Only show pages; another process does the work.
    #[arg(long)]
    pub(crate) pages_only: bool,
    /// No pages and no other work: carry bytes of copies at this site; more than one with commas between them.
    #[arg(long, value_delimiter = ',', conflicts_with = "pages_only")]
    pub(crate) carry_only: Vec<String>,
    /// How long an order that this process took is its own, in seconds.
    #[arg(long, default_value_t = 30, hide = true)]
    pub(crate) order_lease: u64,
    /// Kills the process there; for tests.
    #[arg(long, hide = true)]
    pub(crate) die_at: Option<zastrugi_engine::Boundary>,
}

#[derive(Debug, Clone, ClapArgs)]
pub(crate) struct Standins {
    /// Where their state is kept.
    #[arg(long)]
    pub(crate) dir: PathBuf,
    /// First two numbers of all their addresses.
    #[arg(long, default_value = "127.77")]
    pub(crate) net: String,
    /// Virtual seconds per second.
    #[arg(long, default_value_t = 1.0)]
    pub(crate) speed: f64,
    /// A scenario file; the demo's if none is given.
    #[arg(long)]
    pub(crate) scenario: Option<PathBuf>,
    /// Instead of a scenario: this many hosts and machines, such as 1000x20000.
    #[arg(long)]
    pub(crate) large: Option<String>,
    /// UDP port for announcements; 0 for silence.
    #[arg(long, default_value_t = 5353)]
    pub(crate) announcements: u16,
    #[arg(long, default_value_t = 0)]
    pub(crate) control_port: u16,
    /// Token for the control socket.
    #[arg(long, env = "ZASTRUGI_CONTROL_TOKEN", hide_env_values = true)]
    pub(crate) control_token: String,
}

#[derive(Debug, Clone, ClapArgs)]
pub(crate) struct Demo {
    #[command(flatten)]
    pub(crate) database: Database,
    #[arg(long, default_value_t = 8470)]
    pub(crate) port: u16,
    /// Where keys and the devices' state are kept.
    #[arg(long)]
    pub(crate) dir: PathBuf,
    #[arg(long, default_value_t = 1.0)]
    pub(crate) speed: f64,
    /// The devices are there, and nothing is claimed.
    #[arg(long)]
    pub(crate) empty: bool,
    #[arg(long, default_value = "127.77")]
    pub(crate) net: String,
    #[arg(long, default_value_t = 5353)]
    pub(crate) announcements: u16,
    #[arg(long, default_value_t = 0)]
    pub(crate) control_port: u16,
    /// A copy of the database that follows: a second manager stands by on it, on the next port.
    #[arg(long, env = "STAND_BY_DATABASE_URL", hide_env_values = true)]
    pub(crate) stand_by_database: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct AddPerson {
    #[command(flatten)]
    pub(crate) database: Database,
    #[arg(long, default_value = "zastrugi.key")]
    pub(crate) key_file: PathBuf,
    pub(crate) name: String,
    /// viewer, operator or admin
    pub(crate) role: String,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct AgentCheck {
    /// Address of the agent, such as https://10.1.2.3:7443
    pub(crate) url: String,
    /// Identity of a volume that the host sees.
    #[arg(long)]
    pub(crate) volume: String,
    /// Its first password.
    #[arg(long, env = "AGENT_PASSWORD", hide_env_values = true)]
    pub(crate) password: String,
}
