//! Files of disks at the hosts that reach them: looked through, packed, and written to disks.

use super::templates::{failed, source};
use crate::{
    Drivers, Outcome, Turn,
    agent::Agent,
    perform::{done, premise, stamp},
};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    sync::{Arc, MutexGuard, PoisonError},
};
use uuid::Uuid;
use zastrugi_core::{
    copying::Source,
    estate::{Disk, Estate, Holds, Host, Image, Machine, Volume},
    evidence::Answer,
    ids::ImageId,
    ovf::{Member, Package},
    rooms::{
        Event,
        packages::{self, Step, described, file_name},
    },
    runs::{Fault, FaultKind},
};
use zastrugi_formats::ovf::{BLOCK, Header, LARGEST, Wrong, header, manifest, read, write};

/// More files are in no archive of a machine.
const MEMBERS: usize = 64;
/// So much is read at once.
const PIECE: u64 = 1 << 20;
/// So many archives are remembered: one that is whole never changes.
const REMEMBERED: usize = 32;

/// Why an archive could not be looked through.
enum Unread {
    Wrong(Wrong),
    Fault(Fault),
}

impl From<Wrong> for Unread {
    fn from(wrong: Wrong) -> Unread {
        Unread::Wrong(wrong)
    }
}

impl From<Fault> for Unread {
    fn from(fault: Fault) -> Unread {
        Unread::Fault(fault)
    }
}

fn parts(estate: &Estate, id: ImageId) -> Result<(&Image, &Volume, &Host), Fault> {
    let image = estate
        .images
        .get(&id)
        .ok_or_else(|| premise("The file is gone."))?;
    let volume = estate.volumes.get(&image.volume);
    let volume = volume.ok_or_else(|| premise("Its volume is gone."))?;
    let host = estate.reach(volume.id);
    let host = host.ok_or_else(|| premise("No host that mounts its volume answers."))?;
    Ok((image, volume, host))
}

impl Drivers {
    fn archives(&self) -> MutexGuard<'_, BTreeMap<Uuid, Arc<Package>>> {
        self.archives.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is in an archive: its descriptor, and where everything lies. Little of it is read.
    pub(crate) async fn package_of(&self, estate: &Estate, id: ImageId) -> Result<Answer, Fault> {
        match self.looked_through(estate, id).await {
            Ok(package) => Ok(Answer::Package(Box::new(Package::clone(&package)))),
            Err(Unread::Wrong(wrong)) => Ok(Answer::Refused {
                why: wrong.to_string(),
            }),
            Err(Unread::Fault(fault)) => Err(fault),
        }
    }

    async fn looked_through(&self, estate: &Estate, id: ImageId) -> Result<Arc<Package>, Unread> {
        let (image, volume, host) = parts(estate, id)?;
        if let Some(known) = self.archives().get(&image.uuid).cloned() {
            return Ok(known);
        }
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let package = Arc::new(look(&agent, (&volume.uid, &image.uuid), image.size.0).await?);
        let mut known = self.archives();
        if known.len() >= REMEMBERED {
            known.clear();
        }
        known.insert(image.uuid, package.clone());
        Ok(package)
    }

    /// What a copy is of, in the words of agents.
    pub(super) async fn origin(&self, estate: &Estate, of: Source) -> Result<Value, Fault> {
        let Source::Package { image } = of else {
            return source(estate, of);
        };
        let (file, volume, _) = parts(estate, image)?;
        let package = self.looked_through(estate, image).await;
        let package = package.map_err(|unread| match unread {
            Unread::Fault(fault) => fault,
            Unread::Wrong(wrong) => Fault::new(
                FaultKind::Refused,
                format!("{}: {wrong}.", file.name),
                "Cancel the run, and add the right file.",
            ),
        })?;
        Ok(
            json!({"package": {"volume": volume.uid, "image": file.uuid, "parts": disk_parts(&package)}}),
        )
    }

