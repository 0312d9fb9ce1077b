//! Taking orders: few at a time of each device, so that one that hangs keeps nobody else waiting.

use super::{Way, task::Task};
use crate::{scribe::Scribe, shared::Shared};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::{task::JoinSet, time::sleep};
use zastrugi_core::runs::LANES;
use zastrugi_store::{Orders, StoreError};

/// Calls of this process at once.
const AT_ONCE: usize = 64;
const SLOWEST_LOOK: Duration = Duration::from_secs(1);

pub(crate) fn spawn(
    tasks: &mut JoinSet<()>,
    shared: Arc<Shared>,
    scribe: Scribe,
    orders: Orders,
    way: Way,
) {
    tasks.spawn(dispatch(shared, scribe, orders, way));
}

/// Calls that are under way, by device.
#[derive(Default)]
struct UnderWay(Mutex<BTreeMap<String, i32>>);

impl UnderWay {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<String, i32>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
    fn list(&self) -> Vec<(String, i32)> {
        self.lock().iter().map(|(d, n)| (d.clone(), *n)).collect()
    }
    fn begin(self: &Arc<Self>, shared: &Arc<Shared>, device: &str) -> Call {
        *self.lock().entry(device.to_owned()).or_insert(0) += 1;
        Call {
            under_way: self.clone(),
            shared: shared.clone(),
            device: device.to_owned(),
        }
    }
}

/// A call as long as it lasts; its end lets the dispatcher look again.
struct Call {
    under_way: Arc<UnderWay>,
    shared: Arc<Shared>,
    device: String,
}

impl Drop for Call {
    fn drop(&mut self) {
        let mut all = self.under_way.lock();
        if let Some(n) = all.get_mut(&self.device) {
            *n -= 1;
            if *n <= 0 {
                all.remove(&self.device);
            }
        }
        drop(all);
        self.shared.orders.notify_one();
    }
}

async fn dispatch(shared: Arc<Shared>, scribe: Scribe, orders: Orders, way: Way) {
    let under_way = Arc::new(UnderWay::default());
    let mut calls = JoinSet::new();
    loop {
        while calls.try_join_next().is_some() {}
        let busy = under_way.list();
        let free = AT_ONCE.saturating_sub(calls.len());
        let taken = if free == 0 {
            Ok(vec![])
        } else {
            let most = i64::try_from(free).unwrap_or(1);
            orders.take(most, LANES, &busy, way.lease).await
        };
        match taken {
            Ok(taken) if !taken.is_empty() => {
                for order in taken {
                    let call = under_way.begin(&shared, &order.device);
                    let task = Task {
                        shared: shared.clone(),
                        scribe: scribe.clone(),
                        orders: orders.clone(),
                        way: way.clone(),
                    };
                    calls.spawn(async move {
                        task.carry_out(order).await;
                        drop(call);
                    });
                }
            }
            Ok(_) => wait(&shared, &orders, !busy.is_empty()).await,
            Err(error) => {
                tracing::warn!(%error, "no orders are taken until the database answers");
                sleep(Duration::from_millis(500)).await;
            }
        }
    }
}

/// Until an order may be due: told so, or by the table, or at the slowest look. While calls are under way what is due may
/// wait for just those; their end tells.
async fn wait(shared: &Shared, orders: &Orders, busy: bool) {
    let next = async {
        let due: Result<_, StoreError> = orders.next_due().await;
        let due = due
            .ok()
            .flatten()
            .map_or(SLOWEST_LOOK, |s| Duration::from_millis(s.0));
        let soonest = Duration::from_millis(if busy { 50 } else { 10 });
        sleep(due.clamp(soonest, SLOWEST_LOOK)).await;
    };
    tokio::select! {
        () = shared.orders.notified() => {}
        () = next => {}
    }
}
