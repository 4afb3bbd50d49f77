//! Waiting for what is done asynchronously.

use std::future::Future;
use std::io::Result;

use churn_core::cancel;
use tokio::runtime::{Builder, Runtime};

use crate::store::aside::{LOOK, stopped};

/// What waits. Requests are sent by the thread that waits, and block it; between attempts it looks at whether to stop.
pub(super) struct Waiting(Runtime);

impl Waiting {
    pub(super) fn new() -> Result<Waiting> {
        Ok(Waiting(Builder::new_current_thread().enable_time().build()?))
    }

    /// The result of some work.
    ///
    /// # Errors
    /// The run is to stop.
    pub(super) fn wait_for<T>(&self, work: impl Future<Output = T>) -> Result<T> {
        self.0.block_on(async {
            tokio::select! {
                biased;
                done = work => Ok(done),
                () = asked_to_stop() => Err(stopped()),
            }
        })
    }

    /// The result of some work that is done even when the run is to stop.
    pub(super) fn finish<T>(&self, work: impl Future<Output = T>) -> T {
        self.0.block_on(work)
    }
}

async fn asked_to_stop() {
    while !cancel::is_asked() {
        tokio::time::sleep(LOOK).await;
    }
}