    pub(crate) async fn at_package(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.via())?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let machine = estate.machines.get(&step.machine());
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let image = estate.images.get(&step.image());
        let image = image.ok_or_else(|| premise("The file is gone."))?;
        let volume = estate.volumes.get(&image.volume);
        let volume = volume.ok_or_else(|| premise("Its volume is gone."))?;
        match step {
            Step::Pack {
                snapshot,
                disk,
                gzip,
                ..
            } => {
                let body = order(estate, machine, image, (*snapshot, *disk, *gzip))?;
                let said = agent
                    .pack(stamp(turn), (&volume.uid, &image.uuid), body)
                    .await?;
                packed(&said, image)
            }
            Step::Fill { disk, .. } => {
                let (n, of) = numbered(machine, *disk)?;
                let part = whole(image, of);
                let body = json!({"volume": volume.uid, "image": image.uuid, "parts": [part]});
                let said = agent
                    .write_disk(stamp(turn), (&machine.uuid, disk), body)
                    .await?;
                match said.stage.as_str() {
                    "done" => {
                        let filled = packages::Event::Filled {
                            machine: machine.id,
                            disk: n,
                            image: image.id,
                        };
                        Ok(done(
                            vec![Event::Packages(filled)],
                            format!("{} written", said.copied()),
                        ))
                    }
                    "failed" => Err(failed(&image.name, &said)),
                    _ => Ok(Outcome::NotYet { said: said.said() }),
                }
            }
        }
    }

    /// A file that nobody wants is not packed on; one that is written to a disk goes on to its end.
    pub(crate) async fn give_up_package(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Pack { image, .. } = step else {
            return self.at_package(estate, step, turn).await;
        };
        let host = self.host_of(estate, step.via())?;
        let key = self.key_of(host).await?;
        let (image, volume, _) = parts(estate, *image)?;
        let agent = self.agent(host, &key);
        agent
            .drop_image(stamp(turn), &volume.uid, &image.uuid)
            .await?;
        let said = "nothing is left of it".into();
        Ok(Outcome::NotYet { said })
    }
}

fn packed(said: &crate::agent::WireCopying, image: &Image) -> Result<Outcome, Fault> {
    match said.stage.as_str() {
        "done" => {
            let event = packages::Event::Packed {
                image: image.id,
                size: said.copied(),
                sha256: said.sum(),
                took: said.took(),
            };
            let words = format!("{} in {}", said.copied(), said.took());
            Ok(done(vec![Event::Packages(event)], words))
        }
        "failed" => Err(failed(&image.name, said)),
        _ => Ok(Outcome::NotYet { said: said.said() }),
    }
}

fn numbered(machine: &Machine, key: Uuid) -> Result<(usize, &Disk), Fault> {
    let found = (1usize..).zip(&machine.disks).find(|(_, d)| d.key == key);
    found.ok_or_else(|| premise("The machine has this disk no more."))
}

/// All of a file, for a disk.
fn whole(image: &Image, disk: &Disk) -> Value {
    json!({"name": image.name, "at": 0, "length": image.size.0, "gzip": image.holds == Holds::GzipDisk,
        "sha256": image.sha256, "size": disk.size.0})
}

/// What shall be packed, as agents are told.
fn order(
    estate: &Estate,
    machine: &Machine,
    image: &Image,
    (snapshot, disk, gzip): (Option<Uuid>, Option<Uuid>, bool),
) -> Result<Value, Fault> {
    let name = &machine.name;
    let mut body =
        json!({"name": image.name, "from": {"machine": machine.uuid, "snapshot": snapshot}});
    let one = |(n, d): (usize, &Disk)| json!({"key": d.key, "name": file_name(name, n, gzip), "gzip": gzip});
    if let Some(key) = disk {
        body["disks"] = json!([one(numbered(machine, key)?)]);
        return Ok(body);
    }
    let descriptor = described(estate, machine, snapshot, gzip);
    let disks = (1usize..).zip(&machine.disks).take(descriptor.disks.len());
    body["disks"] = disks.map(one).collect();
    body["archive"] = json!({"descriptor": format!("{name}.ovf"), "text": write(&descriptor), "manifest": format!("{name}.mf")});
    Ok(body)
}

