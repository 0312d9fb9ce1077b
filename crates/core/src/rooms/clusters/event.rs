//! What happens to clusters.

use crate::{
    estate::{Cluster, Estate, Pen, Volume},
    ids::{ClusterId, HostId},
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Added {
        cluster: Box<Cluster>,
        volume: Option<Box<Volume>>,
    },
    Ready {
        cluster: ClusterId,
    },
    Dropped {
        cluster: ClusterId,
    },
    Joined {
        host: HostId,
        cluster: ClusterId,
    },
    /// Its last host left it.
    Dissolved {
        cluster: ClusterId,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Added { cluster, volume } => {
                pen.used(cluster.id.0);
                if let Some(volume) = volume {
                    pen.add_volume(volume);
                }
                pen.add_cluster(cluster);
            }
            Event::Ready { cluster } => pen.cluster(*cluster, |c| c.ready = true),
            Event::Dropped { cluster } | Event::Dissolved { cluster } => drop_cluster(pen, *cluster),
            Event::Joined { host, cluster } => {
                pen.host(*host, |h| h.cluster = Some(*cluster));
                let maker = pen.estate().hosts.get(host).map(|h| h.hardware.cpu.maker.clone());
                pen.cluster(*cluster, |c| {
                    c.hosts.insert(*host);
                    // Nobody knew it before its first host was installed.
                    if let Some(maker) = maker.filter(|_| c.cpu_maker.is_empty()) {
                        c.cpu_maker = maker;
                    }
                });
                let here: Vec<_> = pen.estate().machines_on(*host).map(|m| m.id).collect();
                for machine in here {
                    pen.machine(machine, |m| m.cluster = Some(*cluster));
                }
            }
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let name = |id: &ClusterId| Object::Cluster(*id).name(estate);
        let line = |id: &ClusterId, text| Some(Entry::new("cluster", text, vec![id.to_string()]));
        match self {
            Event::Added { cluster: c, .. } => {
                line(&c.id, format!("Cluster {} is being made", c.name))
            }
            Event::Ready { cluster } => line(cluster, format!("Cluster {} is ready", name(cluster))),
            Event::Dissolved { cluster } => line(cluster, format!("{} is dissolved; its last host left", name(cluster))),
            Event::Dropped { cluster } => {
                line(cluster, format!("Cluster {} was not made", name(cluster)))
            }
            Event::Joined { host, cluster } => {
                let who = Object::Host(*host).name(estate);
                let about = vec![host.to_string(), cluster.to_string()];
                Some(Entry::new("host", format!("{who} joined {}", name(cluster)), about))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

fn drop_cluster(pen: &mut Pen<'_>, cluster: ClusterId) {
    let Some(gone) = pen.estate().clusters.get(&cluster).cloned() else {
        return;
    };
    for host in &gone.hosts {
        pen.host(*host, |h| h.cluster = None);
    }
    let members: Vec<_> = pen.estate().machines_in(cluster).map(|m| m.id).collect();
    for machine in members {
        pen.machine(machine, |m| m.cluster = None);
    }
    let volumes: Vec<_> = pen.estate().volumes_of(&gone).iter().map(|v| v.id).collect();
    for volume in volumes {
        pen.drop_volume(volume);
    }
    pen.drop_cluster(cluster);
}
