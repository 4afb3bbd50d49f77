//! How a run is to be done: what a program says of it.

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use churn_exec::{Progress, RunSettings};

use crate::extend::Catalogue;

/// Threads, memory and the like of one run, and what it adds to the language.
///
/// ```
/// use churn::RunOptions;
/// let options = RunOptions::new().threads(2).memory(512 << 20);
/// assert_eq!(options.thread_count(), 2);
/// ```
#[derive(Clone, Default)]
pub struct RunOptions {
    settings: RunSettings,
    catalogue: Option<Arc<Catalogue>>,
}

impl RunOptions {
    /// Makes options that leave everything to the machine.
    pub fn new() -> RunOptions {
        RunOptions::default()
    }

    /// What the run itself is told.
    pub(crate) fn settings(&self) -> &RunSettings {
        &self.settings
    }

    /// What the run adds to the language.
    pub(crate) fn own(&self) -> Option<&Arc<Catalogue>> {
        self.catalogue.as_ref()
    }

    fn with(self, change: impl FnOnce(&mut RunSettings)) -> RunOptions {
        let mut options = self;
        change(&mut options.settings);
        options
    }

    /// Sets the number of threads; without it, one for each core.
    #[must_use]
    pub fn threads(self, threads: usize) -> RunOptions {
        self.with(|settings| settings.threads = Some(threads.max(1)))
    }

    /// The number of threads that a run uses.
    pub fn thread_count(&self) -> usize {
        self.settings.thread_count()
    }

    /// Sets the bytes that steps which hold rows may use together; without it, three quarters of what is free.
    ///
    /// Steps that need more go on with files in the temporary folder; the few that cannot stop with an error of
    /// kind [`Memory`](crate::ErrorKind::Memory).
    #[must_use]
    pub fn memory(self, bytes: u64) -> RunOptions {
        self.with(|settings| settings.memory = Some(bytes))
    }

    /// Sets the folder for what does not fit in memory; without it, the system's folder for temporary files.
    ///
    /// The files have no names, so that nothing is left behind however a run ends.
    #[must_use]
    pub fn temporary(self, folder: impl Into<PathBuf>) -> RunOptions {
        self.with(|settings| settings.temporary = Some(folder.into()))
    }

    /// Sets the function that is told how far the run is, at most ten times a second.
    #[must_use]
    pub fn on_progress(self, progress: impl Fn(Progress) + Send + Sync + 'static) -> RunOptions {
        self.with(|settings| settings.progress = Some(Arc::new(progress)))
    }

    /// Sets the flag that stops the run when it becomes true; targets stay as they were.
    #[must_use]
    pub fn cancel(self, flag: Arc<AtomicBool>) -> RunOptions {
        self.with(|settings| settings.cancel = Some(flag))
    }

    /// Reads only the first rows of each source: to try a chain on a small part.
    #[must_use]
    pub fn first_rows(self, rows: usize) -> RunOptions {
        self.with(|settings| settings.first_rows = Some(rows))
    }

    /// Lets the run use what is your own, beside what the flow was given by [`Flow::extended`](crate::Flow::extended): the
    /// same flow can run over other tables, or with other functions.
    ///
    /// ```
    /// use churn::extend::{Catalogue, ScalarFunction};
    /// use churn::{Flow, RunOptions, Type};
    ///
    /// let gallons = ScalarFunction::of_values("gallons", |litres: Option<f64>| Some(litres? * 0.22));
    /// let options = RunOptions::new().catalogue(&Catalogue::new().with(gallons)?);
    /// let milk = Flow::steps("values litres: (100.0)").add("sold = gallons(litres)");
    /// assert_eq!(milk.run_with(&options)?.column::<f64>("sold")?, [22.0]);
    /// assert!(milk.run().is_err(), "without the catalogue there is no such function");
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[must_use]
    pub fn catalogue(self, catalogue: &Catalogue) -> RunOptions {
        RunOptions { catalogue: Some(Arc::new(catalogue.clone())), ..self }
    }

    /// Stops the run also when `flag` is true: the reader of its rows went away.
    pub(crate) fn abandoned_by(self, flag: Arc<AtomicBool>) -> RunOptions {
        self.with(|settings| settings.abandoned = Some(flag))
    }

    /// Sets the most rows of a batch; for tests, since the answer does not depend on it.
    #[must_use]
    #[doc(hidden)]
    pub fn batch_rows(self, rows: usize) -> RunOptions {
        self.with(|settings| settings.batch_rows = Some(rows.max(1)))
    }

    /// Sets the bytes of a block of text; for tests, since the answer does not depend on it.
    #[must_use]
    #[doc(hidden)]
    pub fn block_bytes(self, bytes: usize) -> RunOptions {
        self.with(|settings| settings.block_bytes = Some(bytes.max(1)))
    }
}

impl fmt::Debug for RunOptions {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RunOptions")
            .field("threads", &self.settings.threads)
            .field("memory", &self.settings.memory)
            .field("first_rows", &self.settings.first_rows)
            .finish_non_exhaustive()
    }
}
