//! Work on many things by several threads, the results in the order of the things.

mod helpers;

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Mutex, PoisonError};

pub use helpers::{Help, Helpers};

use crate::cancel::{self, Cancel};
use crate::{Error, ErrorKind, Result};

/// Calls `f` with each item, on so many threads; the first error in the order of items wins.
pub fn each<T: Send, R: Send>(
    threads: usize,
    items: impl ExactSizeIterator<Item = T> + Send,
    f: impl Fn(T) -> Result<R> + Sync,
) -> Result<Vec<R>> {
    let f = |item: T| cancel::check().and_then(|()| f(item));
    if threads <= 1 || items.len() <= 1 {
        return items.map(f).collect();
    }
    let (count, cancel) = (items.len(), Cancel::of_this_thread());
    let items = Mutex::new(items.enumerate());
    let done = Mutex::new(Vec::with_capacity(count));
    let work = || loop {
        let next = items.lock().unwrap_or_else(PoisonError::into_inner).next();
        let Some((number, item)) = next else { break };
        let result = f(item);
        done.lock().unwrap_or_else(PoisonError::into_inner).push((number, result));
    };
    let panicked = std::thread::scope(|scope| {
        let workers: Vec<_> = (1..threads.min(count)).map(|_| scope.spawn(|| cancel.within(work))).collect();
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

/// Runs `f`; a panic becomes an error.
pub fn guarded<T>(f: impl FnOnce() -> Result<T>) -> Result<T> {
    catch_unwind(AssertUnwindSafe(f)).unwrap_or_else(|panic| {
        let text = panic
            .downcast_ref::<&str>()
            .map(|s| (*s).to_owned())
            .or_else(|| panic.downcast_ref::<String>().cloned());
        let why = text.unwrap_or_else(|| "it gave no reason".into());
        Err(Error::new(ErrorKind::Internal, "A worker failed; this is a fault of churn.")
            .why(format!("It said: {why}."))
            .next("Please report it, with the recipe."))
    })
}
