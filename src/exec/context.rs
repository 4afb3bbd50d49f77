//! What all pipelines of a run share: options, memory, the tally, files that are written on the way.

use std::collections::HashMap;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::budget::Budget;
use super::options::RunOptions;
use super::spill::Spill;
use super::tally::{Tally, Work};
use crate::error::Result;
use crate::expr::Batch;
use crate::io::target::Target as File;
use crate::plan::{StepId, StepInfo};

/// What all pipelines of a run share.
pub(crate) struct Context {
    pub(crate) options: RunOptions,
    pub(crate) budget: Budget,
    pub(crate) spill: Spill,
    steps: Vec<StepInfo>,
    pub(crate) tally: Mutex<Tally>,
    /// Files that are written on the way.
    outputs: Mutex<Vec<Output>>,
    /// Tables that are used more than once, once they have run.
    tables: Mutex<HashMap<usize, Arc<Vec<Batch>>>>,
    threads: usize,
}

struct Output {
    file: Option<File>,
    between: &'static [u8],
    end: &'static [u8],
    any: bool,
}

impl Context {
    pub(crate) fn new(options: RunOptions, steps: Vec<StepInfo>) -> Context {
        let machine = std::thread::available_parallelism().map_or(1, usize::from);
        Context {
            budget: Budget::new(options.memory),
            spill: Spill::new(options.temporary.clone()),
            tally: Mutex::new(Tally::new(steps.len())),
            outputs: Mutex::new(Vec::new()),
            tables: Mutex::new(HashMap::new()),
            threads: options.threads.unwrap_or(machine).max(1),
            options,
            steps,
        }
    }

    /// Adds rows that left a step outside of a pipeline.
    pub(crate) fn count_rows(&self, step: StepId, rows: usize) {
        held(&self.tally).rows(step, rows);
    }

    /// The rows of a table that has run already.
    pub(crate) fn table(&self, table: usize) -> Option<Arc<Vec<Batch>>> {
        held(&self.tables).get(&table).cloned()
    }

    /// Keeps the rows of a table for its later uses.
    pub(crate) fn keep_table(&self, table: usize, batches: Arc<Vec<Batch>>) {
        held(&self.tables).insert(table, batches);
    }

    pub(crate) fn threads(&self) -> usize {
        self.threads
    }

    pub(crate) fn steps(&self) -> usize {
        self.steps.len()
    }

    pub(crate) fn step_text(&self, step: StepId) -> &str {
        self.steps.get(step).map(|s| s.text.as_str()).unwrap_or_default()
    }

    pub(crate) fn is_cancelled(&self) -> bool {
        self.options.cancel.as_ref().is_some_and(|flag| flag.load(Ordering::Relaxed))
    }

    /// Adds what a pipeline counted.
    pub(crate) fn absorb(&self, work: &mut Work) -> Result<()> {
        held(&self.tally).merge(&work.tally);
        self.write_side(work)
    }

    /// Writes a morsel's bytes for side outputs; called in the order of morsels.
    pub(crate) fn write_side(&self, work: &mut Work) -> Result<()> {
        if work.side.is_empty() {
            return Ok(());
        }
        let mut outputs = held(&self.outputs);
        for (number, bytes) in work.side.drain(..) {
            let Some(Output { file: Some(file), between, any, .. }) = outputs.get_mut(number) else {
                continue;
            };
            if std::mem::replace(any, true) {
                file.write(between)?;
            }
            file.write(&bytes)?;
        }
        Ok(())
    }

    /// Opens a file to be written on the way; gives its number.
    pub(crate) fn output(
        &self,
        mut file: File,
        start: &[u8],
        between: &'static [u8],
        end: &'static [u8],
    ) -> Result<usize> {
        if !file.continues {
            file.write(start)?;
        }
        let mut outputs = held(&self.outputs);
        outputs.push(Output { file: Some(file), between, end, any: false });
        Ok(outputs.len() - 1)
    }

    /// Gives all files their names; nothing before this changes what is on disk.
    pub(crate) fn finish_outputs(&self) -> Result<()> {
        let mut outputs = held(&self.outputs);
        for output in outputs.iter_mut() {
            if let Some(file) = &mut output.file {
                file.write(output.end)?;
            }
        }
        outputs.iter_mut().filter_map(|o| o.file.take()).try_for_each(File::finish)
    }
}

/// The value behind a lock; a panic elsewhere is told on its own.
fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
