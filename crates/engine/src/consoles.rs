//! Open consoles of this process: each is followed once, a machine's on whatever host it runs, and shown to all who look.

use crate::shared::Shared;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::{sync::broadcast, task::AbortHandle};
use zastrugi_core::{
    estate::Machine,
    ids::{HostId, MachineId},
    rooms::consoles::ConsoleOf,
};
use zastrugi_drivers::Console;

/// The most that a late comer is shown of what was printed before.
const HISTORY: usize = 64 << 10;
/// Pieces that a slow viewer may be behind.
const BEHIND: usize = 512;

/// What all viewers of a console are told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Told {
    Printed(Vec<u8>),
    /// Where it is, or why there is nothing to see.
    State(String),
    /// What somebody typed did not get there.
    Undelivered,
    /// Who types, and how many look.
    People {
        writer: String,
        viewers: usize,
    },
}

struct Open {
    told: broadcast::Sender<Told>,
    history: Vec<u8>,
    state: String,
    /// Number and name of who types.
    writer: Option<(u64, String)>,
    viewers: usize,
    follower: AbortHandle,
}

#[derive(Default)]
pub(crate) struct Consoles {
    open: Mutex<HashMap<ConsoleOf, Open>>,
    next: Mutex<u64>,
}

impl Consoles {
    fn lock(&self) -> MutexGuard<'_, HashMap<ConsoleOf, Open>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
    fn tell(&self, of: ConsoleOf, told: Told) {
        if let Some(open) = self.lock().get_mut(&of) {
            match &told {
                Told::Printed(bytes) => {
                    open.history.extend(bytes);
                    let over = open.history.len().saturating_sub(HISTORY);
                    open.history.drain(..over);
                }
                Told::State(words) => {
                    if open.state == *words {
                        return;
                    }
                    open.state.clone_from(words);
                }
                Told::Undelivered | Told::People { .. } => {}
            }
            // Nobody may be looking just now.
            drop(open.told.send(told));
        }
    }
    fn people(open: &Open) -> Told {
        Told::People {
            writer: open
                .writer
                .as_ref()
                .map_or_else(String::new, |w| w.1.clone()),
            viewers: open.viewers,
        }
    }
}

/// One person looking at one console; it closes when this is dropped.
pub struct Look {
    shared: Arc<Shared>,
    of: ConsoleOf,
    number: u64,
    name: String,
    /// Whether this person may type at all.
    writes: bool,
    told: broadcast::Receiver<Told>,
    /// Told first: what was printed before, where it is, who else is here.
    first: Vec<Told>,
}

impl Drop for Look {
    fn drop(&mut self) {
        let mut all = self.shared.consoles.lock();
        let Some(open) = all.get_mut(&self.of) else {
            return;
        };
        open.viewers -= 1;
        if open.writer.as_ref().is_some_and(|w| w.0 == self.number) {
            open.writer = None;
        }
        if open.viewers == 0 {
            open.follower.abort();
            all.remove(&self.of);
        } else {
            drop(open.told.send(Consoles::people(open)));
        }
    }
}

pub(crate) fn look(shared: &Arc<Shared>, of: ConsoleOf, name: &str, writes: bool) -> Look {
    let number = {
        let mut next = shared
            .consoles
            .next
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        *next += 1;
        *next
    };
    let mut all = shared.consoles.lock();
    let open = all.entry(of).or_insert_with(|| Open {
        told: broadcast::channel(BEHIND).0,
        history: vec![],
        state: "connecting".into(),
        writer: None,
        viewers: 0,
        follower: tokio::spawn(follow(shared.clone(), of)).abort_handle(),
    });
    open.viewers += 1;
    if writes && open.writer.is_none() {
        open.writer = Some((number, name.to_owned()));
    }
    let people = Consoles::people(open);
    let told = open.told.subscribe();
    drop(open.told.send(people.clone()));
    Look {
        shared: shared.clone(),
        of,
        number,
        name: name.to_owned(),
        writes,
        told,
        first: vec![
            people,
            Told::State(open.state.clone()),
            Told::Printed(open.history.clone()),
        ],
    }
}

