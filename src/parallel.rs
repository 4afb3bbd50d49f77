//! Work on many things by several threads, the results in the order of the things.

use std::sync::{Mutex, PoisonError};

use crate::error::{Error, ErrorKind, Result};

/// Calls `f` with each item, on so many threads; the first error in the order of items wins.
pub(crate) fn each<T: Send, R: Send>(
    threads: usize,
    items: impl ExactSizeIterator<Item = T> + Send,
    f: impl Fn(T) -> Result<R> + Sync,
) -> Result<Vec<R>> {
    if threads <= 1 || items.len() <= 1 {
        return items.map(f).collect();
    }
    let count = items.len();
    let items = Mutex::new(items.enumerate());
    let done = Mutex::new(Vec::with_capacity(count));
    let work = || loop {
        let next = items.lock().unwrap_or_else(PoisonError::into_inner).next();
        let Some((number, item)) = next else { break };
        let result = f(item);
        done.lock().unwrap_or_else(PoisonError::into_inner).push((number, result));
    };
    let panicked = std::thread::scope(|scope| {
        let workers: Vec<_> = (1..threads.min(count)).map(|_| scope.spawn(work)).collect();
        work();
        workers.into_iter().any(|worker| worker.join().is_err())
    });
    if panicked {
        return Err(Error::new(ErrorKind::Internal, "A worker failed; this is a fault of churn."));
    }
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_unstable_by_key(|(number, _)| *number);
    done.into_iter().map(|(_, result)| result).collect()
}
