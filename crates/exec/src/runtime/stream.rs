//! Operators that work on one batch and keep nothing.

use std::sync::Arc;

use churn_core::{Batch, Result, StepId, cancel};
use churn_expr::Bound;
use churn_kernels::known::known_part;

use crate::runtime::materialized::concat;
use crate::runtime::morsel_output::MorselOutput;

/// An operator that many workers run at once.
pub(crate) trait StreamOp: Send + Sync {
    /// Works on a batch; one that may become many is given as one.
    ///
    /// An operator implements this, or `multiplies` and `each`.
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let mut parts = Vec::new();
        self.each(batch, work, &mut |batch, _| {
            parts.push(batch);
            Ok(())
        })?;
        Ok(concat(parts)?.pop().unwrap_or(Batch { columns: Vec::new(), rows: 0 }))
    }

    /// Whether a batch may become many.
    fn multiplies(&self) -> bool {
        false
    }

    /// Works on a batch that may become many.
    fn each(&self, batch: Batch, work: &mut MorselOutput, take: &mut Take<'_>) -> Result<()> {
        let batch = self.apply(batch, work)?;
        take(batch, work)
    }
}

/// What takes the batches that come out of an operator.
pub(crate) type Take<'a> = dyn FnMut(Batch, &mut MorselOutput) -> Result<()> + 'a;

/// Sends a batch through operators, one after the other.
pub(crate) fn through(
    ops: &[Arc<dyn StreamOp>],
    mut batch: Batch,
    work: &mut MorselOutput,
    take: &mut Take<'_>,
) -> Result<()> {
    for (i, op) in ops.iter().enumerate() {
        if op.multiplies() {
            let later = known_part(ops, i + 1..);
            // One batch may become any number of them.
            return op.each(batch, work, &mut |batch, work| {
                cancel::check()?;
                through(later, batch, work, take)
            });
        }
        batch = op.apply(batch, work)?;
    }
    take(batch, work)
}

/// Keeps some of the columns, in some order.
pub(crate) struct Pick(pub(crate) Vec<usize>);

impl StreamOp for Pick {
    fn apply(&self, batch: Batch, _: &mut MorselOutput) -> Result<Batch> {
        let columns = batch.columns_at(&self.0);
        Ok(Batch { columns, rows: batch.rows })
    }
}

/// Counts the rows that leave a step.
pub(crate) struct CountRows(pub(crate) StepId);

impl StreamOp for CountRows {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        work.counters.rows(self.0, batch.rows);
        Ok(batch)
    }
}

/// Gives exactly these columns, computed.
pub(crate) struct Select {
    pub(crate) columns: Vec<Bound>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl StreamOp for Select {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let evaluate = |bound: &Bound| {
            work.with_events(self.step, |events| bound.evaluate_array(&batch, events))
                .map_err(|e| e.in_step(&self.text))
        };
        let columns = self.columns.iter().map(evaluate).collect::<Result<_>>()?;
        Ok(Batch { columns, rows: batch.rows })
    }
}
