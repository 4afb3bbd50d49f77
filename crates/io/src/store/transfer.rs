//! How much was fetched from stores.

use std::fmt;
use std::io::{Read, Result};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use churn_core::readable::{bytes, plural};

/// Bytes that were fetched of a file, or of several, and how often a store was asked for some.
#[derive(Debug, Default)]
pub struct Transfer {
    bytes: AtomicU64,
    requests: AtomicU64,
}

impl Transfer {
    /// Bytes that came.
    pub fn bytes(&self) -> u64 {
        self.bytes.load(Ordering::Relaxed)
    }

    /// Requests that were answered; attempts that failed and were repeated are not among them.
    pub fn requests(&self) -> u64 {
        self.requests.load(Ordering::Relaxed)
    }

    pub(super) fn add_request(&self) {
        self.requests.fetch_add(1, Ordering::Relaxed);
    }

    pub(super) fn add_bytes(&self, bytes: usize) {
        self.bytes.fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// All of some together.
    pub fn together<'a>(transfers: impl IntoIterator<Item = &'a Arc<Transfer>>) -> Transfer {
        let all = Transfer::default();
        for transfer in transfers {
            all.bytes.fetch_add(transfer.bytes(), Ordering::Relaxed);
            all.requests.fetch_add(transfer.requests(), Ordering::Relaxed);
        }
        all
    }
}

/// "3.4 MB in 12 requests".
impl fmt::Display for Transfer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} in {}", bytes(self.bytes()), plural(self.requests(), "request"))
    }
}

/// A reader whose bytes are counted.
pub(crate) struct Counted<R> {
    from: R,
    transfer: Arc<Transfer>,
}

impl<R: Read> Counted<R> {
    /// Counts the bytes of an answer to one request.
    pub(crate) fn new(from: R, transfer: Arc<Transfer>) -> Counted<R> {
        transfer.add_request();
        Counted { from, transfer }
    }
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        let read = self.from.read(into)?;
        self.transfer.add_bytes(read);
        Ok(read)
    }
}
