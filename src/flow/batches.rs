//! A run whose rows are read batch by batch while it goes on.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, sync_channel};

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use churn_core::{Batch, Field, Result};
use churn_exec::{Channel, RunOptions};

use super::Flow;
use crate::table::{record_batch, schema};

/// Record batches of a run, in order; the run goes on in the background and waits for its reader.
///
/// Dropping it stops the run, also one that is still sorting or grouping and has given no batch.
#[derive(Debug)]
pub struct BatchReader {
    fields: Vec<Field>,
    from: Receiver<Result<Batch>>,
    abandoned: Arc<AtomicBool>,
}

impl Drop for BatchReader {
    fn drop(&mut self) {
        self.abandoned.store(true, Ordering::Relaxed);
    }
}

impl BatchReader {
    /// The schema of all batches.
    pub fn schema(&self) -> SchemaRef {
        schema(&self.fields)
    }
}

impl Iterator for BatchReader {
    type Item = Result<RecordBatch>;

    fn next(&mut self) -> Option<Self::Item> {
        let batch = self.from.recv().ok()?;
        Some(batch.and_then(|batch| record_batch(batch, &self.fields)))
    }
}

impl Flow {
    /// Runs the chain in the background and gives its rows as record batches, in order, few at a time.
    ///
    /// # Errors
    /// As [`Flow::check`]; what goes wrong during the run is the last item.
    ///
    /// ```
    /// let flow = churn::Flow::steps("values litres: (120), (80)");
    /// let mut rows = 0;
    /// for batch in flow.batches()? {
    ///     rows += batch?.num_rows();
    /// }
    /// assert_eq!(rows, 2);
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn batches(&self) -> Result<BatchReader> {
        self.batches_with(&RunOptions::default())
    }

    /// As [`Flow::batches`], with options.
    ///
    /// # Errors
    /// As [`Flow::batches`].
    pub fn batches_with(&self, options: &RunOptions) -> Result<BatchReader> {
        let plan = self.plan_with(options)?;
        let fields = plan.plan.main.fields.clone();
        let abandoned = Arc::new(AtomicBool::new(false));
        let options = options.clone().abandoned_by(abandoned.clone());
        let (to, from) = sync_channel(2);
        std::thread::spawn(move || {
            let last = to.clone();
            if let Err(error) = churn_exec::run(&plan.plan, &options, |_| Ok(Channel::sink(to))) {
                // A reader that went away does not need to know.
                let _ = last.send(Err(error));
            }
        });
        Ok(BatchReader { fields, from, abandoned })
    }
}
