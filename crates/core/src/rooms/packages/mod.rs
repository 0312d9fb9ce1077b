//! Files of disks: a machine is packed into an archive, a disk's bytes into a file, and a disk is written from a file.

mod ask;
mod described;
mod event;
mod pack;
mod step;
mod write;

pub use ask::{Ask, Pack, Write};
pub use described::{described, file_name};
pub use event::Event;
pub use step::Step;

type Draft<'a> = crate::road::Draft<'a, Step>;
