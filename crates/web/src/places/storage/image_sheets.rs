//! The sheets for adding, renaming and removing an image.

use crate::frame::{
    Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::rooms::{Plan, Step};
use zastrugi_core::rooms::{edits, images};
use zastrugi_core::{
    estate::Holds,
    ids::{ImageId, VolumeId},
    rooms::Proposal,
    rooms::edits::{Set, Target},
    rooms::images::AddImage,
    text::Line,
    units::Bytes,
    view::View,
};
use zastrugi_formats::{iso9660::whole_label, ovf};

#[derive(Template)]
#[template(path = "places/storage/image_add.html")]
struct AddFields {
    file: String,
    bytes: String,
    mark: String,
    head: String,
    start: String,
    name: String,
    volume: u64,
    volumes: Vec<(u64, String)>,
    expected: String,
}

/// Bytes that the browser read from the file, as it wrote them: two digits each.
fn from_hex(text: &str) -> Vec<u8> {
    let digits: Vec<u32> = text.chars().filter_map(|c| c.to_digit(16)).collect();
    digits
        .chunks_exact(2)
        .filter_map(|pair| u8::try_from(pair[0] * 16 + pair[1]).ok())
        .collect()
}

/// A file's name without its ending.
fn stem(file: &str) -> &str {
    let end = file.len().saturating_sub(4);
    match file.get(end..) {
        Some(ending) if ending.eq_ignore_ascii_case(".iso") => &file[..end],
        _ => file,
    }
}

/// What a file is, by its first bytes and its name; what is nothing else is taken for an image to boot from.
fn holds(file: &str, start: &[u8]) -> Holds {
    let file = file.to_lowercase();
    let ends = |endings: &[&str]| endings.iter().any(|e| file.ends_with(e));
    match ovf::header(start, 0) {
        Ok(ovf::Header::Member(first)) if first.name.to_lowercase().ends_with(".ovf") => {
            Holds::Package
        }
        _ if start.starts_with(&[0x1f, 0x8b]) => Holds::GzipDisk,
        _ if ends(&[".raw", ".img"]) => Holds::Disk,
        _ => Holds::Installer,
    }
}

pub(crate) fn add(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let mut wrong: Vec<Wrong> = Vec::new();
    let size = match fields.get("bytes") {
        "" => Bytes::ZERO,
        text => text.parse().map_or_else(
            |_| {
                wrong.push(("file".into(), "This file's size can't be read.".into()));
                Bytes::ZERO
            },
            Bytes,
        ),
    };
    let mut volumes: Vec<_> = estate
        .volumes
        .values()
        .filter(|v| v.ready && v.cluster.is_some())
        .map(|v| {
            let cluster = v.cluster.and_then(|c| estate.clusters.get(&c));
            let cluster = cluster.map_or("", |c| c.name.as_str());
            (
                v.id.0,
                format!("{} · {cluster} · {} free", v.name, v.free()),
            )
        })
        .collect();
    volumes.sort_by(|a, b| a.1.cmp(&b.1));
    let asked = fields.get("volume").parse().ok();
    let volume = asked.or_else(|| volumes.first().map(|v| v.0));
    let name = match fields.get("name") {
        "" => stem(fields.get("file")),
        name => name,
    };
    let ask = AddImage {
        name: name.into(),
        volume: volume.map(VolumeId),
        size,
        mark: fields.get("mark").into(),
        holds: holds(fields.get("file"), &from_hex(fields.get("start"))),
        label: whole_label(&from_hex(fields.get("head")), size.0)
            .map(Line::from)
            .map_err(|why| why.to_string().into()),
        expected: fields.get("expected").into(),
    };
    Filled {
        title: "Add a file".into(),
        lead: "It lies on a volume, so that every host of the cluster can start machines from it, or make them of it."
            .into(),
        run: "Run: send it".into(),
        danger: false,
        back: "/storage".into(),
        fields: render(&AddFields {
            file: fields.get("file").into(),
            bytes: fields.get("bytes").into(),
            mark: (&ask.mark).into(),
            head: fields.get("head").into(),
            start: fields.get("start").into(),
            name: fields.get("name").into(),
            volume: volume.unwrap_or(0),
            volumes,
            expected: (&ask.expected).into(),
        }),
        ask: Proposal::Images(images::Ask::Add(ask)),
        wrong,
    }
}

fn chosen(view: &View, fields: &Fields) -> (ImageId, String) {
    let id = fields.ids("ids").first().copied().unwrap_or(ImageId(0));
    let name = view.estate.images.get(&id).map(|i| i.name.clone());
    (id, name.unwrap_or_else(|| id.to_string()))
}

#[derive(Template)]
#[template(path = "places/storage/image_sheets_name_field.html")]
struct NameField {
    id: u64,
    name: String,
    /// It can be in a drive.
    boots: bool,
    agent: bool,
}

pub(crate) fn edit(view: &View, fields: &Fields) -> Filled {
    let (id, was) = chosen(view, fields);
    let name = fields.or("name", &was);
    let image = view.estate.images.get(&id);
    let had = image.is_some_and(|i| i.carries_agent);
    let agent = fields.ticked("agent", had);
    let named = (name != was).then(|| Set::Name((&name).into()));
    let sets = named
        .into_iter()
        .chain((agent != had).then_some(Set::CarriesAgent(agent)))
        .collect();
    Filled {
        title: format!("Edit {was}"),
        lead: "What people call it and say of it; the file itself is not touched.".into(),
        run: "Run: change it".into(),
        danger: false,
        back: format!("/storage/images/{}", id.0),
        fields: render(&NameField {
            id: id.0,
            name,
            boots: image.is_some_and(|i| i.holds.is_installer()),
            agent,
        }),
        ask: Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Image(id)],
            sets,
        }),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/storage/image_sheets_no_fields.html")]
