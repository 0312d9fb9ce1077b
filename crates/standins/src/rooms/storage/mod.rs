//! Arrays, and volumes as hosts see them.

pub(crate) mod array;
pub(crate) mod calls;
pub(crate) mod classes;
pub(crate) mod pool;
pub(crate) mod pools;
pub(crate) mod swordfish;
pub(crate) mod volume;