impl Look {
    /// The next thing to show; none when this viewer was too slow and must look again.
    pub async fn next(&mut self) -> Option<Told> {
        if let Some(told) = self.first.pop() {
            return Some(told);
        }
        self.told.recv().await.ok()
    }
    pub fn is_writer(&self) -> bool {
        let all = self.shared.consoles.lock();
        let open = all.get(&self.of);
        open.and_then(|o| o.writer.as_ref())
            .is_some_and(|w| w.0 == self.number)
    }
    /// From now on this viewer types, and whoever did looks on.
    pub fn take_over(&self) {
        if !self.writes {
            return;
        }
        let mut all = self.shared.consoles.lock();
        if let Some(open) = all.get_mut(&self.of) {
            open.writer = Some((self.number, self.name.clone()));
            drop(open.told.send(Consoles::people(open)));
        }
    }
    /// Types, if this viewer is who types. What can't be delivered is said where it is shown.
    pub async fn type_text(&self, text: &str) {
        if !self.is_writer() {
            return;
        }
        if !self.deliver(text).await {
            self.shared.consoles.tell(self.of, Told::Undelivered);
        }
    }

    /// The guest's terminal is as large as that of whoever types; a guest that can't be told keeps its own.
    pub async fn resize(&self, columns: u16, rows: u16) {
        let ConsoleOf::Machine(id) = self.of else {
            return;
        };
        if !self.is_writer() {
            return;
        }
        let (estate, drivers) = (self.shared.estate(), &self.shared.drivers);
        if let Some(machine) = estate.machines.get(&id)
            && let Some(host) = machine.host.and_then(|h| estate.hosts.get(&h))
        {
            let told = drivers.resize_terminal(host, &machine.uuid, columns, rows);
            drop(told.await);
        }
    }

    async fn deliver(&self, text: &str) -> bool {
        let (estate, drivers) = (self.shared.estate(), &self.shared.drivers);
        match self.of {
            ConsoleOf::Host(id) => match estate.hosts.get(&id) {
                Some(host) => drivers.type_at_host(host, text).await.is_ok(),
                None => false,
            },
            ConsoleOf::Machine(id) => {
                let Some(machine) = estate.machines.get(&id) else {
                    return false;
                };
                // In the middle of a move the machine may be at either end.
                for host in machine.host.into_iter().chain(machine.arriving) {
                    if let Some(host) = estate.hosts.get(&host)
                        && drivers.type_text(host, &machine.uuid, text).await.is_ok()
                    {
                        return true;
                    }
                }
                false
            }
        }
    }
}

async fn follow(shared: Arc<Shared>, of: ConsoleOf) {
    match of {
        ConsoleOf::Machine(id) => follow_machine(shared, of, id).await,
        ConsoleOf::Host(id) => follow_host(shared, of, id).await,
    }
}

/// Shows what comes until it ends; answers how far it got.
async fn show(shared: &Shared, of: ConsoleOf, mut console: Console, mut seen: u64) -> u64 {
    while let Ok((from, bytes)) = console.next().await {
        // Another boot begins anew.
        seen = from + u64::try_from(bytes.len()).unwrap_or(0);
        if !bytes.is_empty() {
            shared.consoles.tell(of, Told::Printed(bytes));
        }
    }
    seen
}

/// Follows a host's own console by its management controller while somebody looks.
async fn follow_host(shared: Arc<Shared>, of: ConsoleOf, id: HostId) {
    let mut seen = 0;
    while let Some(host) = shared.estate().hosts.get(&id).cloned() {
        match shared.drivers.host_console(&host, seen).await {
            Ok(console) => {
                let words = "by its controller".to_owned();
                shared.consoles.tell(of, Told::State(words));
                seen = show(&shared, of, console, seen).await;
            }
            Err(fault) => shared.consoles.tell(of, Told::State(fault.said)),
        }
        tokio::time::sleep(Duration::from_millis(400)).await;
    }
    let words = "the host was handed back".to_owned();
    shared.consoles.tell(of, Told::State(words));
}

/// Follows a machine's console from host to host while somebody looks.
async fn follow_machine(shared: Arc<Shared>, of: ConsoleOf, id: MachineId) {
    let mut seen = 0;
    loop {
        let estate = shared.estate();
        let Some(machine) = estate.machines.get(&id).cloned() else {
            shared
                .consoles
                .tell(of, Told::State("the machine is gone".into()));
            return;
        };
        let mut connected = false;
        for host in machine.host.into_iter().chain(machine.arriving) {
            let Some(host) = estate.hosts.get(&host) else {
                continue;
            };
            let Ok(console) = shared.drivers.console(host, &machine.uuid, seen).await else {
                continue;
            };
            connected = true;
            let words = format!("on {}", host.name);
            shared.consoles.tell(of, Told::State(words));
            seen = show(&shared, of, console, seen).await;
        }
        if !connected {
            shared.consoles.tell(of, Told::State(why(&machine)));
            tokio::time::sleep(Duration::from_millis(400)).await;
        } else {
            // It has moved or stopped; look at once where it is.
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
}

fn why(machine: &Machine) -> String {
    if machine.is_off() {
        "the machine is off".into()
    } else {
        "its host does not answer".into()
    }
}
