//! What is done to images.

use super::Event;
use crate::{
    estate::Estate,
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    finding::{Finding, Rule},
    ids::ImageId,
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Hold room for it on its volume.
    Make { image: ImageId },
    /// Somebody sends its bytes.
    Await { image: ImageId, size: Bytes },
    /// Checksum and label of what arrived.
    Seal { image: ImageId },
    Drop { image: ImageId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Make { .. } => "hold room on the volume",
            Step::Await { .. } => "receive the file",
            Step::Seal { .. } => "checksum and label",
            Step::Drop { .. } => "remove the file",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Make { .. } | Step::Seal { .. } | Step::Drop { .. } => Length::Call(Span::secs(1)),
            // As fast as a good line of a gigabit sends it through two hands.
            Step::Await { size, .. } => Length::Wait(Span::millis(size.0 / 50_000)),
        }
    }

    fn pause(&self) -> Span {
        match self {
            Step::Make { .. } | Step::Seal { .. } | Step::Drop { .. } => Span::millis(300),
            // A person sends it, perhaps for hours; the page that sends it knows more anyway.
            Step::Await { .. } => Span::secs(1),
        }
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, estate: &Estate) -> Option<Object> {
        let image = estate.images.get(&self.image())?;
        estate.reach(image.volume).map(|h| Object::Host(h.id))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        vec![Object::Image(self.image())]
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Await { .. } => vec![],
            Step::Make { image } | Step::Seal { image } | Step::Drop { image } => {
                vec![Lock::exclusive(Object::Image(*image))]
            }
        }
    }

    fn premise(&self, view: &View) -> Premise {
        match self {
            Step::Make { image } | Step::Await { image, .. } | Step::Seal { image } => {
                Premise::exist(view, &[Object::Image(*image)])
            }
            Step::Drop { image } => unused(view, *image),
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::Await { .. } | Step::Seal { .. } | Step::Drop { .. } => None,
            // Room that was never held; what arrived of a file stays until somebody removes it.
            Step::Make { image } => Some(Event::Gone { image: *image }),
        }
    }
}

impl Step {
    pub fn image(&self) -> ImageId {
        match self {
            Step::Make { image }
            | Step::Await { image, .. }
            | Step::Seal { image }
            | Step::Drop { image } => *image,
        }
    }
}

/// An image in somebody's drive is not removed.
fn unused(view: &View, image: ImageId) -> Premise {
    match view.estate.machines_with(image).first() {
        Some(user) => {
            let text = format!("{} has it in its drive now.", user.name);
            Finding::stop(Rule::State, image.to_string(), text).into()
        }
        None => Premise::exist(view, &[Object::Image(image)]),
    }
}
