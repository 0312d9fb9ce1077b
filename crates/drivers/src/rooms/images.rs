//! Images on volumes: their bytes on the way to a host, and the steps around them.

use crate::{
    Drivers, Outcome, Turn,
    agent::Agent,
    perform::{done, stamp},
};
use bytes::Bytes;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Holds, Host, Image, Volume},
    ids::ImageId,
    rooms::{
        Event,
        images::{self, Step},
    },
    runs::{Fault, FaultKind},
    units,
};
use zastrugi_formats::iso9660::{DESCRIPTOR, whole_label};

/// What came of a piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fed {
    /// It was taken; so many bytes are there now.
    Taken(u64),
    /// It was not: the file ends elsewhere, after so many bytes.
    Elsewhere(u64),
}

fn premise(said: impl Into<String>) -> Fault {
    Fault::new(FaultKind::Premise, said, "Look at the image's page again.")
}

/// The image, its volume, and a host that reaches it.
fn parts(estate: &Estate, id: ImageId) -> Result<(&Image, &Volume, &Host), Fault> {
    let image = estate
        .images
        .get(&id)
        .ok_or_else(|| premise("The image is gone."))?;
    let volume = estate
        .volumes
        .get(&image.volume)
        .ok_or_else(|| premise("Its volume is gone."))?;
    let host = estate.reach(volume.id).ok_or_else(|| {
        let said = format!("No host that mounts {} answers.", volume.name);
        Fault::new(FaultKind::Unreachable, said, "It goes on when one does.")
    })?;
    Ok((image, volume, host))
}

impl Drivers {
    /// Sends a piece of an image to its volume, by a host that mounts it. Safe to repeat: the place where the file ends
    /// decides whether it is taken.
    ///
    /// # Errors
    /// [`Fault`] when no host takes it.
    pub async fn feed(
        &self,
        estate: &Estate,
        id: ImageId,
        from: u64,
        bytes: Bytes,
    ) -> Result<Fed, Fault> {
        let (image, volume, host) = parts(estate, id)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        match agent.append(&volume.uid, &image.uuid, from, bytes).await {
            Ok(received) => Ok(Fed::Taken(received)),
            Err(fault) => {
                let there = agent.image(&volume.uid, &image.uuid).await?.received;
                if there == from {
                    Err(fault)
                } else {
                    Ok(Fed::Elsewhere(there))
                }
            }
        }
    }

    /// A piece of a file, at most 1 MiB.
    ///
    /// # Errors
    /// [`Fault`] when no host reads it.
    pub async fn read_file(
        &self,
        estate: &Estate,
        id: ImageId,
        from: u64,
        length: usize,
    ) -> Result<Vec<u8>, Fault> {
        let (image, volume, host) = parts(estate, id)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        agent
            .read_image(&volume.uid, &image.uuid, from, length)
            .await
    }

    /// How many bytes of an image are there.
    ///
    /// # Errors
    /// [`Fault`] when no host tells.
    pub async fn received(&self, estate: &Estate, id: ImageId) -> Result<u64, Fault> {
        let (image, volume, host) = parts(estate, id)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        Ok(agent.image(&volume.uid, &image.uuid).await?.received)
    }
}

impl Drivers {
    /// A step about an image, at a host that mounts its volume.
    pub(crate) async fn at_image(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let id = step.image();
        let (image, volume, host) = parts(estate, id)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let (uid, uuid) = (&volume.uid, &image.uuid);
        match step {
            Step::Make { .. } => {
                agent
                    .make_image(stamp(turn), uid, uuid, &image.name, image.size)
                    .await?;
                Ok(done(vec![], format!("{}", image.size)))
            }
            Step::Await { .. } => {
                let there = agent.image(uid, uuid).await?.received;
                if there >= image.size.0 {
                    return Ok(done(vec![], format!("{}", image.size)));
                }
                Ok(Outcome::NotYet {
                    said: part(there, image.size),
                })
            }
            Step::Seal { .. } => seal(&agent, image, uid, turn).await,
            Step::Drop { .. } => {
                agent.drop_image(stamp(turn), uid, uuid).await?;
                let gone = images::Event::Gone { image: id };
                Ok(done(vec![gone.into()], "removed"))
            }
        }
    }
}

fn part(there: u64, size: units::Bytes) -> String {
    let percent = u128::from(there) * 100 / u128::from(size.0.max(1));
    format!("{} of {size}, {percent} %", units::Bytes(there))
}

const AGAIN: &str = "Cancel the run, remove the image, and send the right file.";

/// The label in the descriptor of what lies on the volume; `has`: how many bytes it has, so that one that was cut off is
/// refused.
pub(crate) async fn label(
    agent: &Agent<'_>,
    uid: &str,
    image: &Uuid,
    has: u64,
) -> Result<String, Fault> {
    let (from, length) = DESCRIPTOR;
    let descriptor = agent.read_image(uid, image, from, length).await?;
    whole_label(&descriptor, has).map_err(|why| {
        let said = format!("This file can't be taken: {why}.");
        Fault::new(FaultKind::Refused, said, AGAIN)
    })
}

/// The checksum of what lies on the volume must be the publisher's, and its label is read from there.
async fn seal(
    agent: &Agent<'_>,
    image: &Image,
    uid: &str,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let seen = agent.image(uid, &image.uuid).await?;
    let Some(sum) = seen.sum() else {
        // Reading a large file takes longer than a call may take: it is begun, and looked at.
        if seen.summed.is_none() {
            agent.seal_image(stamp(turn), uid, &image.uuid).await?;
            if let Some(why) = seen.unread() {
                let said = format!("The volume did not let it be read: {why}.");
                let remedy =
                    "It is being read once more: retry to see what came of it, or cancel the run.";
                return Err(Fault::new(FaultKind::Refused, said, remedy));
            }
        }
        let read = part(seen.summed.unwrap_or(0), image.size);
        return Ok(Outcome::NotYet {
            said: format!("read {read}"),
        });
    };
    if let Some(expected) = image.expected.as_ref().filter(|e| **e != sum) {
        let said = format!("The file has SHA-256 {sum}; its publisher names {expected}.");
        return Err(Fault::new(FaultKind::Refused, said, AGAIN));
    }
    let label = match image.holds {
        Holds::Installer => label(agent, uid, &image.uuid, image.size.0).await?,
        // What it is is looked at when something is made from it.
        Holds::Disk | Holds::GzipDisk | Holds::Package => String::new(),
    };
    let ready = Event::Images(images::Event::Ready {
        image: image.id,
        sha256: sum.clone(),
        label: label.clone(),
    });
    let said = match label.as_str() {
        "" => format!("SHA-256 {sum}"),
        label => format!("“{label}”, SHA-256 {sum}"),
    };
    Ok(done(vec![ready], said))
}
