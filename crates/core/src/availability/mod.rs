//! Headroom: could we lose a host right now? (rules, section 3)   Start at [`matrix`].
//!
//! `table` turns a cluster into hosts and machines as numbers; `fail` takes hosts away and restarts their machines on the
//! rest; `matrix` does so for every fault domain and says how many host failures the cluster survives; `raise` looks for the
//! smallest change that would let it survive one more. Pure: the same view, the same answer.

mod answer;
mod broken;
mod fail;
mod matrix;
mod model;
mod place;
mod raise;
mod recovery;
mod rests;
mod table;
mod words;

pub use answer::Survival;
pub use broken::{Broken, broken};
pub use fail::{Effort, Failure, Left, Verdict, fail};
pub use matrix::{Case, Domain, Matrix, Pairs, headroom, matrix, pairs};
pub use model::{model, model_with};
pub use place::{Placing, evacuate, place};
pub use raise::{Raise, raise};
pub use recovery::{BOOT, foretold};
pub use rests::Rests;
pub use table::{CPU, HostRow, MEMORY, MachineRow, Restart, SIZES, Table, VCPUS, WELL};
