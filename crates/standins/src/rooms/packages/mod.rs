//! The bytes of disks: packed into files on a volume (alone, or in an archive with a descriptor), and read from such files
//! again. What guests write is generated from block and writing, so that it need not be kept to be read.

pub(crate) mod calls;
pub(crate) mod grains;
mod jobs;
pub(crate) mod pack;
mod unpack;

pub(crate) use calls::{Package, Unpacked, unpacked};
pub(crate) use jobs::Jobs;
pub(crate) use pack::Packed;
