//! Steps and questions about storage: at the array, and at the hosts that mount what it gives.

use crate::{
    Drivers, Outcome, Turn,
    agent::Agent,
    fault::words,
    perform::{done, stamp},
    swordfish::Keeper,
};
use serde::Deserialize;
use zastrugi_core::{
    estate::{Array, Disk, Estate, Host, Volume},
    evidence::{Answer, SeenDevice, SeenLun},
    ids::{ArrayId, HostId, VolumeId},
    moment::{Moment, Span},
    observe::{adopt, shares},
    rooms::{
        Event, images, machines, sharing,
        storage::{self, Step},
    },
    runs::{Fault, FaultKind},
};

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Root {
    name: String,
}

/// The longest that reading a whole array may take.
const WHOLE_LOOK: std::time::Duration = std::time::Duration::from_secs(12);

fn premise(said: impl Into<String>) -> Fault {
    Fault::new(FaultKind::Premise, said, "Cancel the run.")
}

impl Drivers {
    /// Who manages storage at `address`? Nothing secret is sent.
    pub(crate) async fn array_greeting(&self, address: &str) -> Result<Answer, Fault> {
        self.allowed(address)?;
        let (root, pin) = self.http.greet::<Root>(address, "/redfish/v1/").await?;
        Ok(Answer::Manager {
            name: words(&root.name),
            pin,
        })
    }

    pub(crate) async fn password_of(&self, array: &Array) -> Result<String, Fault> {
        for controller in &array.controllers {
            self.allowed(&controller.address)?;
        }
        let key = array.key.ok_or_else(|| premise("No password is kept."))?;
        self.secrets.open(key).await
    }

    pub(crate) fn keeper<'a>(
        &'a self,
        array: &'a Array,
        password: &'a str,
        key: &'a str,
    ) -> Keeper<'a> {
        Keeper {
            http: &self.http,
            array,
            password,
            key,
        }
    }

    pub(crate) async fn luns(&self, array: &Array) -> Result<Vec<SeenLun>, Fault> {
        let password = self.password_of(array).await?;
        self.keeper(array, &password, "").luns().await
    }

    /// Reads the array as it is now; a silent one is an answer too. Changes nothing there.
    pub async fn look_at(&self, estate: &Estate, array: &Array, now: Moment) -> Vec<Event> {
        let read = async {
            let password = self.password_of(array).await?;
            self.keeper(array, &password, "").seen(estate, now).await
        };
        // An array that hangs takes every one of its calls: it is silent after so long.
        let read = tokio::time::timeout(WHOLE_LOOK, read)
            .await
            .unwrap_or_else(|_| {
                let said = format!("{} takes calls and does not answer them.", array.name);
                Err(Fault::new(FaultKind::TimedOut, said, "Look at it."))
            });
        read.unwrap_or_else(|fault| {
            vec![Event::Storage(storage::Event::ArraySeen(Box::new(
                crate::swordfish::lost(array, &fault, now),
            )))]
        })
    }

    pub(crate) async fn at_storage(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::ReadArray { array }
            | Step::MakeLun { array, .. }
            | Step::GrowLun { array, .. }
            | Step::Map { array, .. }
            | Step::Unmap { array, .. } => self.at_array(estate, *array, step, turn).await,
            Step::LogIn { array, host } => self.log_in(estate, *array, *host, turn).await,
            Step::Prepare { volume, host, .. }
            | Step::Mount { volume, host }
            | Step::CheckPaths { volume, host }
            | Step::Unmount { volume, host }
            | Step::Fill { volume, host }
            | Step::Disown { volume, host } => {
                let host = self.host_of(estate, *host)?;
                let key = self.key_of(host).await?;
                let gone = || premise("The volume is gone.");
                let volume = estate.volumes.get(volume).ok_or_else(gone)?;
                let way = Way {
                    agent: &self.agent(host, &key),
                    host,
                    volume,
                    us: &self.installation().id,
                };
                way.go(estate, step, turn).await
            }
            Step::Lend { .. } | Step::GiveBack { .. } | Step::Expel { .. } => {
                self.at_own_disks(estate, step, turn).await
            }
            Step::VolumeReady { .. } | Step::VolumeGone { .. } => {
                Err(premise("There is no device for this."))
            }
        }
    }

    /// A step whose device is an array.
    async fn at_array(
        &self,
        estate: &Estate,
        array: ArrayId,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let gone = || premise("The array is gone.");
        let array = estate.arrays.get(&array).ok_or_else(gone)?;
        let password = self.password_of(array).await?;
        let keeper = self.keeper(array, &password, turn.key);
        let volume = |id: &VolumeId| {
            let found = estate.volumes.get(id);
            found.ok_or_else(|| premise("The volume is gone."))
        };
        match step {
            Step::MakeLun {
                volume: id,
                pool,
                size,
                provisioning,
                ..
            } => {
                let made = keeper
                    .make_lun(volume(id)?, pool, *size, *provisioning)
                    .await?;
                Ok(done(vec![made], "made"))
            }
            Step::GrowLun {
                volume: id, size, ..
            } => {
                keeper.grow_lun(volume(id)?, *size).await?;
                Ok(done(vec![], format!("{size}")))
            }
            Step::Map {
                volume: id, host, ..
            } => {
                let initiator = self.initiator(estate, *host).await?;
                keeper.map(volume(id)?, &initiator).await?;
                Ok(done(vec![], initiator))
            }
            Step::Unmap {
                volume: id, host, ..
            } => {
                let initiator = self.initiator(estate, *host).await?;
                keeper.unmap(volume(id)?, &initiator).await?;
                Ok(done(vec![], initiator))
            }
            Step::ReadArray { .. }
            | Step::LogIn { .. }
            | Step::Prepare { .. }
            | Step::Mount { .. }
            | Step::CheckPaths { .. }
            | Step::Unmount { .. }
            | Step::Fill { .. }
            | Step::Disown { .. }
            | Step::Lend { .. }
            | Step::GiveBack { .. }
            | Step::Expel { .. }
            | Step::VolumeReady { .. }
            | Step::VolumeGone { .. } => {
                let events = keeper.seen(estate, turn.now).await?;
                Ok(done(events, "read"))
            }
        }
    }

    async fn log_in(
        &self,
        estate: &Estate,
        array: ArrayId,
        host: HostId,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, host)?;
        let key = self.key_of(host).await?;
        let gone = || premise("The array is gone.");
        let array = estate.arrays.get(&array).ok_or_else(gone)?;
        let agent = self.agent(host, &key);
        let said = agent.log_in(stamp(turn), &array.portals).await?;
        let live = said.live.len();
        let said = if said.dead.is_empty() {
            format!("{live} portals")
        } else {
            let (all, dead) = (array.portals.len(), words(&said.dead.join(", ")));
            format!("{live} of {all} portals; {dead} does not answer")
        };
        Ok(done(vec![], said))
    }

    /// The name of a host as an initiator: as it last said, or as it says now.
    async fn initiator(
        &self,
        estate: &Estate,
        host: zastrugi_core::ids::HostId,
    ) -> Result<String, Fault> {
        let host = estate
            .hosts
            .get(&host)
            .ok_or_else(|| premise("The host is gone."))?;
        if !host.initiator.is_empty() {
            return Ok(host.initiator.clone());
        }
        let key = self.key_of(host).await?;
        let said = self.agent(host, &key).storage().await?.initiator;
        Ok(words(&said))
    }
}

