//! Steps become calls: one file for each room, but for those that are composed of others; here only the list.

#![deny(clippy::wildcard_enum_match_arm)]

mod answers;
mod arrays;
pub(crate) mod carrying;
mod clusters;
mod composed;
mod edits;
mod fronts;
mod hardware;
mod hosts;
pub(crate) mod images;
mod installing;
mod keepers;
pub(crate) mod machines;
mod moving;
mod naming;
mod networks;
mod packages;
mod passages;
mod pools;
mod records;
mod refreshing;
pub(crate) mod replicas;
mod seeds;
mod sharing;
mod snapshots;
pub(crate) mod storage;
mod stores;
mod templates;
mod told;

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::Step, runs::Fault};

impl Drivers {
    /// Carries one step out at its device. Safe to repeat with the same key.
    ///
    /// # Errors
    /// [`Fault`] with the device's words and a remedy.
    pub async fn perform(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Hosts(step) => self.at_host(estate, step, turn).await,
            Step::Clusters(step) => self.at_cluster(estate, step, turn).await,
            Step::Machines(step) => self.at_machine(estate, step, turn).await,
            Step::Moving(step) => self.at_move(estate, step, turn).await,
            Step::Storage(step) => self.at_storage(estate, step, turn).await,
            Step::Arrays(step) => self.at_arrays(estate, step, turn).await,
            Step::Images(step) => self.at_image(estate, step, turn).await,
            Step::Networks(step) => self.at_network(estate, step, turn).await,
            Step::Edits(step) => self.at_edit(estate, step, turn).await,
            Step::Qualities(step) => match *step {},
            Step::FirstBoot(step) => match *step {},
            Step::Spares(step) => match *step {},
            Step::ConsoleLocks(step) => match *step {},
            Step::Schedules(step) => match *step {},
            Step::Jobs(step) => match *step {},
            Step::Pledges(step) => match *step {},
            Step::Pairs(step) => match *step {},
            Step::Plans(step) => match *step {},
            Step::Passages(step) => self.at_passage(estate, step, turn).await,
            Step::Drilling(step) => self.at_drilling(estate, step, turn).await,
            Step::Handover(step) => self.at_handover(estate, step, turn).await,
            Step::Replicas(step) => self.at_replica(estate, step, turn).await,
            Step::Replicating(step) => self.at_replicating(estate, step, turn).await,
            Step::Scheduled(step) => self.at_scheduled(estate, step, turn).await,
            Step::Restocking(step) => self.at_restocking(estate, step, turn).await,
            Step::Joining(step) => self.at_joining(estate, step, turn).await,
            Step::Maintenance(step) => self.at_maintenance(estate, step, turn).await,
            Step::Keepers(step) => self.at_keepers(estate, step, turn).await,
            Step::Installing(step) => self.at_installing(estate, step, turn).await,
            Step::Building(step) => self.at_building(estate, step, turn).await,
            Step::Leaving(step) => self.at_leaving(estate, step, turn).await,
            Step::Taking(step) => self.at_taking(estate, step, turn).await,
            Step::Fronts(step) => self.at_front(estate, step, turn).await,
            Step::Naming(step) => self.at_naming(estate, step, turn).await,
            Step::Snapshots(step) => self.at_snapshot(estate, step, turn).await,
            Step::Stores(step) => self.at_store(estate, step, turn).await,
            Step::Carrying(step) => self.at_carrying(estate, step, turn).await,
            Step::Backups(step) => self.at_backup(estate, step, turn).await,
            Step::Restoring(step) => self.at_restoring(estate, step, turn).await,
            Step::Answers(step) => self.at_answers(estate, step, turn).await,
            Step::Proving(step) => self.at_proving(estate, step, turn).await,
            Step::Hardware(step) => self.at_hardware(estate, step, turn).await,
            Step::Sharing(step) => self.at_sharing(estate, step, turn).await,
            Step::Growing(step) => self.at_growing(estate, step, turn).await,
            Step::Providing(step) => self.at_providing(estate, step, turn).await,
            Step::Refreshing(step) => self.at_refreshing(estate, step, turn).await,
            Step::Records(step) => self.at_records(estate, step, turn).await,
            Step::Templates(step) => self.at_template(estate, step, turn).await,
            Step::Packages(step) => self.at_package(estate, step, turn).await,
        }
    }

    /// Tells the device that nobody wants this step any more, where it would go on by itself; else looks how it ended.
    ///
    /// # Errors
    /// [`Fault`] when the device can't be told.
    pub async fn give_up(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Stores(step) => self.give_up_store(estate, step, turn).await,
            Step::Carrying(step) => self.give_up_carrying(estate, step, turn).await,
            Step::Backups(step) => self.give_up_backup(estate, step, turn).await,
            Step::Restoring(step) => self.give_up_restoring(estate, step, turn).await,
            Step::Proving(step) => self.give_up_proving(estate, step, turn).await,
            Step::Drilling(step) => self.give_up_drilling(estate, step, turn).await,
            Step::Handover(step) => self.give_up_handover(estate, step, turn).await,
            Step::Replicas(step) => self.give_up_replica(estate, step, turn).await,
            Step::Replicating(step) => self.give_up_replicating(estate, step, turn).await,
            Step::Moving(step) => self.give_up_move(estate, step, turn).await,
            Step::Maintenance(step) => self.give_up_maintenance(estate, step, turn).await,
            Step::Growing(step) => self.give_up_growing(estate, step, turn).await,
            Step::Providing(step) => self.give_up_providing(estate, step, turn).await,
            Step::Leaving(step) => self.give_up_leaving(estate, step, turn).await,
            Step::Building(step) => self.give_up_building(estate, step, turn).await,
            Step::Joining(step) => self.give_up_joining(estate, step, turn).await,
            Step::Taking(step) => self.give_up_taking(estate, step, turn).await,
            Step::Restocking(step) => self.give_up_restocking(estate, step, turn).await,
            Step::Scheduled(step) => self.give_up_scheduled(estate, step, turn).await,
            Step::Snapshots(step) => self.give_up_snapshot(estate, step, turn).await,
            Step::Machines(step) => self.give_up_machine(estate, step, turn).await,
            Step::Refreshing(step) => self.give_up_refreshing(estate, step, turn).await,
            Step::Templates(step) => self.give_up_template(estate, step, turn).await,
            Step::Packages(step) => self.give_up_package(estate, step, turn).await,
            Step::Hosts(_)
            | Step::Clusters(_)
            | Step::Storage(_)
            | Step::Jobs(_)
            | Step::Pairs(_)
            | Step::Plans(_)
            | Step::Passages(_)
            | Step::Answers(_)
            | Step::Arrays(_)
            | Step::Images(_)
            | Step::Networks(_)
            | Step::Edits(_)
            | Step::Keepers(_)
            | Step::Installing(_)
            | Step::Naming(_)
            | Step::Fronts(_)
            | Step::Hardware(_)
            | Step::Sharing(_)
            | Step::Records(_)
            | Step::Qualities(_)
            | Step::Spares(_)
            | Step::ConsoleLocks(_)
            | Step::Schedules(_)
            | Step::Pledges(_)
            | Step::FirstBoot(_) => self.perform(estate, step, turn).await,
        }
    }
}
