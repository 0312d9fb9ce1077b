//! How long a peer may take, and how much room there is.

use std::time::Duration;

/// Time limits and room of the front.
#[derive(Debug, Clone, Copy)]
pub struct Pace {
    /// For the whole head of a request, counted from the last answer.
    pub head: Duration,
    /// Without a byte of a body.
    pub idle: Duration,
    /// Of a body, before it must keep the least rate.
    pub grace: Duration,
    /// Bytes a second that a body must have on the whole.
    pub least: u64,
    /// For a peer that takes nothing of what is sent to it.
    pub write: Duration,
    /// Connections in all.
    pub connections: usize,
    /// Of those, kept for who is signed in.
    pub kept_room: usize,
    /// Connections from one address, proxies excepted.
    pub per_address: usize,
}

impl Default for Pace {
    fn default() -> Self {
        Pace {
            head: Duration::from_secs(10),
            idle: Duration::from_secs(10),
            grace: Duration::from_secs(10),
            least: 16 << 10,
            write: Duration::from_secs(30),
            connections: 2048,
            kept_room: 1280,
            per_address: 256,
        }
    }
}

impl Pace {
    /// As much room as there are descriptors for: a request in work needs three, and other work needs some.
    #[must_use]
    pub fn within(mut self, descriptors: usize) -> Self {
        let room = descriptors.saturating_sub(256) / 3;
        self.connections = self.connections.min(room.max(32));
        // Strangers get 768 places at most, and three quarters of a small room.
        self.kept_room = self
            .connections
            .saturating_sub(768)
            .max(self.connections / 4);
        self
    }

    /// How long a body may have taken that has brought so many bytes.
    pub(super) fn allowed(&self, bytes: u64) -> Duration {
        self.grace + Duration::from_secs(bytes / self.least.max(1))
    }
}
