//! How a run is to be done.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use churn_core::cancel::Cancel;
use churn_core::parallel::Threads;
use churn_io::binary::WriterResources;
use churn_io::source::ReadResources;

/// How far a run is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Progress {
    /// Whether a source is being read; else rows that were read before are sorted, merged, or read again.
    pub reads: bool,
    /// Bytes read from the source, or rows given of those that were held.
    pub done: u64,
    /// Bytes or rows in all, where that is known.
    pub total: Option<u64>,
    /// Rows so far.
    pub rows: u64,
    /// Bytes that steps hold of rows, in memory.
    pub held: u64,
}

/// Is called now and then during a run.
pub type OnProgress = Arc<dyn Fn(Progress) + Send + Sync>;

/// Threads, memory and the like of one run.
#[derive(Clone, Default)]
pub struct RunSettings {
    /// Worker threads; as many as there are cores if it is `None`.
    pub threads: Option<usize>,
    /// The budget in bytes; a share of the machine's memory if it is `None`.
    pub memory: Option<u64>,
    /// The folder for spilled data; the system's if it is `None`.
    pub temporary: Option<PathBuf>,
    /// Called now and then with how far the run is.
    pub progress: Option<OnProgress>,
    /// Stops the run once it is true.
    pub cancel: Option<Arc<AtomicBool>>,
    /// Becomes true when the reader of the rows goes away, which stops the run, too.
    pub abandoned: Option<Arc<AtomicBool>>,
    /// Rows of a batch at most; for tests of borders, since the answer does not depend on it.
    pub batch_rows: Option<usize>,
    /// Bytes of a block of text; for tests of borders, since the answer does not depend on it.
    pub block_bytes: Option<usize>,
    /// Rows that are read of each source at most.
    pub first_rows: Option<usize>,
}

impl RunSettings {
    /// What a run and the writers of its files share of it: the threads are those of one run.
    pub(crate) fn writer_resources(&self) -> WriterResources {
        let share = |memory: u64| usize::try_from(memory / 4).unwrap_or(usize::MAX);
        WriterResources::new(
            Threads::new(self.thread_count()),
            self.memory.map_or(usize::MAX, share),
            self.temporary.clone(),
        )
    }

    /// What may be used while files are opened.
    pub fn read_resources(&self) -> ReadResources {
        ReadResources { temporary: self.temporary.clone(), memory: self.memory }
    }

    /// What stops the run.
    pub fn cancelled(&self) -> Cancel {
        Cancel::by(self.cancel.iter().chain(&self.abandoned).cloned())
    }

    /// The number of threads that a run uses.
    pub fn thread_count(&self) -> usize {
        let machine = std::thread::available_parallelism().map_or(1, usize::from);
        self.threads.unwrap_or(machine).max(1)
    }
}
