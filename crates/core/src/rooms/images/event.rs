//! What happens to images.

use crate::{
    estate::{Estate, Image, Pen},
    ids::ImageId,
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name and room are held; its bytes are awaited.
    Planned(Box<Image>),
    /// Whole, with the checksum and label of what lies on the volume.
    Ready {
        image: ImageId,
        sha256: String,
        label: String,
    },
    /// Found on a volume that was taken.
    Adopted(Box<Image>),
    Gone {
        image: ImageId,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned(image) | Event::Adopted(image) => pen.add_image(image),
            Event::Ready {
                image,
                sha256,
                label,
            } => pen.image(*image, |i| {
                i.sha256 = Some(sha256.clone());
                i.label.clone_from(label);
                i.ready = true;
            }),
            Event::Gone { image } => pen.drop_image(*image),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let line = |i: &Image, text: String| {
            let about = vec![i.id.to_string(), i.volume.to_string()];
            Some(Entry::new("storage", text, about))
        };
        match self {
            Event::Planned(i) => line(i, format!("Room is held for the image {}", i.name)),
            Event::Ready { image, label, .. } => {
                let i = estate.images.get(image)?;
                let text = match label.as_str() {
                    "" => format!("The file {} is whole: {}", i.name, i.holds.word()),
                    label => format!("The image {} is whole; its label is “{label}”", i.name),
                };
                line(i, text)
            }
            Event::Adopted(i) => line(i, format!("The image {} was found and registered", i.name)),
            Event::Gone { image } => {
                let i = estate.images.get(image)?;
                line(i, format!("The image {} was removed", i.name))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
