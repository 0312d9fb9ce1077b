//! What movers carry: snapshots into stores, and disks of recovery points out of them. Start at [`Drivers::at_carrying`].

mod bringing;
mod copying;
mod inside;
mod marks;
mod movers;
mod pace;
mod reading;
mod sweeping;

pub(crate) use bringing::AtHost as Arriving;
pub(crate) use copying::AtHost as Leaving;
pub use copying::kept;
pub(crate) use movers::{Brought, Carried, Look, Movers, Shipped, Whither, over};
pub(crate) use pace::{Paced, Paces};

use crate::{Drivers, Outcome, Turn, perform::premise};
use zastrugi_core::{
    estate::{Estate, Machine},
    ids::MachineId,
    rooms::carrying::Step,
    runs::Fault,
};

fn at(estate: &Estate, machine: MachineId) -> Result<&Machine, Fault> {
    let machine = estate.machines.get(&machine);
    machine
        .map(|m| &**m)
        .ok_or_else(|| premise("The machine is gone."))
}

impl Drivers {
    pub(crate) async fn at_carrying(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let machine = at(estate, step.machine())?;
        match step {
            Step::Copy { via, snapshot, .. } => {
                let of = (machine, *via, *snapshot);
                self.copy_to_store(estate, step, of, turn).await
            }
            Step::Bring {
                via,
                volume,
                delivery,
                point,
                disks,
                ..
            } => {
                let to = (*via, *volume, *delivery);
                self.bring_point(estate, to, (*point, Some(disks)), turn)
                    .await
            }
            Step::Place { .. } => self.place(estate, machine, step, turn).await,
        }
    }

    /// What is on its way ends, and nothing of it is left.
    pub(crate) async fn give_up_carrying(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Copy { .. } => self.give_up_copying(estate, step, turn).await,
            Step::Bring {
                via,
                volume,
                delivery,
                ..
            } => {
                self.end_delivery(estate, (*via, *volume, *delivery), turn)
                    .await?;
                Ok(Outcome::NotYet {
                    said: "nothing of it is left".into(),
                })
            }
            Step::Place { .. } => {
                self.place(estate, at(estate, step.machine())?, step, turn)
                    .await
            }
        }
    }
}
