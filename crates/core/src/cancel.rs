//! The flags that stop a run, known to all that work on it: one of the user's, and one of the reader that takes its rows.
//!
//! Whatever may go on for long asks [`check`] now and then: at each batch, at each piece of a file on disk, before each
//! part of work that is shared among threads, while it waits for a pipe. Flags belong to a thread, and threads that are
//! made for a run are given those of the thread that makes them.

use std::cell::RefCell;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::{Error, ErrorKind, Result};

thread_local! {
    static FLAGS: RefCell<Vec<Arc<AtomicBool>>> = const { RefCell::new(Vec::new()) };
}

/// The flags of this thread's run, to be given to another thread.
#[derive(Clone, Default)]
pub struct Cancel(Vec<Arc<AtomicBool>>);

impl Cancel {
    /// A run that stops when one of the flags becomes true; without flags nothing stops it.
    pub fn by(flags: impl IntoIterator<Item = Arc<AtomicBool>>) -> Cancel {
        Cancel(flags.into_iter().collect())
    }

    /// Those of this thread.
    pub fn of_this_thread() -> Cancel {
        Cancel(FLAGS.with_borrow(Clone::clone))
    }

    /// Calls `f`, in which [`check`] asks these flags.
    pub fn within<R>(&self, f: impl FnOnce() -> R) -> R {
        struct Restore(Vec<Arc<AtomicBool>>);
        impl Drop for Restore {
            fn drop(&mut self) {
                FLAGS.with_borrow_mut(|flags| *flags = std::mem::take(&mut self.0));
            }
        }
        let _restore = Restore(FLAGS.with_borrow_mut(|flags| std::mem::replace(flags, self.0.clone())));
        f()
    }
}

/// Whether this thread's run is to stop.
#[inline]
pub fn is_asked() -> bool {
    FLAGS.with_borrow(|flags| flags.iter().any(|flag| flag.load(Ordering::Relaxed)))
}

/// Stops a run that is no longer wanted.
///
/// # Errors
/// It is to stop: the kind is [`ErrorKind::Interrupted`].
#[inline]
pub fn check() -> Result<()> {
    if is_asked() { Err(stopped()) } else { Ok(()) }
}

/// The error of a run that was stopped.
pub fn stopped() -> Error {
    Error::new(ErrorKind::Interrupted, "The run was stopped.")
}
