//! What a host agent tells by itself: its report, line by line, to whoever listens.

use super::{owner_only, report};
use crate::fault::Device;
use axum::{
    body::{Body, Bytes},
    extract::State,
    http::HeaderMap,
    response::{IntoResponse, Response},
};
use serde_json::Value;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

/// So often it is looked whether something changed.
const LOOKS: Duration = Duration::from_millis(250);
/// Several listen to a host, and its report is long: those that look within this time hear the same one.
const SAME: Duration = Duration::from_millis(200);

/// A report as it goes over the line, and what of it makes it another one.
struct Told {
    at: Instant,
    shape: String,
    line: Bytes,
}

/// The last report of each host.
#[derive(Default)]
pub(crate) struct Reports(Mutex<BTreeMap<String, Arc<Told>>>);

impl Told {
    fn of(device: &Device) -> Told {
        let at = Instant::now();
        let mut shape = report(device);
        let line = Bytes::from(format!("{shape}\n"));
        for passing in ["seq", "load"] {
            shape.as_object_mut().map(|o| o.remove(passing));
        }
        let volumes = shape.get_mut("volumes").and_then(Value::as_array_mut);
        let volumes = volumes.into_iter().flatten();
        for volume in volumes.filter_map(Value::as_object_mut) {
            volume.remove("leases");
        }
        let shape = shape.to_string();
        Told { at, shape, line }
    }
}

impl Reports {
    fn of(&self, device: &Device) -> Arc<Told> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let last = kept.get(&device.name).cloned();
        drop(kept);
        // Leases that go faster make 200 ms a long time.
        if let Some(last) = last.filter(|l| l.at.elapsed() < SAME && !device.world.hurries()) {
            return last;
        }
        let told = Arc::new(Told::of(device));
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.insert(device.name.clone(), told.clone());
        told
    }
}

/// A line of JSON whenever something changed, and at least every second.
pub(super) async fn events(State(device): State<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let stream =
        futures::stream::unfold((device, None::<Arc<Told>>), |(device, last)| async move {
            for tick in 0..4 {
                if tick > 0 || last.is_some() {
                    tokio::time::sleep(LOOKS).await;
                }
                if !device.world.is_on(&device.name) {
                    return None;
                }
                let now = device.world.reports.of(&device);
                let same = last.as_ref().is_some_and(|l| l.shape == now.shape);
                // Leases that go faster are told of more often, so that both keep their measure.
                if !same || tick == 3 || device.world.hurries() {
                    let line = now.line.clone();
                    return Some((Ok::<_, std::io::Error>(line), (device, Some(now))));
                }
            }
            None
        });
    (
        [("content-type", "application/x-ndjson")],
        Body::from_stream(stream),
    )
        .into_response()
}
