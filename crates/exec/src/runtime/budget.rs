//! One account of memory for a run: steps that hold rows reserve before they grow.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use churn_core::{Error, ErrorKind, Result};

/// Bytes that a part of the work may take whatever the account.
const LITTLE: usize = 4 << 20;

/// The part of a budget that no step may reserve: one of so many.
const ALLOCATOR: u64 = 12;

/// The least share of the account.
const SHARE: u64 = 2 << 20;

/// The account.
#[derive(Clone, Debug)]
pub(crate) struct Budget(Arc<Account>);

#[derive(Debug)]
struct Account {
    /// Bytes that the run is given, and those that steps may reserve.
    given: u64,
    limit: u64,
    used: AtomicU64,
    /// The most that was used at once.
    most: AtomicU64,
}

/// Bytes held by one step; given back when it goes.
#[derive(Debug)]
pub(crate) struct Reservation {
    budget: Budget,
    bytes: u64,
}

impl Budget {
    /// An account of so many bytes; without a number, three quarters of what is free.
    pub(crate) fn new(limit: Option<u64>) -> Budget {
        let limit = churn_io::machine::memory_of_a_run(limit);
        // The rest is for what the allocator holds beside.
        let account = Account {
            given: limit,
            limit: limit - limit / ALLOCATOR,
            used: AtomicU64::new(0),
            most: AtomicU64::new(0),
        };
        Budget(Arc::new(account))
    }

    pub(crate) fn reservation(&self) -> Reservation {
        Reservation { budget: self.clone(), bytes: 0 }
    }

    /// Bytes that the run is given.
    pub(crate) fn given(&self) -> u64 {
        self.0.given
    }

    /// The most bytes that steps held at once.
    pub(crate) fn most_used(&self) -> u64 {
        self.0.most.load(Ordering::Relaxed)
    }

    /// Bytes that steps hold.
    pub(crate) fn used(&self) -> u64 {
        self.0.used.load(Ordering::Relaxed)
    }

    /// Bytes that steps may still reserve.
    pub(crate) fn free(&self) -> usize {
        usize::try_from(self.0.limit.saturating_sub(self.used())).unwrap_or(usize::MAX)
    }

    /// What one of the things may take that are on their way at the same time.
    pub(crate) fn share(&self) -> u64 {
        (self.0.limit / 32).max(SHARE)
    }

    /// Half of the account.
    pub(crate) fn half(&self) -> usize {
        usize::try_from(self.0.limit / 2).unwrap_or(usize::MAX)
    }

    /// What the rows of one run may take that are held for the next.
    pub(crate) fn between_runs(&self) -> usize {
        usize::try_from(self.0.limit / 4).unwrap_or(usize::MAX)
    }

    /// The error of rows that must be held and do not fit.
    pub(crate) fn refused(&self) -> Error {
        let megabytes = (self.0.given / 1_000_000).max(1);
        let what =
            format!("The rows that must be held do not fit in the {megabytes} MB that the run is given.");
        Error::new(ErrorKind::Memory, what)
            .next("Give it more with --memory, or hold fewer rows and columns: filter and select earlier.")
    }
}

impl Reservation {
    /// The account.
    pub(crate) fn budget(&self) -> &Budget {
        &self.budget
    }

    /// Sets the bytes that are held; gives whether the account has room for them.
    ///
    /// They count even if it has not: a step that can put its rows on disk does so next.
    #[must_use]
    pub(crate) fn try_hold(&mut self, bytes: usize) -> bool {
        let account = &self.budget.0;
        let bytes = bytes as u64;
        let used = if bytes >= self.bytes {
            let more = bytes - self.bytes;
            let used = account.used.fetch_add(more, Ordering::Relaxed) + more;
            account.most.fetch_max(used, Ordering::Relaxed);
            used
        } else {
            account.used.fetch_sub(self.bytes - bytes, Ordering::Relaxed);
            0
        };
        self.bytes = bytes;
        bytes == 0 || used <= account.limit
    }

    /// Sets the bytes that are held.
    ///
    /// # Errors
    /// All holders together would have more than the account.
    pub(crate) fn hold(&mut self, bytes: usize) -> Result<()> {
        if self.try_hold(bytes) {
            return Ok(());
        }
        Err(self.budget.refused())
    }

    /// Sets the bytes that are held by something that cannot be cut smaller: a little is always there.
    ///
    /// # Errors
    /// As [`Reservation::hold`].
    pub(crate) fn hold_whole(&mut self, bytes: usize) -> Result<()> {
        if self.fits_whole(bytes) { Ok(()) } else { Err(self.budget.refused()) }
    }

    /// Whether so many bytes can be held, by something that could be cut smaller; if so, they are.
    #[must_use]
    pub(crate) fn fits_whole(&mut self, bytes: usize) -> bool {
        if bytes > LITTLE {
            return self.try_hold(bytes);
        }
        // A little is always there, and what was held beyond it is given back.
        if self.bytes > bytes as u64 {
            let _ = self.try_hold(bytes);
        }
        true
    }

    /// The bytes that are held.
    pub(crate) fn bytes(&self) -> usize {
        usize::try_from(self.bytes).unwrap_or(usize::MAX)
    }

    /// Adds to the bytes that are held; gives whether the account has room for them.
    #[must_use]
    pub(crate) fn try_add(&mut self, bytes: usize) -> bool {
        self.try_hold(self.bytes as usize + bytes)
    }
}

impl Drop for Reservation {
    fn drop(&mut self) {
        self.budget.0.used.fetch_sub(self.bytes, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_given_back_can_be_held_again() {
        let budget = Budget::new(Some(109));
        let mut a = budget.reservation();
        assert!(a.hold(80).is_ok());
        assert!(budget.reservation().hold(40).is_err());
        assert!(a.hold(20).is_ok());
        let mut b = budget.reservation();
        assert!(b.hold(80).is_ok());
        assert!(!b.try_add(1));
        drop(b);
        assert!(a.hold(100).is_ok());
    }

    #[test]
    fn a_little_is_always_there_and_gives_back_the_rest() {
        let budget = Budget::new(Some(16 << 20));
        let mut a = budget.reservation();
        assert!(a.hold(12 << 20).is_ok());
        let mut b = budget.reservation();
        assert!(b.hold_whole(8 << 20).is_err());
        drop(b);
        assert!(a.hold_whole(1 << 20).is_ok());
        assert_eq!(a.bytes(), 1 << 20);
        assert!(budget.reservation().hold_whole(8 << 20).is_ok());
    }
}
