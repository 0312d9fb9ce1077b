//! Where a store lies, and how it is reached.

use super::{StoreFault, locks::Locks};
use crate::tls;
use object_store::{
    ClientOptions, ObjectStore, RetryConfig,
    aws::AmazonS3Builder,
    client::{HttpClient, HttpConnector},
    local::LocalFileSystem,
    prefix::PrefixStore,
};
use std::{fmt, path::PathBuf, sync::Arc, time::Duration};

/// Repeated this often by itself before it is a fault.
const TRIES: usize = 2;

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// A folder of an export that is mounted here.
    Folder(PathBuf),
    Bucket(Bucket),
}

/// A bucket of a server that speaks S3.
#[derive(Clone, PartialEq, Eq)]
pub struct Bucket {
    /// `https://10.20.0.90:9443`; plain HTTP goes only to this machine itself.
    pub endpoint: String,
    pub region: String,
    pub name: String,
    /// Within the bucket; empty: all of it.
    pub prefix: String,
    /// The name of the access key, and its secret.
    pub access: String,
    pub secret: String,
    /// SHA-256 of the server's public key.
    pub pin: String,
}

impl fmt::Debug for Bucket {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{}/{}/{} as {}",
            self.endpoint, self.name, self.prefix, self.access
        )
    }
}

/// Our own client: its certificates are pinned like all others'.
#[derive(Debug)]
struct Pinned(reqwest::Client);

impl HttpConnector for Pinned {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(self.0.clone()))
    }
}

/// What keeps objects by their names there, and, of a bucket, what knows of their locks.
#[derive(Clone)]
pub(super) struct Reached {
    pub(super) objects: Arc<dyn ObjectStore>,
    pub(super) locks: Option<Arc<Locks>>,
}

impl Place {
    /// # Errors
    /// [`StoreFault`] where the folder is not there, or the address makes no sense.
    pub(super) fn reached(&self) -> Result<Reached, StoreFault> {
        match self {
            Place::Folder(folder) => {
                let local = LocalFileSystem::new_with_prefix(folder);
                let local =
                    local.map_err(|_| StoreFault::Gone(format!("folder {}", folder.display())))?;
                Ok(Reached {
                    objects: Arc::new(local.with_fsync(true)),
                    locks: None,
                })
            }
            Place::Bucket(bucket) => bucket.reached(),
        }
    }
}

impl Bucket {
    fn reached(&self) -> Result<Reached, StoreFault> {
        let refused = |e: &dyn fmt::Display| StoreFault::Refused(e.to_string());
        let (config, _) = tls::config(Some(&self.pin)).map_err(|e| refused(&e))?;
        let client = reqwest::Client::builder()
            .tls_backend_preconfigured(config)
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .connect_timeout(Duration::from_secs(3))
            .timeout(super::fault::WHOLE)
            .build()
            .map_err(|e| refused(&e))?;
        let locks = Locks::new(HttpClient::new(client.clone()), self);
        let retry = RetryConfig {
            max_retries: TRIES,
            retry_timeout: super::fault::WHOLE,
            ..RetryConfig::default()
        };
        let built = AmazonS3Builder::new()
            .with_endpoint(&self.endpoint)
            .with_region(&self.region)
            .with_bucket_name(&self.name)
            .with_access_key_id(&self.access)
            .with_secret_access_key(&self.secret)
            .with_virtual_hosted_style_request(false)
            .with_allow_http(self.endpoint.starts_with("http://127.0.0.1:"))
            .with_retry(retry)
            .with_http_connector(Pinned(client))
            .build()?;
        Ok(Reached {
            objects: match self.prefix.as_str() {
                "" => Arc::new(built),
                prefix => Arc::new(PrefixStore::new(built, prefix)),
            },
            locks: Some(Arc::new(locks)),
        })
    }
}
