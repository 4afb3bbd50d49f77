//! How a run is to be done.

use std::fmt;
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
}

/// Is called now and then during a run.
pub(crate) type OnProgress = Arc<dyn Fn(Progress) + Send + Sync>;

/// Threads, memory and the like of one run.
///
/// ```
/// # extern crate churn_exec as churn;
/// use churn::RunOptions;
/// let options = RunOptions::new().threads(2).memory(512 << 20);
/// assert_eq!(options.thread_count(), 2);
/// ```
#[derive(Clone, Default)]
pub struct RunOptions {
    /// Worker threads; as many as there are cores if it is `None`.
    pub(crate) threads: Option<usize>,
    /// The budget in bytes; a share of the machine's memory if it is `None`.
    pub(crate) memory: Option<u64>,
    /// The folder for spilled data; the system's if it is `None`.
    pub(crate) temporary: Option<PathBuf>,
    /// Called now and then with how far the run is.
    pub(crate) progress: Option<OnProgress>,
    /// Stops the run once it is true.
    pub(crate) cancel: Option<Arc<AtomicBool>>,
    /// Becomes true when the reader of the rows goes away.
    pub(crate) abandoned: Option<Arc<AtomicBool>>,
    /// Rows of a batch at most; for tests of borders.
    pub(crate) batch_rows: Option<usize>,
    /// Bytes of a block of text; for tests of borders.
    pub(crate) block_bytes: Option<usize>,
    /// Rows that are read of each source at most.
    pub(crate) first_rows: Option<usize>,
}

impl RunOptions {
    /// Makes options that leave everything to the machine.
    pub fn new() -> RunOptions {
        RunOptions::default()
    }

    /// Sets the number of threads; without it, one for each core.
    #[must_use]
    pub fn threads(mut self, threads: usize) -> RunOptions {
        self.threads = Some(threads.max(1));
        self
    }

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
    #[doc(hidden)]
    pub fn read_resources(&self) -> ReadResources {
        ReadResources { temporary: self.temporary.clone(), memory: self.memory }
    }

    /// What stops the run.
    #[doc(hidden)]
    pub fn cancelled(&self) -> Cancel {
        Cancel::by(self.cancel.iter().chain(&self.abandoned).cloned())
    }

    /// Stops the run also when `flag` is true: the reader of its rows went away.
    #[doc(hidden)]
    #[must_use]
    pub fn abandoned_by(mut self, flag: Arc<AtomicBool>) -> RunOptions {
        self.abandoned = Some(flag);
        self
    }

    /// The number of threads that a run uses.
    pub fn thread_count(&self) -> usize {
        let machine = std::thread::available_parallelism().map_or(1, usize::from);
        self.threads.unwrap_or(machine).max(1)
    }

    /// Sets the bytes that steps which hold rows may use together; without it, three quarters of what is free.
    ///
    /// Steps that need more go on with files in the temporary folder; the few that cannot stop with an error of
    /// kind [`Memory`](churn_core::ErrorKind::Memory).
    #[must_use]
    pub fn memory(mut self, bytes: u64) -> RunOptions {
        self.memory = Some(bytes);
        self
    }

    /// Sets the folder for what does not fit in memory; without it, the system's folder for temporary files.
    ///
    /// The files have no names, so that nothing is left behind however a run ends.
    #[must_use]
    pub fn temporary(mut self, folder: impl Into<PathBuf>) -> RunOptions {
        self.temporary = Some(folder.into());
        self
    }

    /// Sets the function that is told how far the run is, at most ten times a second.
    #[must_use]
    pub fn on_progress(mut self, progress: impl Fn(Progress) + Send + Sync + 'static) -> RunOptions {
        self.progress = Some(Arc::new(progress));
        self
    }

    /// Sets the flag that stops the run when it becomes true; targets stay as they were.
    #[must_use]
    pub fn cancel(mut self, flag: Arc<AtomicBool>) -> RunOptions {
        self.cancel = Some(flag);
        self
    }

    /// Reads only the first rows of each source: to try a chain on a small part.
    #[must_use]
    pub fn first_rows(mut self, rows: usize) -> RunOptions {
        self.first_rows = Some(rows);
        self
    }

    /// Sets the most rows of a batch; for tests, since the answer does not depend on it.
    #[must_use]
    #[doc(hidden)]
    pub fn batch_rows(mut self, rows: usize) -> RunOptions {
        self.batch_rows = Some(rows.max(1));
        self
    }

    /// Sets the bytes of a block of text; for tests, since the answer does not depend on it.
    #[must_use]
    #[doc(hidden)]
    pub fn block_bytes(mut self, bytes: usize) -> RunOptions {
        self.block_bytes = Some(bytes.max(1));
        self
    }
}

impl fmt::Debug for RunOptions {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RunOptions")
            .field("threads", &self.threads)
            .field("memory", &self.memory)
            .field("first_rows", &self.first_rows)
            .finish_non_exhaustive()
    }
}
