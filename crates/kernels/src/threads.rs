//! A pool of threads: made when there is work for them, used again, and ended with the pool.
//!
//! A thread of a run waits for others at many places: a worker for its turn at the sink, a sort for the ranges that it
//! shares out, a writer for its columns. So a call never waits for a thread that is busy: it takes one that is free, or a
//! new one. How much runs at once is what the callers ask for, not the size of the pool.

use std::any::Any;
use std::collections::VecDeque;
use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;

type Job = Box<dyn FnOnce() + Send>;
type Panic = Box<dyn Any + Send>;

/// The pool. It ends, once its jobs have ended, when it is dropped.
#[derive(Default)]
pub struct ThreadPool {
    shared: Arc<PoolShared>,
    handles: Mutex<Vec<JoinHandle<()>>>,
}

#[derive(Default)]
struct PoolShared {
    state: Mutex<PoolState>,
    called: Condvar,
}

#[derive(Default)]
struct PoolState {
    jobs: VecDeque<Job>,
    /// Threads that wait for a job.
    free: usize,
    is_closing: bool,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl ThreadPool {
    /// Runs a job on a thread of the pool, beside the caller. Where the system gives no further thread the job is
    /// dropped; it must be work that the caller does alone if nobody helps.
    pub fn start(&self, job: impl FnOnce() + Send + 'static) {
        let mut state = lock(&self.shared.state);
        state.jobs.push_back(Box::new(job));
        if state.jobs.len() <= state.free {
            self.shared.called.notify_one();
            return;
        }
        let shared = self.shared.clone();
        match std::thread::Builder::new().spawn(move || shared.serve()) {
            Ok(handle) => {
                drop(state);
                lock(&self.handles).push(handle);
            }
            Err(_) => drop(state.jobs.pop_back()),
        }
    }

    /// Calls `f` at most `count` times at once, on this thread and on threads of the pool, and waits until all calls have
    /// ended. `f` takes its part of some shared work, until none is left: where the system gives fewer threads, there are
    /// fewer calls, but never none.
    ///
    /// A panic in one of the calls goes on in the caller.
    pub fn together(&self, count: usize, f: &(dyn Fn() + Sync)) {
        let calls = Arc::new(Calls::default());
        // SAFETY: the reference is used by jobs that hold a ticket only, and this function does not return, nor go on with
        // a panic, before the last ticket was given back: `wait` below is reached whatever `f` does.
        let lasting: &'static (dyn Fn() + Sync) =
            unsafe { std::mem::transmute::<&(dyn Fn() + Sync), &'static (dyn Fn() + Sync)>(f) };
        for _ in 1..count {
            let ticket = Ticket::of(&calls);
            self.start(move || {
                if let Err(panic) = catch_unwind(AssertUnwindSafe(lasting)) {
                    lock(&ticket.0.state).panic.get_or_insert(panic);
                }
                drop(ticket);
            });
        }
        let own = catch_unwind(AssertUnwindSafe(f));
        let other = calls.wait();
        if let Some(panic) = own.err().or(other) {
            resume_unwind(panic);
        }
    }
}

impl PoolShared {
    /// Takes jobs until the pool ends.
    fn serve(&self) {
        let mut state = lock(&self.state);
        loop {
            if let Some(job) = state.jobs.pop_front() {
                drop(state);
                // What a job met is told by the work that it did.
                let _ = catch_unwind(AssertUnwindSafe(job));
                state = lock(&self.state);
            } else if state.is_closing {
                return;
            } else {
                state.free += 1;
                state = self.called.wait(state).unwrap_or_else(PoisonError::into_inner);
                state.free -= 1;
            }
        }
    }
}

impl Drop for ThreadPool {
    fn drop(&mut self) {
        lock(&self.shared.state).is_closing = true;
        self.shared.called.notify_all();
        for handle in lock(&self.handles).drain(..) {
            // A job may own the pool: its thread ends by itself.
            if handle.thread().id() != std::thread::current().id() {
                let _ = handle.join();
            }
        }
    }
}

impl fmt::Debug for ThreadPool {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ThreadPool").field("threads", &lock(&self.handles).len()).finish()
    }
}

/// The calls of one function that have not ended.
#[derive(Default)]
struct Calls {
    state: Mutex<Open>,
    ended: Condvar,
}

#[derive(Default)]
struct Open {
    tickets: usize,
    panic: Option<Panic>,
}

impl Calls {
    /// Waits for all; gives the first panic.
    fn wait(&self) -> Option<Panic> {
        let mut open = lock(&self.state);
        while open.tickets > 0 {
            open = self.ended.wait(open).unwrap_or_else(PoisonError::into_inner);
        }
        open.panic.take()
    }
}

/// One call that has not ended; also one that never began.
struct Ticket(Arc<Calls>);

impl Ticket {
    fn of(calls: &Arc<Calls>) -> Ticket {
        lock(&calls.state).tickets += 1;
        Ticket(calls.clone())
    }
}

impl Drop for Ticket {
    fn drop(&mut self) {
        lock(&self.0.state).tickets -= 1;
        self.0.ended.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Barrier;
    use std::sync::atomic::{AtomicUsize, Ordering};

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(1)]
    #[case(2)]
    #[case(7)]
    fn calls_run_at_once_and_have_all_ended(#[case] count: usize) {
        let pool = ThreadPool::default();
        for _ in 0..20 {
            let (barrier, ended) = (Barrier::new(count), AtomicUsize::new(0));
            pool.together(count, &|| {
                // Passed only if so many calls run at once.
                barrier.wait();
                ended.fetch_add(1, Ordering::Relaxed);
            });
            assert_eq!(ended.into_inner(), count);
        }
        assert!(lock(&pool.handles).len() <= 20 * count, "{pool:?}");
    }

