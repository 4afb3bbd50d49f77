//! The threads of a run, and work shared among them with the results in the order of the things worked on.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, PoisonError};

use churn_kernels::threads::ThreadPool;

use crate::cancel::{self, Cancel};
use crate::{Error, ErrorKind, Result, current_step};

/// How many threads may work at once on one thing, and the pool that they come from. All that a run does beside its first
/// thread is done by threads of one pool: workers of pipelines, parts of a sort or of a table of groups, columns of a
/// file. They end with the last owner of this.
#[derive(Clone, Debug)]
pub struct Threads {
    count: usize,
    pool: Arc<ThreadPool>,
}

impl Threads {
    /// So many threads, the caller's among them: at least that.
    pub fn new(count: usize) -> Threads {
        Threads { count: count.max(1), pool: Arc::default() }
    }

    /// How many may work at once on one thing.
    pub fn count(&self) -> usize {
        self.count
    }

    /// The caller's thread alone, for work within work that is shared already.
    pub fn one(&self) -> Threads {
        Threads { count: 1, pool: self.pool.clone() }
    }

    /// Calls `f` on all threads at once, or on fewer where the system does not give them, and waits until all calls have
    /// ended: `f` takes parts of something until nothing is left. The calls belong to the caller's run and step.
    ///
    /// A panic in one of the calls goes on in the caller.
    pub fn together(&self, f: impl Fn() + Sync) {
        self.on(self.count, f);
    }

    fn on(&self, count: usize, f: impl Fn() + Sync) {
        let (cancel, step) = (Cancel::of_this_thread(), current_step::get());
        self.pool.together(count, &|| current_step::within(&step, || cancel.within(&f)));
    }

    /// Runs a job beside the caller, who does not wait for it, as work of the caller's run and step; it ends by itself,
    /// before the run does. Where the system gives no further thread the job is dropped: it is help that the caller can do
    /// without.
    pub fn start(&self, job: impl FnOnce() + Send + 'static) {
        let (cancel, step) = (Cancel::of_this_thread(), current_step::get());
        self.pool.start(move || current_step::within(&step, || cancel.within(job)));
    }

    /// Calls `f` with each item, by all threads; gives the results in the order of items.
    ///
    /// # Errors
    /// The first error in the order of items.
    pub fn each<T: Send, R: Send>(
        &self,
        items: impl ExactSizeIterator<Item = T> + Send,
        f: impl Fn(T) -> Result<R> + Sync,
    ) -> Result<Vec<R>> {
        let f = |item: T| cancel::check().and_then(|()| f(item));
        let count = items.len();
        if self.count == 1 || count <= 1 {
            return items.map(f).collect();
        }
        let items = Mutex::new(items.enumerate());
        let done = Mutex::new(Vec::with_capacity(count));
        self.on(self.count.min(count), || {
            loop {
                let next = items.lock().unwrap_or_else(PoisonError::into_inner).next();
                let Some((number, item)) = next else { break };
                let result = f(item);
                done.lock().unwrap_or_else(PoisonError::into_inner).push((number, result));
            }
        });
        let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
        done.sort_unstable_by_key(|(number, _)| *number);
        done.into_iter().map(|(_, result)| result).collect()
    }
}

/// Runs code that is not ours.
///
/// # Errors
/// What it said when it panicked.
pub fn caught<T>(f: impl FnOnce() -> T) -> std::result::Result<T, String> {
    catch_unwind(AssertUnwindSafe(f)).map_err(|panic| {
        let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
        let text = text.or_else(|| panic.downcast_ref::<String>().cloned());
        text.unwrap_or_else(|| "it gave no reason".into())
    })
}

/// Runs `f`; a panic becomes an error, which knows the step that was at work.
pub fn guarded<T>(f: impl FnOnce() -> Result<T>) -> Result<T> {
    let before = current_step::get();
    caught(f).unwrap_or_else(|why| {
        let step = current_step::get();
        current_step::set(before);
        Err(Error::new(ErrorKind::Internal, "A worker failed; this is a fault of churn.")
            .in_step(step.as_ref().map_or("", |step| step.text()))
            .why(format!("It said: {why}."))
            .next("Please report it, with the recipe."))
    })
}

