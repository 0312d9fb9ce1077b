//! Machines in archives: descriptors (DSP0243, OVF 1.x and 2.x) from and to text, the tar around them (POSIX ustar), and
//! whole archives looked through with bounded memory.

mod archive;
mod check;
mod read;
#[cfg(test)]
mod tests;
mod tree;
mod write;

pub use archive::{BLOCK, Header, header, manifest};
pub use check::{Checked, check};
pub use read::read;
pub use write::write;

/// The largest descriptor or manifest that is read.
pub const LARGEST: u64 = 4 << 20;

/// Why an archive is not taken: which member, and what is wrong with it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{member}: {why}")]
pub struct Wrong {
    pub member: String,
    pub why: String,
}

impl Wrong {
    pub fn new(member: impl Into<String>, why: impl Into<String>) -> Wrong {
        Wrong {
            member: member.into(),
            why: why.into(),
        }
    }
}
