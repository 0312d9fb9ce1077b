//! What happens to first-boot documents.

use crate::{
    estate::{Edition, Estate, FirstBoot, Pen},
    ids::FirstBootId,
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A version was kept; the first makes the document.
    Kept {
        document: FirstBootId,
        name: String,
        edition: Box<Edition>,
    },
    Removed {
        document: FirstBootId,
        name: String,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Kept { document, name, edition } if !pen.estate().first_boots.contains_key(document) => {
                pen.add_first_boot(&FirstBoot {
                    id: *document,
                    name: name.clone(),
                    versions: vec![Edition::clone(edition)],
                });
            }
            Event::Kept { document, edition, .. } => pen.first_boot(*document, |d| {
                d.versions.push(Edition::clone(edition));
            }),
            Event::Removed { document, .. } => pen.drop_first_boot(*document),
        }
    }

    fn tell(&self, _estate: &Estate) -> Option<Entry> {
        let (document, text) = match self {
            Event::Kept { document, name, edition } => (document, format!("{name} {} says what guests are told at their first boot", edition.number)),
            Event::Removed { document, name } => (document, format!("{name} was removed; guests keep what they were told")),
        };
        Some(Entry::new("machine", text, vec![document.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
