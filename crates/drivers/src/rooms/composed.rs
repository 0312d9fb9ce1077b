//! Rooms whose steps are steps of other rooms: who carries out each kind of them, and who gives it up. Where nothing goes on by itself
//! that had to be told, giving up is looking how it ended.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{
    estate::Estate,
    rooms::{
        backups, building, drilling, growing, handover, joining, leaving, maintenance, providing,
        proving, replicating, restocking, restoring, scheduled, taking,
    },
    runs::Fault,
};

macro_rules! through {
    ($($room:ident: $at_room:ident, $give_up_room:ident { $($Kind:ident: $at:ident, $give_up:ident;)* })*) => {
        impl Drivers {
            $(
                pub(super) async fn $at_room(
                    &self,
                    estate: &Estate,
                    step: &$room::Step,
                    turn: Turn<'_>,
                ) -> Result<Outcome, Fault> {
                    match step {
                        $($room::Step::$Kind(step) => self.$at(estate, step, turn).await),*
                    }
                }

                pub(super) async fn $give_up_room(
                    &self,
                    estate: &Estate,
                    step: &$room::Step,
                    turn: Turn<'_>,
                ) -> Result<Outcome, Fault> {
                    match step {
                        $($room::Step::$Kind(step) => self.$give_up(estate, step, turn).await),*
                    }
                }
            )*
        }
    };
}

through! {
    backups: at_backup, give_up_backup {
        Snap: at_snapshot, give_up_snapshot;
        Carry: at_carrying, give_up_carrying;
        Store: at_store, give_up_store;
    }
    building: at_building, give_up_building {
        Bare: at_installing, at_installing;
        Cluster: at_cluster, at_cluster;
        Network: at_network, at_network;
        Storage: at_storage, at_storage;
        Keeper: at_keepers, at_keepers;
        Host: at_host, at_host;
        Name: at_naming, at_naming;
    }
    drilling: at_drilling, give_up_drilling {
        Machine: at_machine, give_up_machine;
        Try: at_answers, at_answers;
        Passage: at_passage, at_passage;
    }
    growing: at_growing, give_up_growing {
        Move: at_move, give_up_move;
        Edit: at_edit, at_edit;
    }
    handover: at_handover, give_up_handover {
        Machine: at_machine, give_up_machine;
        Snap: at_snapshot, give_up_snapshot;
        Replica: at_replica, give_up_replica;
        Try: at_answers, at_answers;
        Passage: at_passage, at_passage;
    }
    joining: at_joining, give_up_joining {
        Host: at_host, at_host;
        Cluster: at_cluster, at_cluster;
        Storage: at_storage, at_storage;
        Network: at_network, at_network;
        Name: at_naming, at_naming;
    }
    leaving: at_leaving, give_up_leaving {
        Host: at_host, at_host;
        Move: at_move, give_up_move;
        Machine: at_machine, at_machine;
        Keeper: at_keepers, at_keepers;
        Storage: at_storage, at_storage;
        Network: at_network, at_network;
        Cluster: at_cluster, at_cluster;
        Name: at_naming, at_naming;
    }
    maintenance: at_maintenance, give_up_maintenance {
        Host: at_host, at_host;
        Move: at_move, give_up_move;
        Machine: at_machine, at_machine;
    }
    providing: at_providing, give_up_providing {
        Storage: at_storage, at_storage;
        Machine: at_machine, give_up_machine;
    }
    proving: at_proving, give_up_proving {
        Machine: at_machine, give_up_machine;
        Try: at_answers, at_answers;
    }
    replicating: at_replicating, give_up_replicating {
        Machine: at_machine, give_up_machine;
        Snap: at_snapshot, give_up_snapshot;
        Replica: at_replica, give_up_replica;
    }
    restocking: at_restocking, give_up_restocking {
        Machine: at_machine, give_up_machine;
    }
    restoring: at_restoring, give_up_restoring {
        Carry: at_carrying, give_up_carrying;
        Snap: at_snapshot, give_up_snapshot;
        Power: at_machine, give_up_machine;
    }
    scheduled: at_scheduled, give_up_scheduled {
        Snap: at_snapshot, give_up_snapshot;
    }
    taking: at_taking, give_up_taking {
        Host: at_host, at_host;
        Cluster: at_cluster, at_cluster;
        Storage: at_storage, at_storage;
        Network: at_network, at_network;
    }
}