/// Runs code of a user's own; a panic in it is this error, which says so.
pub fn guarded_own<T>(failed: impl FnOnce() -> Error, run: impl FnOnce() -> Result<T>) -> Result<T> {
    caught(run).unwrap_or_else(|why| Err(failed().why(format!("It panicked: {why}."))))
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

    use rstest::rstest;

    use super::*;
    use crate::current_step::WorkedStep;

    #[rstest]
    fn results_come_in_the_order_of_items(
        #[values(1, 2, 5)] threads: usize,
        #[values(0, 1, 2, 100)] items: u64,
    ) {
        let squares = Threads::new(threads).each(0..items as usize, |n| {
            // Earlier ones take longer.
            std::thread::sleep(std::time::Duration::from_micros(100 - n.min(99) as u64));
            Ok(n * n)
        });
        assert_eq!(squares.unwrap(), (0..items as usize).map(|n| n * n).collect::<Vec<_>>());
    }

    #[rstest]
    fn the_first_error_in_the_order_of_items_wins(#[values(1, 2, 5)] threads: usize) {
        for _ in 0..20 {
            let result: Result<Vec<()>> = Threads::new(threads).each(0..50usize, |n| match n {
                7 => {
                    std::thread::yield_now();
                    Err(Error::new(ErrorKind::Data, "seven"))
                }
                30 => Err(Error::new(ErrorKind::Data, "thirty")),
                _ => Ok(()),
            });
            assert_eq!(result.unwrap_err().what(), "seven");
        }
    }

    #[rstest]
    fn no_item_is_begun_once_the_run_is_to_stop(#[values(1, 3)] threads: usize) {
        let (flag, begun) = (Arc::new(AtomicBool::new(false)), AtomicUsize::new(0));
        let result = Cancel::by([flag.clone()]).within(|| {
            Threads::new(threads).each(0..1000usize, |n| {
                begun.fetch_add(1, Ordering::Relaxed);
                if n == 10 {
                    flag.store(true, Ordering::Relaxed);
                }
                Ok(())
            })
        });
        assert_eq!(result.unwrap_err().kind(), ErrorKind::Interrupted);
        assert!(begun.into_inner() < 1000);
    }

    #[rstest]
    fn a_panic_becomes_an_error_of_the_step_that_shared_the_work(#[values(1, 4)] threads: usize) {
        let result: Result<Vec<()>> = guarded(|| {
            current_step::within(&Some(WorkedStep::new("sort litres")), || {
                Threads::new(threads).each(0..8usize, |n| {
                    if n == 5 {
                        std::panic::resume_unwind(Box::new("no milk today"));
                    }
                    Ok(())
                })
            })
        });
        let error = result.unwrap_err();
        assert_eq!((error.kind(), error.step()), (ErrorKind::Internal, Some("sort litres")));
        assert!(error.to_string().contains("It said: no milk today."), "{error}");
        assert!(current_step::get().is_none());
    }

    /// A thread of the pool keeps nothing of the step that it worked for last.
    #[test]
    fn a_job_is_work_of_the_step_that_started_it() {
        let (threads, step) = (Threads::new(2), Some(WorkedStep::new("sort litres")));
        let (sender, told) = std::sync::mpsc::channel();
        let text = || current_step::get().map(|step| step.text().to_owned());
        let tell = |sender: std::sync::mpsc::Sender<_>| move || drop(sender.send(text()));
        current_step::within(&step, || threads.start(tell(sender.clone())));
        assert_eq!(told.recv().unwrap().as_deref(), Some("sort litres"));
        threads.start(tell(sender));
        assert_eq!(told.recv().unwrap(), None);
    }
}
