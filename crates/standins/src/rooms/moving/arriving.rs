//! The receiving side of a live migration: half a copy is nothing, a whole one takes the run lease over.

use crate::{
    rooms::machines::memory::digest,
    rooms::moving::sending::{END, SILENCE, SWITCH},
    world::World,
};
use serde_json::Value;
use std::{io, sync::Arc, time::Duration};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
    time::{sleep, timeout},
};

/// Waits for machines on a host's migration address.
pub(crate) async fn listen(world: Arc<World>, host: String, listener: TcpListener) {
    loop {
        match listener.accept().await {
            Ok((stream, _)) => {
                let (world, host) = (world.clone(), host.clone());
                tokio::spawn(async move {
                    let mut stream = BufReader::new(stream);
                    let mut line = String::new();
                    let hello = timeout(SILENCE, stream.read_line(&mut line)).await;
                    let hello: Value = match hello {
                        Ok(Ok(_)) => serde_json::from_str(&line).unwrap_or_default(),
                        _ => return,
                    };
                    let uuid = hello["machine"].as_str().unwrap_or_default().to_owned();
                    if world.awaits(&host, &uuid, &hello) {
                        drop(receive(&world, &host, &uuid, &hello, stream).await);
                    }
                    // Half a copy is nothing.
                    world.moves.forget(&host, &uuid);
                });
            }
            Err(_) => sleep(Duration::from_millis(50)).await,
        }
    }
}

async fn receive(
    world: &World,
    host: &str,
    uuid: &str,
    hello: &Value,
    mut stream: BufReader<TcpStream>,
) -> io::Result<()> {
    let pages = hello["pages"].as_u64().unwrap_or(0).min(1 << 28);
    let mut versions = vec![0u32; usize::try_from(pages).unwrap_or(0)];
    let generation = hello["generation"].as_u64().unwrap_or(0);
    let mut frame = [0; 16];
    loop {
        timeout(SILENCE, stream.read_exact(&mut frame)).await??;
        if !world.is_on(host) {
            return Ok(());
        }
        let number = |bytes: &[u8]| bytes.try_into().map_or(0, u64::from_le_bytes);
        let (page, value) = (number(&frame[..8]), number(&frame[8..]));
        let mut answer = vec![];
        match page {
            END => answer.push(1),
            SWITCH if digest(&versions) == value => match world.take_over(host, uuid, generation) {
                Some(still) => {
                    answer.push(1);
                    answer.extend(still.to_le_bytes());
                }
                None => answer.push(0),
            },
            SWITCH => {
                world.violate(uuid, "pages were lost on the way");
                answer.push(0);
            }
            page => {
                let slot = usize::try_from(page).ok().and_then(|p| versions.get_mut(p));
                if let (Some(slot), Ok(version)) = (slot, u32::try_from(value)) {
                    *slot = version;
                }
                continue;
            }
        }
        stream.get_mut().write_all(&answer).await?;
        if page == SWITCH {
            return Ok(());
        }
    }
}
