//! How a process is started, and the settings that all processes share.

use crate::runs::Ends;
use crate::shared::Shared;
use std::{sync::Arc, time::Duration};
use uuid::Uuid;
use zastrugi_core::{guard::Times, macs::MacRange, moment::Span};
use zastrugi_drivers::{Exports, Installation, Media, Networks};
use zastrugi_store::{Pool, Settings, StoreError};

#[derive(Debug, Clone)]
pub struct EngineSettings {
    pub database: String,
    pub connections: u32,
    /// Seals secrets; kept outside the database.
    pub key: [u8; 32],
    /// Name of the installation, used once.
    pub name: String,
    /// Management networks to begin with, used once.
    pub networks: String,
    /// UDP port on which hosts announce themselves.
    pub announcements: Option<u16>,
    pub announcements_everywhere: bool,
    /// False for a process that only shows pages.
    pub works: bool,
    /// The names of the sites at which it carries bytes of copies, and does nothing else; none: whatever there is.
    pub carries: Option<Vec<String>>,
    /// How long an order that this process took is its own.
    pub order_lease: Span,
    /// How long a guard waits for what; none: clusters are not guarded.
    pub guard: Option<Times>,
    /// The machine in which this manager runs, by its identity; what the firmware says, where nobody does.
    pub own: Option<Uuid>,
    /// What hosts are installed from.
    pub media: Media,
    /// Where exports for backups are mounted.
    pub exports: Exports,
    /// The database may follow another, and then this process stands by: who it is among those that were invited.
    pub stand_by: Option<Uuid>,
    /// Where work shall end unheard of, for tests of what then happens.
    pub ends: Ends,
}

impl EngineSettings {
    /// A process that shows pages and neither works nor listens: what else it shall do is said by the caller.
    pub fn new(database: String, key: [u8; 32]) -> Self {
        EngineSettings {
            database,
            connections: 8,
            key,
            name: "Zastrugi".into(),
            networks: String::new(),
            announcements: None,
            announcements_everywhere: false,
            works: false,
            carries: None,
            order_lease: Span::secs(30),
            guard: None,
            own: None,
            media: Media::default(),
            exports: Exports::default(),
            stand_by: None,
            ends: Ends::Nowhere,
        }
    }
}

pub(crate) const NETWORKS: &str = "management networks";
pub(crate) const MACS: &str = "mac range";

/// How often settings that another process may have changed are read.
const AGAIN: Duration = Duration::from_secs(10);

/// Settings that somebody changed reach every process.
pub(crate) async fn follow(shared: Arc<Shared>) {
    let settings = Settings::new(shared.pool.clone());
    loop {
        // At once when another process changed them; now and then in any case.
        drop(tokio::time::timeout(AGAIN, shared.settings.notified()).await);
        match settings.get::<String>(NETWORKS).await {
            Ok(Some(text)) => {
                if let Ok(networks) = Networks::parse(&text) {
                    shared.drivers.allow(networks);
                }
            }
            Ok(None) => {}
            Err(error) => tracing::debug!(%error, "settings were not read"),
        }
        if let Ok(Some(text)) = settings.get::<String>(MACS).await
            && let Ok(range) = text.parse()
        {
            shared.macs.store(Arc::new(range));
        }
    }
}

/// Reads what is shared, where nothing can be set.
pub(crate) async fn read(pool: &Pool) -> Result<(Installation, Networks, MacRange), StoreError> {
    let settings = Settings::new(pool.clone());
    let text =
        async |name: &str| Ok::<String, StoreError>(settings.get(name).await?.unwrap_or_default());
    let id = text("installation id").await?;
    let name = text("installation name").await?;
    let networks = Networks::parse(&text(NETWORKS).await?).unwrap_or_default();
    let macs = text(MACS).await?.parse();
    let macs = macs.unwrap_or_else(|_| MacRange::of(&id));
    Ok((Installation { id, name }, networks, macs))
}

/// Reads what is shared, and sets it the first time.
pub(crate) async fn first(
    pool: &Pool,
    given: &EngineSettings,
) -> Result<(Installation, Networks, MacRange), StoreError> {
    let settings = Settings::new(pool.clone());
    let id = settings
        .keep("installation id", &uuid::Uuid::new_v4().to_string())
        .await?;
    let name = settings.keep("installation name", &given.name).await?;
    // Whoever doesn't say which (a person added before the first start) doesn't settle that there are none.
    let networks = match given.networks.trim() {
        "" => settings.get(NETWORKS).await?.unwrap_or_default(),
        given => settings.keep(NETWORKS, &given.to_owned()).await?,
    };
    let macs: Option<String> = settings.get(MACS).await?;
    let macs = macs.and_then(|text| text.parse().ok());
    let macs = macs.unwrap_or_else(|| MacRange::of(&id));
    Ok((
        Installation { id, name },
        Networks::parse(&networks).unwrap_or_default(),
        macs,
    ))
}
