//! Threads that stay for a run, and help where something waits to be done.

use std::fmt;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

/// Something with work that any thread can take a part of.
pub trait Help: Send + Sync {
    /// Takes parts of it as long as there are any.
    fn help(&self);
}

/// Threads that are made when they are first called, and end with the last owner of this.
#[derive(Clone)]
pub struct Helpers(Arc<Pool>);

struct Pool {
    most: usize,
    threads: Mutex<Threads>,
}

#[derive(Default)]
struct Threads {
    calls: Option<Sender<Arc<dyn Help>>>,
    handles: Vec<JoinHandle<()>>,
}

impl Helpers {
    /// Helpers beside the thread that calls them: one less than so many threads.
    pub fn beside(threads: usize) -> Helpers {
        let most = threads.saturating_sub(1);
        Helpers(Arc::new(Pool { most, threads: Mutex::new(Threads::default()) }))
    }

    /// Asks all helpers to help here, when they are free.
    pub fn call(&self, work: &Arc<impl Help + 'static>) {
        if self.0.most == 0 {
            return;
        }
        let mut threads = self.0.threads.lock().unwrap_or_else(PoisonError::into_inner);
        let Threads { calls, handles } = &mut *threads;
        let calls = calls.get_or_insert_with(|| {
            let (sender, receiver) = channel();
            let receiver = Arc::new(Mutex::new(receiver));
            handles.extend((0..self.0.most).map(|_| {
                let receiver = receiver.clone();
                std::thread::spawn(move || serve(&receiver))
            }));
            sender
        });
        for _ in 0..self.0.most {
            // Helpers that are gone cannot help: whoever calls does the work alone.
            let _ = calls.send(work.clone());
        }
    }
}

/// Answers calls until nobody can call any more.
fn serve(calls: &Mutex<Receiver<Arc<dyn Help>>>) {
    loop {
        let call = calls.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(work) = call else { return };
        work.help();
    }
}

impl Drop for Pool {
    fn drop(&mut self) {
        let threads = self.threads.get_mut().unwrap_or_else(PoisonError::into_inner);
        threads.calls = None;
        for handle in threads.handles.drain(..) {
            // What a helper met is told by the work that it did.
            let _ = handle.join();
        }
    }
}

impl fmt::Debug for Helpers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Helpers").field(&self.0.most).finish()
    }
}
