//! Pictures that hosts kept of screens, from before something ended what they showed: fetched once, kept, and told.

use crate::{
    scribe::{Decision, Guard, Scribe, Sight},
    shared::{Shared, now},
};
use std::{collections::HashSet, sync::Arc};
use uuid::Uuid;
use zastrugi_core::rooms::consoles;
use zastrugi_core::{
    ids::{HostId, MachineId},
    permits::Who,
    rooms::Event,
    runs::FaultKind,
};
use zastrugi_drivers::agent::KeptScreen;
use zastrugi_store::{Held, Picture, Pictures, StoreError};

/// What one host has said of its kept pictures.
#[derive(Default)]
pub(super) struct Screens {
    known: HashSet<String>,
}

/// Who writes, and under which lease.
pub(super) struct Hand<'a> {
    pub(super) shared: &'a Arc<Shared>,
    pub(super) scribe: &'a Scribe,
    pub(super) held: Held,
    pub(super) host: HostId,
}

impl Screens {
    /// Fetches what is new. What fails is tried again with the next report.
    pub(super) async fn take(&mut self, hand: &Hand<'_>, said: Vec<KeptScreen>) {
        let estate = hand.shared.estate();
        for screen in said {
            let Some(host) = estate.hosts.get(&hand.host) else {
                return;
            };
            let Some(machine) = estate.machine_with_uuid(&screen.machine) else {
                continue;
            };
            let mark = format!(
                "{}/{}/{}",
                host.hardware.serial, screen.machine, screen.number
            );
            if self.known.contains(&mark) {
                continue;
            }
            let picture = Picture {
                id: Uuid::new_v4(),
                machine: machine.id,
                mark: mark.clone(),
                at: now(),
                why: screen.why.clone(),
            };
            match fetch(hand, &picture, &screen).await {
                Ok(fetched) => {
                    self.known.insert(mark);
                    if fetched == Fetched::Kept {
                        tell(hand, machine.id, picture).await;
                    }
                }
                Err(why) => tracing::debug!(%why, "a picture was not kept yet"),
            }
        }
    }
}

#[derive(PartialEq)]
enum Fetched {
    Kept,
    /// Nothing to tell: it was kept before, or the host has it no longer.
    Nothing,
}

/// Err with the reason when it is worth another try.
async fn fetch(hand: &Hand<'_>, picture: &Picture, screen: &KeptScreen) -> Result<Fetched, String> {
    let pictures = Pictures::new(hand.shared.pool.clone());
    let unavailable = |e: StoreError| e.to_string();
    let Some(host) = hand.shared.estate().hosts.get(&hand.host).cloned() else {
        return Ok(Fetched::Nothing);
    };
    if pictures.has(&picture.mark).await.map_err(unavailable)? {
        return Ok(Fetched::Nothing);
    }
    let drivers = &hand.shared.drivers;
    let asked = drivers.picture(&host, &screen.machine, Some(screen.number));
    match asked.await {
        Ok(png) => match pictures.keep(picture, &png).await.map_err(unavailable)? {
            true => Ok(Fetched::Kept),
            false => Ok(Fetched::Nothing),
        },
        // A newer one has taken its place.
        Err(fault) if fault.kind == FaultKind::Refused => Ok(Fetched::Nothing),
        Err(fault) => Err(fault.said),
    }
}

async fn tell(hand: &Hand<'_>, machine: MachineId, picture: Picture) {
    let kept = Event::Consoles(consoles::Event::ScreenKept {
        machine,
        picture: picture.id,
        why: picture.why,
    });
    let decide = move |_: Sight<'_>| {
        Ok(Decision {
            events: vec![kept.clone()],
            ..Decision::nothing(Who::itself())
        })
    };
    if let Err(refusal) = hand.scribe.append(Guard::Leader(hand.held), decide).await {
        tracing::debug!(?refusal, "a kept picture was not told of");
    }
}