/// A host that reaches a volume.
struct Way<'a> {
    agent: &'a Agent<'a>,
    host: &'a Host,
    volume: &'a Volume,
    us: &'a str,
}

impl Way<'_> {
    async fn go(self, estate: &Estate, step: &Step, turn: Turn<'_>) -> Result<Outcome, Fault> {
        let Way {
            agent,
            host,
            volume,
            us,
        } = self;
        let cluster = volume.cluster.and_then(|c| estate.clusters.get(&c));
        let cluster = cluster.map_or("", |c| c.name.as_str());
        match step {
            Step::Prepare { over, .. } => {
                prepare(agent, volume, cluster, us, over.as_deref(), turn).await
            }
            Step::Unmount { .. } => {
                agent.unmount(stamp(turn), &volume.uid).await?;
                Ok(done(vec![without(host, volume.id)], "unmounted"))
            }
            Step::Disown { .. } => {
                agent.disown(stamp(turn), &volume.uid).await?;
                Ok(done(vec![without(host, volume.id)], "nobody's"))
            }
            Step::CheckPaths { .. } => check_paths(agent, estate, host, volume, turn).await,
            Step::Fill { .. } => {
                agent.fill(stamp(turn), &volume.uid).await?;
                Ok(done(vec![], "grown"))
            }
            Step::ReadArray { .. }
            | Step::MakeLun { .. }
            | Step::GrowLun { .. }
            | Step::Map { .. }
            | Step::Unmap { .. }
            | Step::LogIn { .. }
            | Step::Mount { .. }
            | Step::Lend { .. }
            | Step::GiveBack { .. }
            | Step::Expel { .. }
            | Step::VolumeReady { .. }
            | Step::VolumeGone { .. } => mount(agent, estate, host, volume, cluster, turn).await,
        }
    }
}

/// How long paths may take to come up after a login.
const SETTLES: Span = Span::secs(10);

/// Looks at the host itself how many paths it has: less than there should be is not mended.
async fn check_paths(
    agent: &Agent<'_>,
    estate: &Estate,
    host: &Host,
    volume: &Volume,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let seen = agent.storage().await?.devices();
    let found = seen
        .into_iter()
        .find(|(device, _)| device.uid == volume.uid);
    let paths = found.map(|(_, seen)| seen.paths).unwrap_or_default();
    let (up, of) = (
        paths.iter().filter(|p| p.up).count(),
        volume.portals(estate),
    );
    if up >= of {
        return Ok(done(vec![], format!("{up} of {of} paths")));
    }
    let dead: Vec<_> = paths
        .iter()
        .filter(|p| !p.up)
        .map(|p| p.portal.as_str())
        .collect();
    let said = format!("{} has {up} of {of} paths to {}.", host.name, volume.name);
    if turn.waited < SETTLES {
        return Ok(Outcome::NotYet { said });
    }
    let remedy = match dead.as_slice() {
        [] => "Look at the host's uplinks for storage, then retry.".to_owned(),
        dead => format!(
            "Look at {} and the way there, then retry.",
            words(&dead.join(", "))
        ),
    };
    Err(Fault::new(FaultKind::Refused, said, remedy))
}

