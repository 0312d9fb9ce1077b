//! Text consoles of guests and hosts: what they print as a stream, what is typed as calls. Safe to begin again where it ended.

use crate::{Drivers, Watch, fault::garbled};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde::Deserialize;
use std::time::Duration;
use uuid::Uuid;
use zastrugi_core::{estate::Host, runs::Fault};

/// What a guest prints, as it comes.
pub struct Console {
    watch: Watch,
}

#[derive(Deserialize)]
struct Printed {
    from: u64,
    bytes: String,
}

impl Console {
    /// The next piece: where it begins and its bytes; empty when nothing was printed for a second.
    ///
    /// # Errors
    /// [`Fault`] when the stream ends or is silent.
    pub async fn next(&mut self) -> Result<(u64, Vec<u8>), Fault> {
        let said: Printed = self.watch.next_bytes(Duration::from_secs(5)).await?;
        let bytes = BASE64_STANDARD.decode(said.bytes);
        let bytes = bytes.map_err(|e| garbled("a console", &e.to_string()))?;
        Ok((said.from, bytes))
    }
}

impl Drivers {
    /// Follows a machine's console on the host where it runs, from byte `from` of all that it printed.
    ///
    /// # Errors
    /// [`Fault`] when the host is silent or the machine is not on there.
    pub async fn console(&self, host: &Host, machine: &Uuid, from: u64) -> Result<Console, Fault> {
        let key = self.key_of(host).await?;
        let watch = self.agent(host, &key).console(machine, from).await?;
        Ok(Console { watch })
    }

    /// Types into a machine's console.
    ///
    /// # Errors
    /// [`Fault`] when the host is silent or the machine is not on there.
    pub async fn type_text(&self, host: &Host, machine: &Uuid, text: &str) -> Result<(), Fault> {
        let key = self.key_of(host).await?;
        self.agent(host, &key).type_text(machine, text).await
    }

    /// Tells a guest how large its terminal is, in characters.
    ///
    /// # Errors
    /// [`Fault`] when the host is silent or the machine is not on there.
    pub async fn resize_terminal(
        &self,
        host: &Host,
        machine: &Uuid,
        columns: u16,
        rows: u16,
    ) -> Result<(), Fault> {
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        agent.resize_terminal(machine, columns, rows).await
    }

    /// Follows a host's own console by its management controller, from byte `from` of all that it printed.
    ///
    /// # Errors
    /// [`Fault`] when the controller is silent or refuses.
    pub async fn host_console(&self, host: &Host, from: u64) -> Result<Console, Fault> {
        let watch = self.controller(host).await?.console(from).await?;
        Ok(Console { watch })
    }

    /// Types into a host's own console.
    ///
    /// # Errors
    /// [`Fault`] when the controller is silent or refuses.
    pub async fn type_at_host(&self, host: &Host, text: &str) -> Result<(), Fault> {
        self.controller(host).await?.type_text(text).await
    }
}
