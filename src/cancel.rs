//! The flag that stops a run, known to all that work on it.
//!
//! Whatever may go on for long asks [`check`] now and then: at each batch, at each piece of a file on disk, before each
//! part of work that is shared among threads, while it waits for a pipe. The flag belongs to a thread, and threads that
//! are made for a run are given that of the thread that makes them.

use std::cell::RefCell;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::error::{Error, ErrorKind, Result};

thread_local! {
    static FLAG: RefCell<Option<Arc<AtomicBool>>> = const { RefCell::new(None) };
}

/// The flag of this thread's run, to be given to another thread.
#[derive(Clone, Default)]
pub(crate) struct Cancel(Option<Arc<AtomicBool>>);

impl Cancel {
    /// A run that the flag stops when it becomes true; without one nothing stops it.
    pub(crate) fn by(flag: Option<Arc<AtomicBool>>) -> Cancel {
        Cancel(flag)
    }

    /// That of this thread.
    pub(crate) fn of_this_thread() -> Cancel {
        Cancel(FLAG.with_borrow(Clone::clone))
    }

    /// Calls `f`, in which [`check`] asks this flag.
    pub(crate) fn within<R>(&self, f: impl FnOnce() -> R) -> R {
        struct Restore(Option<Arc<AtomicBool>>);
        impl Drop for Restore {
            fn drop(&mut self) {
                FLAG.with_borrow_mut(|flag| *flag = self.0.take());
            }
        }
        let _restore = Restore(FLAG.with_borrow_mut(|flag| std::mem::replace(flag, self.0.clone())));
        f()
    }
}

/// Whether this thread's run is to stop.
#[inline]
pub(crate) fn is_asked() -> bool {
    FLAG.with_borrow(|flag| flag.as_ref().is_some_and(|flag| flag.load(Ordering::Relaxed)))
}

/// Stops a run that is no longer wanted.
///
/// # Errors
/// It is to stop: the kind is [`ErrorKind::Interrupted`].
#[inline]
pub(crate) fn check() -> Result<()> {
    if is_asked() { Err(stopped()) } else { Ok(()) }
}

/// The error of a run that was stopped.
pub(crate) fn stopped() -> Error {
    Error::new(ErrorKind::Interrupted, "The run was stopped.")
}
