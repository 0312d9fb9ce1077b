//! Zastrugi's rules: pure, deterministic, without I/O, clock or interface.
//!
//! One road: a [`proposal::Proposal`] is put to [`assess::assess`] with a [`view::View`] and answers an
//! [`assess::Assessment`]. One without a *stop* turns into an [`plan::AcceptedPlan`], which becomes a
//! [`run::Run`]. [`run::turn`] moves runs on. What devices did comes back as [`event::Event`]s, which
//! [`estate::Estate::absorb`] folds in. Start reading at [`assess`].

pub mod addressing;
pub mod assess;
pub mod availability;
pub mod balance;
pub mod estate;
pub mod event;
pub mod evidence;
pub mod finding;
pub mod forecast;
pub mod ids;
pub mod loads;
pub mod migration;
pub mod moment;
pub mod names;
pub mod observe;
pub mod packing;
pub mod permits;
pub mod placement;
pub mod plan;
pub mod proposal;
pub mod run;
#[cfg(any(test, feature = "testkit"))]
pub mod testkit;
pub mod units;
pub mod view;
