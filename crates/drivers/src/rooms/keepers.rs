//! Keepers are placed.

use crate::{Drivers, Outcome, Turn, perform::done};
use zastrugi_core::{
    estate::Estate,
    papers::Papers,
    rooms::{
        Event,
        keepers::{self, Step},
    },
    runs::Fault,
    view::View,
};

impl Drivers {
    pub(crate) async fn at_keepers(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Give {
                cluster,
                host,
                volume,
            } => {
                let host = self.host_of(estate, *host)?;
                let view = View::of(estate.clone());
                let papers = Papers::of(&view, *cluster, turn.epoch, *volume);
                let papers =
                    papers.ok_or_else(|| crate::perform::premise("The cluster is gone."))?;
                self.give_keeper(&view, host, papers).await?;
                Ok(done(vec![], "given, sealed"))
            }
            Step::Take { cluster, host } => {
                let host = self.host_of(estate, *host)?;
                self.take_keeper(host, *cluster, turn.epoch, estate.revision)
                    .await?;
                Ok(done(vec![], "taken away"))
            }
            Step::Name {
                cluster,
                volume,
                hosts,
            } => {
                let via = Drivers::witness(estate, *cluster, *volume)?;
                let uid = estate.volumes.get(volume).map_or("", |v| v.uid.as_str());
                let named = hosts.iter().filter_map(|h| estate.hosts.get(h));
                let serials = named.map(|h| h.hardware.serial.clone());
                let members = serials.chain([self.installation().id.clone()]).collect();
                let at = (turn.epoch, turn.fence);
                let agreement = self.name_keepers(via, uid, members, at).await?;
                let event = keepers::Event::Named {
                    cluster: *cluster,
                    volume: *volume,
                    hosts: hosts.clone(),
                    last: agreement.last,
                };
                Ok(done(
                    vec![Event::Keepers(event)],
                    format!("written by {}", via.name),
                ))
            }
        }
    }
}
