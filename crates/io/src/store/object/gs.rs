//! Buckets of Google Cloud Storage.

use std::io::Result;
use std::sync::Arc;

use object_store::StaticCredentialProvider;
use object_store::gcp::{GcpCredential, GoogleCloudStorageBuilder};

use super::bucket::{Bucket, Kind, is_in_cloud, is_yes, retries, unfit, variable};
use super::connect::Connector;

/// The kind.
pub(super) const KIND: Kind = Kind {
    scheme: "gs",
    open,
    keys: "set GOOGLE_APPLICATION_CREDENTIALS to a file of them",
    gives_ends: true,
};

/// Variables that name a file of keys, or hold them.
const SOURCES: [&str; 6] = [
    "GOOGLE_APPLICATION_CREDENTIALS",
    "GOOGLE_SERVICE_ACCOUNT",
    "GOOGLE_SERVICE_ACCOUNT_PATH",
    "GOOGLE_SERVICE_ACCOUNT_KEY",
    "GOOGLE_BEARER_TOKEN",
    "SERVICE_ACCOUNT",
];

/// Where a user's own keys are, below the home folder.
const OWN_KEYS: &str = ".config/gcloud/application_default_credentials.json";

/// Opens a bucket. Keys are those that the environment names, else the user's own, else the machine's; without any, requests are
/// not signed.
fn open(name: &str) -> Result<Bucket> {
    let mut builder = GoogleCloudStorageBuilder::from_env()
        .with_bucket_name(name)
        .with_http_connector(Connector)
        .with_retry(retries());
    let emulator = variable("STORAGE_EMULATOR_HOST");
    if let Some(host) = &emulator {
        let address = if host.contains("://") { host.clone() } else { format!("http://{host}") };
        builder = builder.with_base_url(address.trim_end_matches('/'));
    }
    let own = || std::env::home_dir().is_some_and(|home| home.join(OWN_KEYS).is_file());
    let is_unsigned = emulator.is_some() || is_yes("GOOGLE_SKIP_SIGNATURE");
    let is_named = SOURCES.into_iter().any(|name| variable(name).is_some());
    let has_keys = !is_unsigned && (is_named || own() || is_in_cloud());
    if !has_keys {
        // Uploads ask for keys even where nothing is to be signed.
        let none = GcpCredential { bearer: String::new() };
        builder = builder.with_credentials(Arc::new(StaticCredentialProvider::new(none)));
    }
    let store = builder.with_skip_signature(!has_keys).build().map_err(|e| unfit(&e))?;
    Ok(Bucket { store: Box::new(store), has_keys })
}