    #[test]
    fn threads_are_used_again() {
        let pool = ThreadPool::default();
        for _ in 0..100 {
            pool.together(2, &|| {});
            // Until the thread waits again, a call takes another one.
            while lock(&pool.shared.state).free < lock(&pool.handles).len() {
                std::thread::yield_now();
            }
        }
        assert_eq!(lock(&pool.handles).len(), 1);
    }

    #[test]
    fn calls_within_calls_do_not_wait_for_busy_threads() {
        let (pool, ended) = (ThreadPool::default(), AtomicUsize::new(0));
        pool.together(3, &|| {
            pool.together(3, &|| {
                pool.together(2, &|| {
                    ended.fetch_add(1, Ordering::Relaxed);
                });
            });
        });
        assert_eq!(ended.into_inner(), 18);
    }

    #[rstest]
    #[case::in_the_caller(true)]
    #[case::in_another_thread(false)]
    fn a_panic_goes_on_in_the_caller_once_the_others_have_ended(#[case] is_own: bool) {
        let (pool, caller) = (ThreadPool::default(), std::thread::current().id());
        let (barrier, ended) = (Barrier::new(3), AtomicUsize::new(0));
        let result = catch_unwind(AssertUnwindSafe(|| {
            let first = AtomicUsize::new(0);
            pool.together(3, &|| {
                barrier.wait();
                let own = std::thread::current().id() == caller;
                if own == is_own && (own || first.fetch_add(1, Ordering::Relaxed) == 0) {
                    std::panic::resume_unwind(Box::new("the milk is sour"));
                }
                ended.fetch_add(1, Ordering::Relaxed);
            });
        }));
        assert_eq!(result.unwrap_err().downcast_ref::<&str>(), Some(&"the milk is sour"));
        assert_eq!(ended.into_inner(), 2);
        // The pool goes on.
        pool.together(2, &|| {});
    }

    #[test]
    fn the_end_of_a_pool_waits_for_its_jobs() {
        let done = Arc::new(AtomicUsize::new(0));
        let pool = ThreadPool::default();
        for _ in 0..5 {
            let done = done.clone();
            pool.start(move || {
                std::thread::sleep(std::time::Duration::from_millis(5));
                done.fetch_add(1, Ordering::Relaxed);
            });
        }
        drop(pool);
        assert_eq!(done.load(Ordering::Relaxed), 5);
    }

    #[test]
    fn a_job_may_own_the_pool() {
        let pool = Arc::new(ThreadPool::default());
        let (sender, receiver) = std::sync::mpsc::channel();
        let own = pool.clone();
        pool.start(move || {
            // The last owner, once the caller has let go of it.
            while Arc::strong_count(&own) > 1 {
                std::thread::yield_now();
            }
            drop(own);
            let _ = sender.send(());
        });
        drop(pool);
        receiver.recv().unwrap();
    }
}
