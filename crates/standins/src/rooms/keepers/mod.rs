//! Keepers, as hosts see them: what they are given, and keep sealed; the lease and the journal on a volume by which they
//! agree; and the processes, which are somebody else's.

pub(crate) mod agreement;
pub(crate) mod calls;
pub(crate) mod running;