/// Where the bytes of each disk of the machine lie, in its order; an empty one has none.
fn disk_parts(package: &Package) -> Vec<Value> {
    let d = &package.descriptor;
    let part = |disk: &zastrugi_core::ovf::Disk| {
        let file = disk.file.as_ref().and_then(|f| d.file(f));
        let member = file.and_then(|f| package.member(&f.href));
        json!({"name": member.map_or(disk.id.as_str(), |m| m.name.as_str()), "at": member.map_or(0, |m| m.at),
            "length": member.map_or(0, |m| m.size), "gzip": file.is_some_and(|f| f.gzip) && member.is_some(),
            "sha256": member.and_then(|m| package.sum(&m.name)), "size": disk.capacity.0})
    };
    d.system(None).disks.iter().map(part).collect()
}

/// Headers one after the other, and the two texts.
async fn look(
    agent: &Agent<'_>,
    (uid, image): (&str, &Uuid),
    size: u64,
) -> Result<Package, Unread> {
    let mut members: Vec<Member> = Vec::new();
    let mut at = 0;
    while at < size {
        let block = agent
            .read_image(uid, image, at, usize::try_from(BLOCK).unwrap_or(512))
            .await?;
        let member = match header(&block, at)? {
            Header::End => break,
            Header::Member(member) => member,
        };
        if members.iter().any(|m| m.name == member.name) {
            return Err(Wrong::new(member.name, "stands in the archive twice").into());
        }
        let next = Header::next(&member).filter(|n| *n <= size);
        at =
            next.ok_or_else(|| Wrong::new(&member.name, "ends too early: the file was cut off"))?;
        members.push(member);
        if members.len() > MEMBERS {
            return Err(
                Wrong::new("the archive", "holds more files than one of a machine does").into(),
            );
        }
    }
    let first = members
        .first()
        .ok_or_else(|| Wrong::new("the archive", "is empty"))?;
    let ends = |m: &&Member, ending: &str| m.name.to_lowercase().ends_with(ending);
    if !ends(&first, ".ovf") {
        return Err(Wrong::new(
            &first.name,
            "comes first; the descriptor must, and its name ends in .ovf",
        )
        .into());
    }
    let text = text(agent, (uid, image), first).await?;
    let descriptor = read(&first.name, &text)?;
    let listed = members.iter().find(|m| ends(m, ".mf"));
    let sums = match listed {
        Some(member) => manifest(
            &member.name,
            &self::text(agent, (uid, image), member).await?,
        )?,
        None => vec![],
    };
    if let Some((name, _)) = sums
        .iter()
        .find(|(n, _)| !members.iter().any(|m| m.name == *n))
    {
        return Err(Wrong::new(name, "stands in the manifest and not in the archive").into());
    }
    for file in &descriptor.files {
        if !members.iter().any(|m| m.name == file.href) {
            return Err(Wrong::new(&file.href, "is referred to and not in the archive").into());
        }
    }
    compared(&first.name, &text, &sums)?;
    Ok(Package {
        descriptor,
        manifest: !sums.is_empty(),
        sums,
        members,
    })
}

/// The descriptor is what the manifest says; all else is compared by the host that reads it.
fn compared(name: &str, text: &str, sums: &[(String, String)]) -> Result<(), Wrong> {
    use sha2::{Digest, Sha256};
    let sum: String = Sha256::digest(text.as_bytes())
        .iter()
        .map(|b| format!("{b:02x}"))
        .collect();
    match sums.iter().find(|(n, s)| n == name && *s != sum) {
        Some((_, expected)) => Err(Wrong::new(
            name,
            format!("has SHA-256 {sum}, and the manifest says {expected}"),
        )),
        None => Ok(()),
    }
}

async fn text(
    agent: &Agent<'_>,
    (uid, image): (&str, &Uuid),
    member: &Member,
) -> Result<String, Unread> {
    if member.size > LARGEST {
        return Err(Wrong::new(&member.name, "is larger than 4 MiB, which no such text is").into());
    }
    let mut bytes = Vec::new();
    while (bytes.len() as u64) < member.size {
        let left = member.size - bytes.len() as u64;
        let length = usize::try_from(left.min(PIECE)).unwrap_or(0);
        let piece = agent
            .read_image(uid, image, member.at + bytes.len() as u64, length)
            .await?;
        if piece.is_empty() {
            return Err(Wrong::new(&member.name, "ends too early: the file was cut off").into());
        }
        bytes.extend(piece);
    }
    let text = String::from_utf8(bytes);
    text.map_err(|_| Wrong::new(&member.name, "is no text in UTF-8").into())
}