fn without(host: &Host, volume: VolumeId) -> Event {
    let host = host.id;
    Event::Storage(storage::Event::Unmounted { host, volume })
}

/// Looks what is on it: empty is formatted, ours or nobody's is taken, anything else is refused with what was found.
async fn prepare(
    agent: &Agent<'_>,
    volume: &Volume,
    cluster: &str,
    us: &str,
    over: Option<&str>,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let seen: Vec<SeenDevice> = agent
        .storage()
        .await?
        .devices()
        .into_iter()
        .map(|(d, _)| d)
        .collect();
    let Some(device) = seen.into_iter().find(|d| d.uid == volume.uid) else {
        return Err(Fault::new(
            FaultKind::Refused,
            format!("The host does not see {} on any path.", volume.name),
            "Look at the paths between host and array, then retry.",
        ));
    };
    if device.is_blank() {
        agent
            .format(stamp(turn), &volume.uid, &volume.name, cluster)
            .await?;
        return Ok(done(vec![], "it was empty; formatted"));
    }
    if !device.has_our_format() {
        let what = device
            .signature
            .unwrap_or_else(|| "data without a known signature".into());
        return Err(Fault::new(
            FaultKind::Refused,
            format!("{} is not empty: {what}.", volume.name),
            "Nothing was changed on it. Choose another volume, or clear this one where it is used; then retry.",
        ));
    }
    if device.owner.as_ref().is_some_and(|(id, _)| id == us) {
        return Ok(done(vec![], "it is ours"));
    }
    agent.take(stamp(turn), &volume.uid, cluster, over).await?;
    Ok(done(vec![], "taken"))
}

async fn mount(
    agent: &Agent<'_>,
    estate: &Estate,
    host: &Host,
    volume: &Volume,
    cluster: &str,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let seen = agent.mount(stamp(turn), &volume.uid, cluster).await?;
    let paths: Vec<_> = seen
        .paths
        .into_iter()
        .take(64)
        .map(crate::agent::read_path)
        .collect();
    let (up, of) = (
        paths.iter().filter(|p| p.up).count(),
        volume.portals(estate),
    );
    let mut events = vec![Event::Storage(storage::Event::Mounted {
        host: host.id,
        volume: volume.id,
        paths,
    })];
    for found in seen.images.into_iter().take(256) {
        if estate.image_with_uuid(&found.id).is_some() {
            continue;
        }
        // What lies there already is taken as it is, whole or not.
        let label = super::images::label(agent, &volume.uid, &found.id, u64::MAX).await;
        let image = found.read(volume.id, label.unwrap_or_default(), turn.now);
        events.push(Event::Images(images::Event::Adopted(Box::new(image))));
    }
    events.extend(records(estate, host, volume.id, seen.machines, turn.now));
    Ok(done(events, format!("{up} of {of} paths")))
}

/// The machines that a volume's records name: those that we know learn where their disks are, the others are
/// registered with the first host that mounts it.
pub(crate) fn records(
    estate: &Estate,
    host: &Host,
    volume: VolumeId,
    found: Vec<crate::agent::Machine>,
    now: Moment,
) -> Vec<Event> {
    let mut events = Vec::new();
    for record in found {
        let (deleted, elsewhere) = (record.deleted, record.running_on.is_some());
        if let Some(known) = estate.machine_with_uuid(&record.uuid) {
            // One whose disks are known elsewhere has a second record here, which somebody settles.
            let other = |d: &Disk| d.volume != volume && estate.volumes.contains_key(&d.volume);
            if known.disks.iter().any(other) {
                continue;
            }
            if known.disks.iter().any(|d| d.volume != volume) {
                events.push(Event::Machines(machines::Event::Home {
                    machine: known.id,
                    volume,
                }));
            }
            // Who is on is told of by its own host.
            if known.is_off() && !elsewhere {
                let shares = shares(estate, record.read().shares.as_deref().unwrap_or_default());
                let machine = known.id;
                let differs = shares != known.shares;
                events.extend(
                    differs.then_some(Event::Sharing(sharing::Event::Shares { machine, shares })),
                );
            }
            continue;
        }
        if elsewhere {
            continue;
        }
        let mut machine = adopt(estate, host, &record.read(), now);
        machine.disks.iter_mut().for_each(|d| d.volume = volume);
        machine.deleted = deleted.then_some(now);
        events.push(Event::Machines(machines::Event::Adopted(Box::new(machine))));
    }
    events
}
