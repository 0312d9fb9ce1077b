//! Zastrugi's rules: pure, deterministic, without I/O, clock or interface.
//!
//! One road: a [`rooms::Proposal`] is put to [`rooms::assess`] with a [`view::View`] and answers an
//! [`road::Assessment`]. One without a *stop* turns into a [`road::AcceptedPlan`], which becomes a [`runs::Run`].
//! [`road::turn`] moves runs on. What devices did comes back as [`rooms::Event`]s, which the
//! [`rooms::World`] absorbs. Start reading at [`rooms`].
//!
//! Floors, each using only those beneath:
//!
//! ```text
//! papers                                    what a keeper is given
//! observe recounting                        what devices report and guards note, as events
//! rooms.rs                                  the list: enums that only delegate
//! rooms/<room>                              what one capability asks, does and tells
//! guard                                     who has failed, what starts where; before any run
//! road                                      what all of them answer; plans, assessments, turns
//! placement packing availability …          fields of rules: questions on estate, loads, evidence
//! view · runs · estate                      what is being changed · what is
//! ids units text limits moment finding …    words
//! ```

pub mod addressing;
pub mod availability;
pub mod balance;
pub mod booting;
pub mod caps;
pub mod copying;
pub mod crossing;
pub mod endpoint;
pub mod epoch;
pub mod estate;
pub mod evidence;
pub mod expression;
pub mod finding;
pub mod first_boot;
pub mod flows;
pub mod forecast;
pub mod fronts;
pub mod guard;
pub mod ids;
pub mod inventory;
pub mod layers;
pub mod limits;
pub mod loads;
pub mod macs;
pub mod migration;
pub mod moment;
pub mod names;
pub mod observe;
pub mod ovf;
pub mod packing;
pub mod pairing;
pub mod papers;
pub mod permits;
pub mod placement;
pub mod pledges;
pub mod pooled;
pub mod recounting;
pub mod recurrence;
pub mod retention;
pub mod road;
pub mod rooms;
pub mod runs;
pub mod shared;
pub mod spares;
#[cfg(any(test, feature = "testkit"))]
pub mod testkit;
pub mod text;
pub mod units;
pub mod view;
