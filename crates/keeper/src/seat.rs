//! The seat of whoever decides, on real sockets: [`zastrugi_core::guard::Seat`] says what is sent and what it means; here it is
//! sent, and an answer that was lost is looked up.

use crate::Quorum;
use std::time::Instant;
use zastrugi_core::{
    guard::{self, Hears, Held},
    moment::{Moment, Span},
};

#[derive(Debug)]
pub struct Seat {
    seat: guard::Seat,
    /// Its own clock: it only ever goes on.
    began: Instant,
}

/// What one may write with, and until when.
#[derive(Debug, Clone)]
pub struct Lease {
    pub held: Held,
    pub until: Instant,
}

impl Seat {
    /// Of somebody with this name; see [`guard::Seat::new`]. `relieves`: who only fills in.
    pub fn new(me: String, lease: Span, patience: u64, relieves: Option<String>) -> Seat {
        let seat = guard::Seat::new(me, lease, patience, Moment(0));
        Seat {
            seat: match relieves {
                Some(stopgap) => seat.relieving(stopgap),
                None => seat,
            },
            began: Instant::now(),
        }
    }

    fn now(&self) -> Moment {
        Moment(i64::try_from(self.began.elapsed().as_millis()).unwrap_or(i64::MAX))
    }

    /// Renews it, or takes it where it may be; answers what is held then.
    pub async fn sit(&mut self, quorum: &Quorum, hears: Hears) -> Option<Lease> {
        match self.seat.renewal(hears, self.now()) {
            Some((from, to)) => self.renew(quorum, &from, to).await,
            None => self.take(quorum, hears).await,
        }
        let held = self.seat.holds(self.now())?.clone();
        let left = self.seat.until()?.since(self.now());
        let until = Instant::now() + std::time::Duration::from_millis(left.0);
        Some(Lease { held, until })
    }

    async fn renew(&mut self, quorum: &Quorum, from: &Held, to: Held) {
        let sent = self.now();
        match quorum.agree(from, &to).await {
            Ok(true) => self.seat.stands(to, sent),
            Ok(false) => self.seat.lost(),
            // It may have been renewed all the same: what stands there is read before it is tried again.
            Err(fault) => {
                tracing::debug!(said = fault.said, "the seat was not renewed");
                match quorum.read().await {
                    Ok(now) if now.held == to => self.seat.stands(to, sent),
                    Ok(now) if now.held != *from => self.seat.lost(),
                    Ok(_) | Err(_) => {}
                }
            }
        }
    }

    async fn take(&mut self, quorum: &Quorum, hears: Hears) {
        let Ok(there) = quorum.read().await else {
            return;
        };
        let Some(to) = self
            .seat
            .read(&there.held, &there.members, hears, self.now())
        else {
            return;
        };
        let sent = self.now();
        let taken = quorum.agree(&there.held, &to).await.is_ok_and(|yes| yes);
        tracing::info!(token = to.token, taken, ?hears, was = ?there.held.holder, "the seat is asked for");
        if taken {
            self.seat.stands(to, sent);
        }
    }
}
