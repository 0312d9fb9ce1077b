//! Backup stores: what lies in a bucket (S3) or in a folder of a mounted export, read and written by its open format
//! (`docs/store-format.md`). Nothing here needs the manager: the command line does the same with a store and its key alone.
//! Start at [`Store`].

mod check;
mod fault;
mod files;
mod locking;
mod locks;
mod place;
mod restore;
mod store;
mod sweep;
mod write;

pub use crate::rooms::carrying::kept;
pub use check::{Checked, Deep, Problem};
pub use fault::StoreFault;
pub use files::{Look, Stream};
pub use place::{Bucket, Place};
pub use store::{Entry, Store};
pub use sweep::Swept;
pub use write::{Copied, Extents, Progress, Source, SourceDisk};

/// Whose chunks they are, as long as machines have no owners: everything in one store is of one.
pub const SCOPE: &str = "all";
