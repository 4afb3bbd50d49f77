//! Work that waits for a server, done by threads of its own, so that whoever waits for it can stop waiting.

use std::io::{Error, Result};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use churn_core::cancel;
use churn_core::parallel::caught;

/// Between two looks at whether the run is to stop.
pub(super) const LOOK: Duration = Duration::from_millis(50);

/// The error of what was not waited for any longer.
pub(super) fn stopped() -> Error {
    Error::other("the run was stopped")
}

/// Takes what comes next from a thread; `None` when it sends nothing any more.
///
/// # Errors
/// The run is to stop.
pub(super) fn next<T>(from: &Receiver<T>) -> Result<Option<T>> {
    loop {
        if cancel::is_asked() {
            return Err(stopped());
        }
        match from.recv_timeout(LOOK) {
            Ok(sent) => return Ok(Some(sent)),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return Ok(None),
        }
    }
}

/// Starts work on a thread of its own.
///
/// # Errors
/// The system gives no thread.
pub(crate) fn start(work: impl FnOnce() + Send + 'static) -> Result<()> {
    std::thread::Builder::new().name("store".into()).spawn(work).map(|_| ())
}

/// The result of work that calls a store; a panic in it is an error.
pub(super) fn guarded<T>(work: impl FnOnce() -> Result<T>) -> Result<T> {
    caught(work).unwrap_or_else(|why| Err(Error::other(format!("its store panicked: {why}"))))
}

/// Waits until another thread tells of a change, or for a while.
///
/// # Errors
/// The run is to stop.
pub(crate) fn wait<'a, T>(told: &Condvar, of: MutexGuard<'a, T>) -> Result<MutexGuard<'a, T>> {
    if cancel::is_asked() {
        return Err(stopped());
    }
    Ok(told.wait_timeout(of, LOOK).unwrap_or_else(PoisonError::into_inner).0)
}

/// Waits for a time.
///
/// # Errors
/// The run is to stop.
pub(super) fn pause(time: Duration) -> Result<()> {
    let start = std::time::Instant::now();
    while let Some(left) = time.checked_sub(start.elapsed()).filter(|left| !left.is_zero()) {
        if cancel::is_asked() {
            return Err(stopped());
        }
        std::thread::sleep(left.min(LOOK));
    }
    Ok(())
}

/// Does work on items, several at once but no more than `threads`; gives the results in the order of the items.
///
/// # Errors
/// That of the first item whose work failed, or of a panic in it; the run is to stop.
pub(super) fn each<I: Send + 'static, T: Send + 'static>(
    items: Vec<I>,
    threads: usize,
    work: impl Fn(I) -> Result<T> + Send + Sync + 'static,
) -> Result<Vec<T>> {
    let count = items.len();
    let (send, results) = channel();
    let waiting = Arc::new(Mutex::new(items.into_iter().enumerate()));
    let work = Arc::new(work);
    for _ in 0..threads.min(count) {
        let (send, waiting, work) = (send.clone(), waiting.clone(), work.clone());
        start(move || {
            let take = || waiting.lock().unwrap_or_else(PoisonError::into_inner).next();
            while let Some((number, item)) = take() {
                let result = guarded(|| work(item));
                if send.send((number, result)).is_err() {
                    return;
                }
            }
        })?;
    }
    drop(send);
    let mut done: Vec<Option<T>> = Vec::new();
    done.resize_with(count, || None);
    while let Some((number, result)) = next(&results)? {
        let result = result?;
        if let Some(slot) = done.get_mut(number) {
            *slot = Some(result);
        }
    }
    done.into_iter().collect::<Option<Vec<T>>>().ok_or_else(|| Error::other("an answer was lost"))
}

/// Does one piece of work.
///
/// # Errors
/// As [`each`].
pub(super) fn once<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    let work = Mutex::new(Some(work));
    let taken = move |()| match work.lock().unwrap_or_else(PoisonError::into_inner).take() {
        Some(work) => work(),
        None => Err(Error::other("it was asked for twice")),
    };
    each(vec![()], 1, taken)?.pop().ok_or_else(|| Error::other("an answer was lost"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    use rstest::rstest;

    #[rstest]
    fn results_come_in_the_order_of_items(#[values(0, 1, 3, 20)] items: u64, #[values(1, 4)] threads: usize) {
        let (at_work, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let seen = most.clone();
        let squares = each((0..items).collect(), threads, move |item| {
            most.fetch_max(at_work.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
            std::thread::sleep(Duration::from_millis(3 - item % 3));
            at_work.fetch_sub(1, Ordering::SeqCst);
            Ok(item * item)
        });
        assert_eq!(squares.unwrap(), (0..items).map(|item| item * item).collect::<Vec<_>>());
        assert!(seen.load(Ordering::SeqCst) <= threads);
    }

    #[test]
    fn what_fails_is_told() {
        let failed = each(vec![1, 2, 3], 2, |item| match item {
            2 => Err(Error::other("two")),
            item => Ok(item),
        });
        assert_eq!(failed.unwrap_err().to_string(), "two");
        let panicked = once(|| -> Result<()> { panic!("no milk") });
        assert_eq!(panicked.unwrap_err().to_string(), "its store panicked: no milk");
        assert_eq!(once(|| Ok(7)).unwrap(), 7);
    }
}
