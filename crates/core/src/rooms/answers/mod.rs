//! What guests must answer to be well: said by people, asked of the machine itself or of a copy that proves a recovery point.

use crate::{estate::AnyPoint, runs::Object};

mod ask;
mod assess;
mod event;
mod step;

pub use ask::Ask;
pub use event::Event;
pub use step::{LIMIT, Step};

/// What has a point.
fn holds(point: AnyPoint) -> Object {
    match point {
        AnyPoint::Stored(at) => Object::Store(at.store),
        AnyPoint::Replicated { replica, .. } => Object::Machine(replica),
    }
}

type Draft<'a> = crate::road::Draft<'a, Step>;
