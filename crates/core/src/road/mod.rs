//! The way of every change, for whatever travels on it: what a proposal, a step and an event must answer ([`Ask`], [`Work`],
//! [`Tale`]), what is computed for a proposal ([`Assessment`], filled in as a [`Draft`]), and how a plan is carried out.
//! Knows no room. `advance` is the state machine of one run and does no waiting; [`turn`] lets it take locks beside the
//! others and is what the engine calls, inside the head lock.
//!
//! ```text
//!            Want           Granted             Succeeded
//! waiting ────────► queued ─────────► running ────────────► done
//!                     ▲ Refused          │  Failed (4 tries without progress)
//!                     └──────────        ├───────► failed ──► Retry → waiting
//!                                        └ NotYet → running, asked again later
//! ```

mod advance;
mod ask;
mod assessment;
mod correct;
mod draft;
mod event;
mod fits;
mod foretell;
mod held;
mod manager;
mod outlook;
mod plan;
mod reach;
mod start;
mod tale;
mod turn;
mod witness;
mod work;
mod world;

pub use advance::{Input, Order, TRIES, advance, backoff, may_be_left};
pub use ask::Ask;
pub use assessment::{Assessment, Blocked, Seen, assess};
pub use correct::{Correction, Given, Typed, Uncorrected, correct, correctable};
pub use draft::{Draft, MOST_CHOSEN};
pub use event::RunEvent;
pub use foretell::{Length, When};
pub use outlook::Outlook;
pub use plan::{AcceptedPlan, Bar, Fill, Listed, Place, Plan, PlannedStep, bars, went};
pub use start::begin;
pub use tale::{Entry, KINDS, Tale};
pub use turn::turn;
pub use work::{Left, Premise, Urgency, Work};
pub use world::{Change, Plans, World, needs};
