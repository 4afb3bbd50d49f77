//! The step that a thread is at work for: what an error of a panic is told of.
//!
//! A run tells it here, around each operator; work that is shared among threads takes the step of the thread that shares
//! it. After a panic it is the step that panicked, until [`crate::parallel::guarded`] has made an error of it.

use std::cell::RefCell;
use std::sync::Arc;

/// The text of a step as the user wrote it, or `None` between steps.
pub type StepText = Option<Arc<str>>;

thread_local! {
    static STEP: RefCell<StepText> = const { RefCell::new(None) };
}

/// The step of this thread.
pub fn get() -> StepText {
    STEP.with_borrow(Clone::clone)
}

/// Says which step this thread is at work for from now on.
pub(crate) fn set(step: StepText) {
    STEP.set(step);
}

/// Calls `f` as work for a step; then the thread is at work for the step that it was at before. A panic leaves the step
/// that panicked.
pub fn within<R>(step: &StepText, f: impl FnOnce() -> R) -> R {
    let before = STEP.replace(step.clone());
    let result = f();
    STEP.set(before);
    result
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_nest_and_a_panic_leaves_its_own() {
        let [outer, inner]: [StepText; 2] =
            ["group by farm", "filter fat > 4"].map(|text| Some(Arc::from(text)));
        within(&outer, || {
            within(&inner, || assert_eq!(get(), inner));
            assert_eq!(get(), outer);
            let panicked =
                std::panic::catch_unwind(|| within(&inner, || std::panic::resume_unwind(Box::new(()))));
            assert!(panicked.is_err());
            assert_eq!(get(), inner);
        });
        assert_eq!(get(), None);
    }
}
