//! The engine against real devices on real sockets and a real database.
#![expect(clippy::unwrap_used, clippy::panic, reason = "tests fail loudly")]

mod boundaries;
mod building;
mod coming_back;
mod consoles;
mod disks;
mod fallen;
mod faults;
mod firmware;
mod first_boot;
mod fronts;
mod hardware;
mod histories;
mod images;
mod keepers;
mod lab;
mod lacking;
mod media;
mod moving;
mod naming;
mod network;
mod outages;
mod packages;
mod pools;
mod processes;
mod recovery;
mod restart;
mod road;
mod screens;
mod sharing;
mod sites;
mod sizing;
mod snapshots;
mod storage;
mod taking;
mod templates;
