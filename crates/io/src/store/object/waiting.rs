//! Waiting for what is done asynchronously.

use std::future::Future;
use std::io::Result;
use std::time::Duration;

use churn_core::cancel;
use tokio::runtime::{Builder, Runtime};

use crate::store::aside::{LOOK, stopped};

/// How long is waited for a store that is to forget what it was sent.
const TIDYING: Duration = Duration::from_secs(3);

/// What waits. Requests are sent by threads of their own, while this one looks at whether to stop; what they answer with is read by
/// this one.
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

    /// Does some work even when the run is to stop, if that does not take long.
    pub(super) fn tidy<T>(&self, work: impl Future<Output = T>) {
        // What is left undone is nothing that anybody sees.
        let _ = self.0.block_on(async { tokio::time::timeout(TIDYING, work).await });
    }
}

async fn asked_to_stop() {
    while !cancel::is_asked() {
        tokio::time::sleep(LOOK).await;
    }
}