struct NoFields {
    id: u64,
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    Filled {
        title: format!("Remove {name}"),
        lead: "The file is removed from its volume at once.".into(),
        run: "Run: remove it".into(),
        danger: true,
        back: format!("/storage/images/{}", id.0),
        fields: render(&NoFields { id: id.0 }),
        ask: Proposal::Images(images::Ask::Remove { image: id }),
        wrong: vec![],
    }
}

/// To the image's own page: there its file is sent.
pub(crate) fn after(plan: &Plan) -> Option<String> {
    plan.steps.iter().find_map(|p| match &p.step {
        Step::Images(step) => Some(format!("/storage/images/{}", step.image().0)),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_name_is_that_of_the_file_until_somebody_types_another() {
        let view = zastrugi_core::testkit::read("cluster a\nhost 1 64").view;
        let name = |text: &str| match add(&view, &Fields::parse(text)).ask {
            Proposal::Images(images::Ask::Add(ask)) => ask.name,
            other => panic!("{other:?}"),
        };
        assert_eq!(name("file=Tide+3.ISO&bytes=5"), "Tide 3");
        assert_eq!(name("file=ö.is"), "ö.is");
        assert_eq!(name("file=tide.iso&name=spring"), "spring");
    }

    #[test]
    fn the_label_is_read_from_what_the_browser_read_and_nonsense_is_said() {
        let view = View::default();
        let image = zastrugi_formats::iso9660::write("TIDE_3", &[]).unwrap();
        let sent = |head: &str, bytes: usize| {
            let fields = Fields::parse(&format!("head={head}&bytes={bytes}"));
            match add(&view, &fields).ask {
                Proposal::Images(images::Ask::Add(ask)) => ask.label,
                other => panic!("{other:?}"),
            }
        };
        let label = |head: &str| sent(head, image.len());
        let head: String = image[32_768..34_816]
            .iter()
            .map(|b| format!("{b:02x}"))
            .collect();
        assert_eq!(label(&head), Ok("TIDE_3".into()));
        assert!(label("zz").is_err());
        let cut = sent(&head, image.len() - 1).unwrap_err();
        assert!(cut.contains("it was cut off on its way"), "{cut}");
        let wrong = add(&view, &Fields::parse("bytes=many")).wrong;
        assert_eq!(wrong[0].0, "file");
    }
}
