//! Numbers between Rust and PostgreSQL's signed columns.

use time::OffsetDateTime;
use zastrugi_core::moment::Moment;

pub(crate) fn to_db(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}
pub(crate) fn from_db(n: i64) -> u64 {
    u64::try_from(n).unwrap_or(0)
}
pub(crate) fn time_of(moment: Moment) -> OffsetDateTime {
    OffsetDateTime::from_unix_timestamp_nanos(i128::from(moment.0) * 1_000_000)
        .unwrap_or(OffsetDateTime::UNIX_EPOCH)
}
pub(crate) fn moment_of(time: OffsetDateTime) -> Moment {
    Moment(i64::try_from(time.unix_timestamp_nanos() / 1_000_000).unwrap_or(0))
}
