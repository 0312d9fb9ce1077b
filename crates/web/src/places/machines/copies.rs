//! What new machines are copies of, as the sheet for creating them has it.

use super::{package::PackagePart, point::PointPart};
use crate::frame::{Fields, consequences::Wrong};
use zastrugi_core::{
    copying::{self, Original, Source},
    estate::{Holds, PointAt, Sealed},
    ids::{ClusterId, FirstBootId, ImageId, MachineId, NetworkId, TemplateId},
    moment::Moment,
    rooms::machines::{Copied, Taken},
    units::Bytes,
    view::View,
};

/// The part of the sheet that says what they are made from.
pub(super) struct Copies {
    /// Empty: nothing; else what is chosen.
    pub(super) from: String,
    /// Values with words.
    pub(super) sources: Vec<(String, String)>,
    pub(super) dependent: bool,
    pub(super) seal: bool,
    /// Of a version; other disks may lie on it.
    pub(super) of_version: bool,
    pub(super) of_machine: bool,
    pub(super) package: Option<PackagePart>,
    pub(super) point: Option<PointPart>,
    pub(super) copied: Option<Copied>,
    pub(super) original: Option<Original>,
    /// vCPUs and memory where nobody says otherwise.
    pub(super) usual: (u32, Bytes),
    /// Networks of its cards; none: it is no copy.
    pub(super) cards: Option<Vec<Option<NetworkId>>>,
    /// The document that the version or the machine names.
    told: Option<FirstBootId>,
}

/// `template-12:3`, `image-9`, `point-3.…`, `machine-7` or `machine-7:` with a snapshot's identity.
fn read(text: &str) -> Option<Source> {
    if let Ok(at) = text.parse() {
        return Some(Source::Point(at));
    }
    let (what, rest) = text.split_once(':').unwrap_or((text, ""));
    if let Ok(template) = what.parse::<TemplateId>()
        && what.starts_with("template-")
    {
        let version = rest.parse().ok()?;
        return Some(Source::Template { template, version });
    }
    if let Ok(image) = what.parse::<ImageId>()
        && what.starts_with("image-")
    {
        return Some(Source::Package { image });
    }
    let machine: MachineId = what.parse().ok()?;
    let snapshot = match rest {
        "" => None,
        uuid => Some(uuid.parse().ok()?),
    };
    Some(Source::Machine { machine, snapshot })
}

/// Whole versions, the newest of each template first, and what else was asked for.
fn sources(view: &View, chosen: &str, original: Option<&Original>) -> Vec<(String, String)> {
    let mut all = Vec::new();
    for template in view.estate.templates.values() {
        for version in template.versions.iter().rev().filter(|v| v.ready) {
            let sealed = match version.sealed {
                Sealed::Yes(_) => "sealed",
                Sealed::No | Sealed::Unable(_) => "not sealed",
            };
            let volume = view.estate.volumes.get(&version.volume);
            let on = volume.map_or("its volume", |v| v.name.as_str());
            let words = format!("{} {} · {sealed}, on {on}", template.name, version.number);
            all.push((format!("{}:{}", template.id, version.number), words));
        }
    }
    let files = view.estate.images.values();
    let mut files: Vec<_> = files
        .filter(|i| i.ready && i.holds == Holds::Package)
        .map(|i| (i.id.to_string(), format!("{} · an archive", i.name)))
        .collect();
    files.sort_by(|a, b| a.1.cmp(&b.1));
    all.extend(files);
    let known = all.iter().any(|(value, _)| value == chosen);
    if let Some(original) = original.filter(|_| !known) {
        all.push((chosen.to_owned(), original.words.clone()));
    }
    all
}

/// Of a machine that is no copy.
const USUAL: (u32, Bytes) = (4, Bytes::gib(16));

/// vCPUs, memory, and the networks of cards.
type Has = (u32, Bytes, Vec<Option<NetworkId>>);

/// What the original has.
fn usual(view: &View, source: Source) -> Option<Has> {
    match source {
        Source::Template { template, version } => {
            let version = view.estate.templates.get(&template)?.version(version)?;
            Some((version.vcpus, version.memory, version.cards.clone()))
        }
        Source::Machine { machine, .. } => {
            let machine = view.estate.machines.get(&machine)?;
            let cards = machine.nics.iter().map(|n| n.network);
            Some((machine.vcpus, machine.memory.size, cards.collect()))
        }
        Source::Point(at) => {
            let kept = copying::kept(view, at, Moment(0)).ok()?;
            Some((kept.vcpus, kept.memory, vec![]))
        }
        // By what is in it: see `PackagePart`.
        Source::Package { .. } => None,
    }
}

/// What guests of it are told, where that is still there.
fn document(view: &View, source: Source) -> Option<FirstBootId> {
    let named = match source {
        Source::Template { template, version } => {
            view.estate
                .templates
                .get(&template)?
                .version(version)?
                .first_boot
        }
        Source::Machine { machine, .. } => {
            let booted = view.estate.machines.get(&machine)?.first_boot.as_ref()?;
            Some(booted.document)
        }
        Source::Package { .. } | Source::Point(_) => None,
    };
    named.filter(|id| view.estate.first_boots.contains_key(id))
}

