//! The step that a thread is at work for: what an error of a panic is told of, and what its time is counted for.
//!
//! A run tells it here, around each operator; work that is shared among threads takes the step of the thread that shares
//! it. After a panic it is the step that panicked, until [`crate::parallel::guarded`] has made an error of it.
//!
//! Time is that of the clock, of all threads together, without what a thread waits for others ([`waiting`]); where steps
//! nest, the inner one's is not the outer one's. Two looks at the clock a batch.

use std::cell::RefCell;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// A step that threads are at work for.
#[derive(Debug)]
pub struct WorkedStep {
    text: Box<str>,
    nanos: AtomicU64,
}

/// The step of a thread, or `None` between steps.
pub type Current = Option<Arc<WorkedStep>>;

impl WorkedStep {
    /// A step of some text, as the user wrote it, that nobody was at work for yet.
    pub fn new(text: &str) -> Arc<WorkedStep> {
        Arc::new(WorkedStep { text: text.into(), nanos: AtomicU64::new(0) })
    }

    /// Its text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// How long threads were at work for it, together.
    pub fn time(&self) -> Duration {
        Duration::from_nanos(self.nanos.load(Ordering::Relaxed))
    }
}

/// What a thread is at work for, and since when.
struct AtWork {
    step: Current,
    since: Option<Instant>,
}

impl AtWork {
    /// Goes over to another step; gives the one before.
    fn go_over(&mut self, step: Current) -> Current {
        let now = Instant::now();
        if let (Some(step), Some(since)) = (&self.step, self.since) {
            let nanos = u64::try_from((now - since).as_nanos()).unwrap_or(u64::MAX);
            step.nanos.fetch_add(nanos, Ordering::Relaxed);
        }
        self.since = Some(now);
        std::mem::replace(&mut self.step, step)
    }
}

thread_local! {
    static STEP: RefCell<AtWork> = const { RefCell::new(AtWork { step: None, since: None }) };
}

/// The step of this thread.
pub fn get() -> Current {
    STEP.with_borrow(|at_work| at_work.step.clone())
}

/// Says which step this thread is at work for from now on.
pub(crate) fn set(step: Current) {
    STEP.with_borrow_mut(|at_work| at_work.go_over(step));
}

/// Calls `f` as work for a step; then the thread is at work for the step that it was at before. A panic leaves the step
/// that panicked.
pub fn within<R>(step: &Current, f: impl FnOnce() -> R) -> R {
    let before = STEP.with_borrow_mut(|at_work| at_work.go_over(step.clone()));
    let result = f();
    STEP.with_borrow_mut(|at_work| at_work.go_over(before));
    result
}

/// Calls `f`, in which the thread waits for others: no step's time.
pub fn waiting<R>(f: impl FnOnce() -> R) -> R {
    within(&None, f)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_nest_and_a_panic_leaves_its_own() {
        let [outer, inner]: [Current; 2] =
            ["group by farm", "filter fat > 4"].map(|text| Some(WorkedStep::new(text)));
        let told = || get().map(|step| step.text().to_owned());
        within(&outer, || {
            within(&inner, || assert_eq!(told().as_deref(), Some("filter fat > 4")));
            assert_eq!(told().as_deref(), Some("group by farm"));
            let panicked =
                std::panic::catch_unwind(|| within(&inner, || std::panic::resume_unwind(Box::new(()))));
            assert!(panicked.is_err());
            assert_eq!(told().as_deref(), Some("filter fat > 4"));
        });
        assert_eq!(told(), None);
    }

    #[test]
    fn time_is_the_inner_steps_alone_and_no_waiting() {
        let (outer, inner) = (WorkedStep::new("sort"), WorkedStep::new("filter"));
        let pause = || std::thread::sleep(Duration::from_millis(20));
        let start = Instant::now();
        within(&Some(outer.clone()), || {
            within(&Some(inner.clone()), pause);
            waiting(pause);
        });
        let all = start.elapsed();
        assert!(inner.time() >= Duration::from_millis(20));
        assert!(outer.time() + inner.time() + Duration::from_millis(20) <= all);
    }
}
