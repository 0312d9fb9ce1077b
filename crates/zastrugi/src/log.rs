//! What is logged, and what never is.
//!
//! Libraries print whole requests at their finer levels, with cookies and keys in them. Whatever level is asked for, only
//! what is ours says more than warnings; and what is ours names no secret (a test plants some and looks).

use tracing::{Level, Metadata};
use tracing_subscriber::{
    EnvFilter, Layer, filter::filter_fn, layer::SubscriberExt, util::SubscriberInitExt,
};

const USUAL: &str = "warn,zastrugi=info,zastrugi_engine=warn,rocket=error,mdns_sd=error";

/// Whether a line may be logged at all.
fn decent(line: &Metadata<'_>) -> bool {
    *line.level() <= Level::WARN || line.target().starts_with("zastrugi")
}

/// Begins to log, as `RUST_LOG` asks within these bounds.
pub(crate) fn begin() {
    let asked = EnvFilter::try_from_default_env().unwrap_or_else(|_| USUAL.into());
    let lines = tracing_subscriber::fmt::layer()
        .with_target(false)
        .with_writer(std::io::stderr)
        .with_filter(filter_fn(decent));
    tracing_subscriber::registry()
        .with(asked)
        .with(lines)
        .init();
}
