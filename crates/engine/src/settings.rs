//! How a process is started, and the settings that all processes share.

use sqlx::PgPool;
use zastrugi_drivers::{Installation, Networks};
use zastrugi_store::{Settings, StoreError};

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
}

pub(crate) const NETWORKS: &str = "management networks";

/// Reads what is shared, and sets it the first time.
pub(crate) async fn first(pool: &PgPool, given: &EngineSettings) -> Result<(Installation, Networks), StoreError> {
    let settings = Settings::new(pool.clone());
    let id = settings.keep("installation id", &uuid::Uuid::new_v4().to_string()).await?;
    let name = settings.keep("installation name", &given.name).await?;
    let networks = settings.keep(NETWORKS, &given.networks).await?;
    Ok((Installation { id, name }, Networks::parse(&networks).unwrap_or_default()))
}
