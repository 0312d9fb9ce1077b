//! What happens to files of disks.

use crate::{
    estate::{Estate, Image, Pen},
    ids::{ImageId, MachineId},
    moment::Span,
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name is held.
    Planned(Box<Image>),
    Packed {
        image: ImageId,
        size: Bytes,
        sha256: String,
        took: Span,
    },
    /// It was not made.
    Dropped { image: ImageId },
    /// A disk, counted from one, holds what is in a file.
    Filled {
        machine: MachineId,
        disk: usize,
        image: ImageId,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned(image) => pen.add_image(image),
            Event::Packed { image, size, sha256, .. } => pen.image(*image, |i| {
                i.size = *size;
                i.sha256 = Some(sha256.clone());
                i.ready = true;
            }),
            Event::Dropped { image } => pen.drop_image(*image),
            Event::Filled { .. } => {}
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let line = |i: &Image, text: String| {
            let about = vec![i.id.to_string(), i.volume.to_string()];
            Some(Entry::new("storage", text, about))
        };
        match self {
            Event::Planned(_) => None,
            Event::Packed { image, size, took, .. } => {
                let i = estate.images.get(image)?;
                line(i, format!("{} was packed in {took}: {size}", i.name))
            }
            Event::Dropped { image } => {
                let i = estate.images.get(image)?;
                line(i, format!("{} was not packed; nothing of it is left", i.name))
            }
            Event::Filled { machine, disk, image } => {
                let of = Object::Machine(*machine).name(estate);
                let text = format!("Disk {disk} of {of} was written from {}", Object::Image(*image).name(estate));
                Some(Entry::new("machine", text, vec![machine.to_string(), image.to_string()]))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
