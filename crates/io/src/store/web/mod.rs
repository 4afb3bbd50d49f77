//! Addresses on the web.
//!
//! An answer that breaks off is taken up where it ended, if the server says what it sends and can send a part of it; else
//! the run stops. What is worth another attempt is tried again, later each time.

#[cfg(feature = "http")]
pub(super) mod agent;
#[cfg(feature = "http")]
mod answer;
#[cfg(feature = "http")]
mod cancellable;
#[cfg(feature = "http")]
mod parts;

use std::io::Result;

use super::{Store, StoredFile, StoredStream};

/// The store behind addresses on the web.
#[derive(Debug)]
pub(crate) struct Web;

impl Store for Web {
    fn schemes(&self) -> Vec<&str> {
        vec!["http", "https"]
    }

    /// The bytes at an address; an error where they are a page for people.
    fn read(&self, address: &str) -> Result<StoredStream> {
        #[cfg(feature = "http")]
        return answer::open(address);
        #[cfg(not(feature = "http"))]
        {
            // Keys may stand in it: what shows an address leaves them out.
            let _ = address;
            Err(std::io::Error::new(std::io::ErrorKind::Unsupported, "this build lacks the feature http"))
        }
    }

    /// The file at an address, if its server sends parts of it.
    fn open(&self, address: &str) -> Result<Option<StoredFile>> {
        #[cfg(feature = "http")]
        return parts::open(address);
        #[cfg(not(feature = "http"))]
        {
            let _ = address;
            Ok(None)
        }
    }
}