impl Copies {
    pub(super) fn of(view: &View, fields: &Fields) -> Copies {
        let from = fields.get("from").to_owned();
        let source = read(&from);
        // What a copy holds is told with the consequences; here only what it is.
        let original = source.and_then(|s| s.shown(view, Moment(0)).ok());
        let package = Self::archive(fields).and_then(|image| PackagePart::of(view, image, fields));
        let home = original
            .as_ref()
            .and_then(|o| view.estate.volumes.get(&o.volume()?)?.cluster);
        let given = fields.get("cluster").parse().ok().map(ClusterId);
        let packed = package.as_ref().map(|p| {
            let (vcpus, memory) = p.usual();
            (vcpus, memory, p.cards(view, given.or(home)))
        });
        let point = Self::point(fields).and_then(|at| PointPart::of(view, at, fields));
        let near = point.as_ref().and_then(|p| p.cluster(view));
        let placed = point.as_ref().map(|p| p.has(view, given.or(near)));
        let has = packed
            .or(placed)
            .or_else(|| source.and_then(|s| usual(view, s)));
        let of_version = matches!(source, Some(Source::Template { .. }));
        let dependent = of_version && fields.get("how") == "dependent";
        let of_machine = matches!(source, Some(Source::Machine { .. }));
        let seal = fields.ticked("seal", of_machine);
        Copies {
            sources: sources(view, &from, original.as_ref()),
            from,
            dependent,
            seal,
            of_version,
            of_machine,
            package,
            point,
            copied: source.map(|source| Copied {
                source,
                dependent,
                seal,
            }),
            usual: has.as_ref().map_or(USUAL, |h| (h.0, h.1)),
            cards: has.map(|h| h.2),
            told: source.and_then(|s| document(view, s)),
            original,
        }
    }

    /// What was sent is nothing that can be copied.
    pub(super) fn unread(&self) -> Option<Wrong> {
        let unread = !self.from.is_empty() && self.copied.is_none();
        let words = "Choose one of these, or nothing.";
        unread.then(|| ("from".to_owned(), words.to_owned()))
    }

    /// What guests of machines made from it are told, as the form has it.
    pub(super) fn document(&self) -> String {
        self.told.map_or_else(String::new, |id| id.0.to_string())
    }

    /// The machine that is copied.
    pub(super) fn machine(fields: &Fields) -> Option<MachineId> {
        match read(fields.get("from"))? {
            Source::Machine { machine, .. } => Some(machine),
            Source::Template { .. } | Source::Package { .. } | Source::Point(_) => None,
        }
    }

    /// The archive that machines are made of.
    pub(super) fn archive(fields: &Fields) -> Option<ImageId> {
        match read(fields.get("from"))? {
            Source::Package { image } => Some(image),
            Source::Template { .. } | Source::Machine { .. } | Source::Point(_) => None,
        }
    }

    /// The recovery point that machines are made of.
    pub(super) fn point(fields: &Fields) -> Option<PointAt> {
        match read(fields.get("from"))? {
            Source::Point(at) => Some(at),
            Source::Template { .. } | Source::Machine { .. } | Source::Package { .. } => None,
        }
    }

    /// As a point's machine is called, or nothing.
    pub(super) fn name(&self, view: &View) -> String {
        let point = self.point.as_ref();
        point.map_or_else(String::new, |p| p.name(view))
    }
    pub(super) fn labels(&self) -> String {
        let point = self.point.as_ref();
        point.map_or_else(String::new, PointPart::labels)
    }
    pub(super) fn note(&self) -> String {
        let point = self.point.as_ref();
        point.map_or_else(String::new, |p| p.note().to_owned())
    }

    /// Choices that what it is made from leaves.
    pub(super) fn taken(&self) -> Option<Box<Taken>> {
        let package = self.package.as_ref().map(|p| p.taken.clone());
        let point = || self.point.as_ref().map(PointPart::taken);
        package.or_else(point).map(Box::new)
    }

    /// The cluster whose hosts reach it.
    pub(super) fn cluster(&self, view: &View) -> Option<ClusterId> {
        if let Some(point) = &self.point {
            return point.cluster(view);
        }
        let original = self.original.as_ref()?;
        view.estate.volumes.get(&original.volume()?)?.cluster
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a link to copy something opens a sheet for something else.
    #[test]
    fn what_is_copied_is_read_from_the_link() {
        let template = TemplateId(12);
        let of = |text: &str| read(text);
        assert_eq!(
            of("template-12:3"),
            Some(Source::Template {
                template,
                version: 3
            })
        );
        assert_eq!(of("template-12:x"), None);
        let machine = MachineId(7);
        let now = Source::Machine {
            machine,
            snapshot: None,
        };
        assert_eq!(of("machine-7"), Some(now));
        let uuid = uuid::Uuid::from_u128(5);
        let then = Source::Machine {
            machine,
            snapshot: Some(uuid),
        };
        assert_eq!(of(&format!("machine-7:{uuid}")), Some(then));
        let image = ImageId(9);
        assert_eq!(of("image-9"), Some(Source::Package { image }));
        let at = PointAt {
            store: zastrugi_core::ids::StoreId(3),
            machine: uuid,
            session: uuid::Uuid::from_u128(6),
        };
        assert_eq!(of(&at.to_string()), Some(Source::Point(at)));
        assert_eq!(of("point-3.x"), None);
        assert_eq!(of(""), None);
        assert_eq!(of("machine-7:nonsense"), None);
    }
}
