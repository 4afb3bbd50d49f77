//! Object stores: buckets of objects behind `s3://`, `gs://` and `az://`.
//!
//! What the crate `object_store` does is signing, retries, listing and uploads in parts. Its requests go through the same agent as
//! those to the web, so certificates and proxies are the system's, and no second client is built. What it does asynchronously
//! is waited for by the thread that asks.

#[cfg(feature = "object-store")]
mod az;
#[cfg(feature = "object-store")]
mod bucket;
#[cfg(feature = "object-store")]
mod connect;
#[cfg(feature = "object-store")]
mod failures;
#[cfg(feature = "object-store")]
mod gs;
#[cfg(feature = "object-store")]
mod listing;
#[cfg(feature = "object-store")]
mod profile;
#[cfg(feature = "object-store")]
mod reading;
#[cfg(feature = "object-store")]
mod s3;
#[cfg(feature = "object-store")]
mod upload;
#[cfg(feature = "object-store")]
mod waiting;

use std::io::Result as IoResult;

use churn_core::Result;

use super::{Store, StoredFile, StoredStream};

/// The stores of buckets.
#[derive(Debug)]
pub(super) struct ObjectStores;

#[cfg(feature = "object-store")]
impl Store for ObjectStores {
    fn schemes(&self) -> Vec<&str> {
        bucket::KINDS.iter().map(|kind| kind.scheme).collect()
    }

    /// The objects that fit a pattern, or that are below an address that ends with a slash; an address of one object is not
    /// looked up.
    fn list(&self, address: &str) -> Result<Vec<String>> {
        listing::list(address)
    }

    fn read(&self, address: &str) -> IoResult<StoredStream> {
        reading::read(address)
    }

    fn open(&self, address: &str) -> IoResult<Option<StoredFile>> {
        reading::open(address)
    }

    /// A question mark stands for a character of names in a pattern, and may be one of a name.
    fn has_queries(&self) -> bool {
        false
    }

    fn is_writable(&self) -> bool {
        true
    }

    fn write(&self, address: &str, bytes: &mut dyn std::io::Read, length: u64) -> IoResult<()> {
        upload::write(address, bytes, length)
    }
}

#[cfg(not(feature = "object-store"))]
impl Store for ObjectStores {
    fn schemes(&self) -> Vec<&str> {
        vec!["s3", "gs", "az"]
    }

    fn list(&self, address: &str) -> Result<Vec<String>> {
        Ok(vec![address.to_owned()])
    }

    fn read(&self, _: &str) -> IoResult<StoredStream> {
        Err(std::io::Error::new(std::io::ErrorKind::Unsupported, "this build lacks the feature object-store"))
    }

    fn open(&self, _: &str) -> IoResult<Option<StoredFile>> {
        Ok(None)
    }

    fn has_queries(&self) -> bool {
        false
    }
}
