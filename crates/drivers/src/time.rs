//! Asking a time source how far it is from our clock, by SNTP (RFC 5905, section 14).

use crate::{Drivers, fault::words};
use rsntp::{AsyncSntpClient, Config, SntpDuration};
use std::{net::Ipv4Addr, time::Duration};
use zastrugi_core::{
    evidence::Answer,
    runs::{Fault, FaultKind},
};

/// Sources that serve anybody answer within milliseconds.
const PATIENCE: Duration = Duration::from_millis(700);
/// A packet may be lost, or late; the answer that came quickest says most (RFC 5905, section 10).
const TRIES: usize = 3;
/// One that came so quickly is believed at once.
const SHARP: Duration = Duration::from_millis(20);

fn length(span: SntpDuration) -> Duration {
    span.abs_as_std_duration().unwrap_or(Duration::MAX)
}

impl Drivers {
    pub(crate) async fn time_of(&self, source: &str) -> Result<Answer, Fault> {
        let at = self.networks().check_time(source)?;
        let any = match at.ip() {
            std::net::IpAddr::V4(_) => (Ipv4Addr::UNSPECIFIED, 0).into(),
            std::net::IpAddr::V6(_) => (std::net::Ipv6Addr::UNSPECIFIED, 0).into(),
        };
        let config = Config::default().bind_address(any).timeout(PATIENCE);
        let client = AsyncSntpClient::with_config(config);
        let mut last = String::new();
        let mut best: Option<(Duration, i64)> = None;
        for _ in 0..TRIES {
            match client.synchronize(at).await {
                Ok(told) => {
                    let took = length(told.round_trip_delay());
                    let offset = told.clock_offset();
                    let ms = i64::try_from(length(offset).as_millis()).unwrap_or(i64::MAX);
                    let offset_ms = ms.saturating_mul(offset.signum().into());
                    if best.is_none_or(|(least, _)| took < least) {
                        best = Some((took, offset_ms));
                    }
                    if took < SHARP {
                        break;
                    }
                }
                Err(error) => last = words(&error.to_string()),
            }
        }
        if let Some((_, offset_ms)) = best {
            return Ok(Answer::Clock { offset_ms });
        }
        let remedy = "Check that it is on and that its address is right.";
        Err(Fault::new(FaultKind::TimedOut, last, remedy))
    }
}
