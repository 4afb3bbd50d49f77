//! The moment that `now()` and `today()` stand for: one for all of a run, fixed when it is first asked for.

use std::cell::RefCell;
use std::sync::{Arc, OnceLock};

use churn_kernels::calendar::{DAY, SECOND};

thread_local! {
    static MOMENT: RefCell<Option<Moment>> = const { RefCell::new(None) };
}

/// The moment of a run.
#[derive(Clone, Debug, Default)]
pub struct Moment(Arc<OnceLock<i64>>);

impl Moment {
    /// The microseconds from 1970-01-01 00:00 on the clock of this machine's time zone, if anything asked for it.
    pub fn asked(&self) -> Option<i64> {
        self.0.get().copied()
    }

    /// Calls `f`, in which `now()` is this moment.
    pub fn within<R>(&self, f: impl FnOnce() -> R) -> R {
        struct Restore(Option<Moment>);
        impl Drop for Restore {
            fn drop(&mut self) {
                MOMENT.set(self.0.take());
            }
        }
        let _restore = Restore(MOMENT.replace(Some(self.clone())));
        f()
    }
}

/// The moment of this thread's run: microseconds, as [`Moment::asked`].
pub(crate) fn now() -> i64 {
    MOMENT.with_borrow(|moment| match moment {
        Some(moment) => *moment.0.get_or_init(clock),
        None => clock(),
    })
}

/// The day of it.
pub(crate) fn today() -> i32 {
    now().div_euclid(DAY) as i32
}

/// What the clock shows here and now, in whole seconds.
fn clock() -> i64 {
    let here = jiff::Zoned::now().datetime();
    super::pattern::micros_of(here).div_euclid(SECOND) * SECOND
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_is_fixed_when_it_is_asked_for() {
        let moment = Moment::default();
        assert_eq!(moment.asked(), None);
        let first = moment.within(now);
        std::thread::sleep(std::time::Duration::from_millis(1100));
        assert_eq!((moment.within(now), moment.asked()), (first, Some(first)));
        assert_eq!(moment.within(today), first.div_euclid(DAY) as i32);
        assert!(Moment::default().within(now) > first);
    }
}
