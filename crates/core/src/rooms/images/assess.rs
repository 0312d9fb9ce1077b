//! Images: taking one in, removing one, and what a machine boots from.

use super::{AddImage, Draft, Event, Step};
use crate::{
    estate::{Holds, Image},
    finding::{Finding, Rule},
    ids::{ImageId, draw_uuid},
    limits,
    runs::Object,
    units::Bytes,
};

/// The longest name of an image.
const LONGEST: usize = limits::IMAGE_NAME.most;

pub(super) fn add(draft: &mut Draft<'_>, ask: &AddImage) {
    let name = ask.name.trim();
    draft.title = format!("Add the image {name}");
    let mut found = vec![named(draft, name)];
    found.push(file(ask));
    found.extend(expected(&ask.expected));
    let twin = draft
        .estate()
        .images
        .values()
        .find(|i| !ask.mark.is_empty() && i.mark == ask.mark && i.size == ask.size);
    found.extend(twin.map(|i| {
        let text = format!("{} seems to be the same file; it is here already.", i.name);
        Finding::mind(Rule::Content, &i.name, text).at("file")
    }));
    draft.found_all(found);
    let Some(on) = ask.volume else {
        return draft.found(
            Finding::stop(
                Rule::Storage,
                "volume",
                "Choose the volume that it shall lie on.",
            )
            .at("volume"),
        );
    };
    let Some(v) = draft.volume(on).cloned() else {
        return;
    };
    draft.found(room(&v.name, v.free(), v.capacity, ask.size));
    if draft.estate().reach(on).is_none() {
        let text = format!("No host that mounts {} answers.", v.name);
        draft.found(Finding::stop(Rule::HostOpen, &v.name, text).at("volume"));
    }
    let id = ImageId(draft.number());
    draft.intend(Event::Planned(Box::new(Image {
        id,
        carries_agent: false,
        uuid: draw_uuid(draft.run().0, id.0, draft.now.0.unsigned_abs()),
        name: name.to_owned(),
        volume: on,
        size: ask.size,
        mark: ask.mark.to_string(),
        expected: Some(ask.expected.to_lowercase()).filter(|e| !e.is_empty()),
        sha256: None,
        label: ask.label.clone().unwrap_or_default().into(),
        ready: false,
        holds: ask.holds,
        added: draft.now,
    })));
    let made = Step::Make { image: id };
    let made = draft.step(
        made,
        format!("Hold room on {}", v.name),
        &[],
        Some("volume"),
    );
    let wait = Step::Await {
        image: id,
        size: ask.size,
    };
    let there = draft.step(wait, "Receive the file".into(), &[made], Some("file"));
    let seal = Step::Seal { image: id };
    let title = "Read its checksum and label".to_owned();
    draft.step(seal, title, &[there], Some("expected"));
}

fn named(draft: &Draft<'_>, name: &str) -> Finding {
    let stop = |words: String| Finding::stop(Rule::Name, "name", words).at("name");
    if name.is_empty() {
        stop("Give it a name.".into())
    } else if name.chars().count() > LONGEST || name.chars().any(char::is_control) {
        stop(format!(
            "A name has at most {LONGEST} characters, in one line."
        ))
    } else if draft.estate().image_named(name).is_some() {
        stop(format!("There is an image {name} already."))
    } else {
        Finding::clear(
            Rule::Name,
            "name",
            format!("No other image is called {name}."),
        )
    }
}

fn file(ask: &AddImage) -> Finding {
    if ask.size == Bytes::ZERO {
        return Finding::stop(Rule::Nothing, "file", "Choose the file to send.").at("file");
    }
    let is = |text: String| Finding::clear(Rule::Content, "file", text);
    match (&ask.holds, &ask.label) {
        (Holds::Disk, _) => is(format!("{} to be written to a disk as they are.", ask.size)),
        (Holds::GzipDisk, _) => is(format!("The bytes of a disk, compressed to {}.", ask.size)),
        (Holds::Package, _) => is(format!("A machine in an archive of {}; what it is can be looked at when it is here.", ask.size)),
        (Holds::Installer, Ok(label)) => Finding::clear(
            Rule::Content,
            "file",
            format!("An ISO 9660 image of {}; its label is “{label}”.", ask.size),
        ),
        (Holds::Installer, Err(why)) => Finding::stop(
            Rule::Content,
            "file",
            format!("This file can't be taken: {why}."),
        )
        .at("file")
        .remedy("Choose a whole installation image (.iso), a machine in an archive (.ova) or the bytes of a disk (.raw, .raw.gz); fetch it again if it was cut off."),
    }
}

fn expected(text: &str) -> Option<Finding> {
    let right = text.len() == 64 && text.bytes().all(|b| b.is_ascii_hexdigit());
    if text.is_empty() {
        let words =
            "No checksum is given to compare with; the file's own is shown when it is there.";
        return Some(Finding::mind(Rule::Identity, "expected", words).at("expected"));
    }
    (!right).then(|| {
        let words = "A SHA-256 has 64 digits from 0 to f.";
        Finding::stop(Rule::Identity, "expected", words).at("expected")
    })
}

/// Room for all of it, and how full the volume is afterwards.
fn room(name: &str, free: Bytes, capacity: Bytes, size: Bytes) -> Finding {
    if size > free {
        let text = format!("{name} has {free} free; the file has {size}.");
        return Finding::stop(Rule::VolumeRoom, name, text).at("volume");
    }
    let left = free.less(size);
    if left < capacity.per_mille(150) {
        let text = format!("{name} has {left} free afterwards, less than 15 %.");
        return Finding::mind(Rule::VolumeReserve, name, text).at("volume");
    }
    Finding::clear(
        Rule::VolumeRoom,
        name,
        format!("{name} has {left} free afterwards."),
    )
}

pub(super) fn remove(draft: &mut Draft<'_>, id: ImageId) {
    let Some(image) = draft.estate().images.get(&id).cloned() else {
        return draft.found(Finding::stop(
            Rule::Exists,
            id.to_string(),
            "This image is gone.",
        ));
    };
    draft.title = format!("Remove the image {}", image.name);
    let users: Vec<_> = draft
        .estate()
        .machines_with(id)
        .iter()
        .map(|m| m.name.clone())
        .collect();
    if !users.is_empty() {
        let text = format!(
            "{} machines have {} in their drives.",
            users.len(),
            image.name
        );
        let shown: Vec<_> = users.iter().take(8).cloned().collect();
        draft.found(
            Finding::stop(Rule::State, &image.name, text)
                .because(shown.join(", "))
                .remedy("Take it out of their drives first."),
        );
    }
    let busy = !draft.view.runs.about(Object::Image(id)).is_empty();
    if busy {
        let text = format!("A run still works on {}.", image.name);
        draft.found(Finding::stop(Rule::State, &image.name, text).remedy("Cancel that run first."));
    }
    if draft.estate().reach(image.volume).is_none() {
        let text = "No host that mounts its volume answers.";
        draft.found(Finding::stop(Rule::HostOpen, &image.name, text));
    }
    let text = format!(
        "{} are free again; the file can't be brought back.",
        image.size
    );
    draft.found(Finding::clear(Rule::VolumeRoom, &image.name, text));
    let step = Step::Drop { image: id };
    draft.step(step, format!("Remove {}", image.name), &[], None);
}
