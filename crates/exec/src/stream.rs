//! Operators that work on one batch and keep nothing.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, BooleanArray};
use churn_core::{Batch, Error, ErrorKind, Event, OrFault, Result, Scalar, StepId, cancel};
use churn_expr::Bound;
use churn_io::format::Encoder;
use churn_io::source::RowTest;
use churn_kernels::known::known_part;

use super::materialized::concat;
use super::morsel_output::{MorselOutput, SideOutput};

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
        let columns = self.0.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
        Ok(Batch { columns, rows: batch.rows })
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

/// Adds computed columns; a later one may use an earlier one.
pub(crate) struct Compute {
    pub(crate) columns: Vec<Bound>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl StreamOp for Compute {
    fn apply(&self, mut batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        for bound in &self.columns {
            let array = work
                .with_events(self.step, |events| bound.evaluate_array(&batch, events))
                .map_err(|e| e.in_step(&self.text))?;
            batch.columns.push(array);
        }
        Ok(batch)
    }
}

/// A filter's condition: what it keeps is counted for its step.
#[derive(Clone)]
pub(crate) struct Test {
    pub(crate) condition: Bound,
    pub(crate) step: StepId,
    pub(crate) text: String,
    /// Whether the filter itself comes later.
    pub(crate) early: bool,
}

/// What chooses among rows, also while they are read.
pub(crate) trait ScanFilter: Send + Sync {
    /// Which rows stay; the others are counted.
    fn keep(&self, batch: &Batch, work: &mut MorselOutput) -> Result<BooleanArray>;
    /// Counts rows that were not read, since none of them could stay.
    fn skipped(&self, rows: usize, work: &mut MorselOutput);
}

impl ScanFilter for Test {
    fn skipped(&self, rows: usize, work: &mut MorselOutput) {
        work.counters.event(self.step, Event::Skipped, rows);
    }

    fn keep(&self, batch: &Batch, work: &mut MorselOutput) -> Result<BooleanArray> {
        let truth = work
            .with_events(self.step, |events| self.condition.evaluate(batch, events))
            .map_err(|e| e.in_step(&self.text))?
            .bools(batch.rows);
        let kept = truth.true_count();
        if self.early {
            work.counters.event(self.step, Event::Prefiltered, batch.rows - kept);
            return Ok(truth);
        }
        let unknown = truth.null_count();
        work.counters.rows(self.step, kept);
        work.counters.event(self.step, Event::Unknown, unknown);
        work.counters.event(self.step, Event::NotTrue, batch.rows - kept - unknown);
        Ok(truth)
    }
}

/// Keeps the rows where a condition is true.
pub(crate) struct Filter(pub(crate) Test);

impl StreamOp for Filter {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let keep = self.0.keep(&batch, work)?;
        if keep.true_count() == batch.rows { Ok(batch) } else { batch.filter(&keep) }
    }
}

/// Conditions that a scan tests while it reads, one after the other, each on what the ones before left.
pub(crate) struct ScanTest {
    /// The columns they use, among those that are read.
    pub(crate) columns: Vec<usize>,
    pub(crate) tests: Vec<Box<dyn ScanFilter>>,
}

impl ScanTest {
    /// Runs `f` with the test as a reader sees it.
    pub(crate) fn with<T>(&self, work: &mut MorselOutput, f: impl FnOnce(&mut dyn RowTest) -> T) -> T {
        f(&mut Testing { test: self, work })
    }
}

struct Testing<'a> {
    test: &'a ScanTest,
    work: &'a mut MorselOutput,
}

impl RowTest for Testing<'_> {
    fn columns(&self) -> &[usize] {
        &self.test.columns
    }

    fn test(&mut self, batch: &Batch) -> Result<BooleanArray> {
        let mut tests = self.test.tests.iter();
        let Some(first) = tests.next() else { return Ok(BooleanArray::from(vec![true; batch.rows])) };
        let mut keep = first.keep(batch, self.work)?;
        for test in tests {
            let left = batch.filter(&keep)?;
            let inner = test.keep(&left, self.work)?;
            keep = within(&keep, &inner);
        }
        Ok(keep)
    }
}

/// The rows of `outer` that are true, and true in `inner`, which has a row for each of them.
fn within(outer: &BooleanArray, inner: &BooleanArray) -> BooleanArray {
    let mut inner = inner.iter();
    outer.iter().map(|truth| Some(truth == Some(true) && inner.next().flatten() == Some(true))).collect()
}

/// Stops unless a condition is true in every row.
pub(crate) struct Require {
    pub(crate) condition: Bound,
    pub(crate) message: Option<String>,
    /// Columns to show of an offending row, with their names.
    pub(crate) shown: Vec<(String, usize)>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl StreamOp for Require {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let truth = work
            .with_events(self.step, |events| self.condition.evaluate(&batch, events))
            .map_err(|e| e.in_step(&self.text))?
            .bools(batch.rows);
        if truth.true_count() == batch.rows {
            return Ok(batch);
        }
        let offends = |row: &usize| truth.is_null(*row) || !truth.value(*row);
        let first = (0..batch.rows).find(offends).or_fault("row that offends")?;
        let what = self.message.clone().unwrap_or_else(|| "A row does not hold what is required.".into());
        Err(offending(what, &batch, &self.shown, first).in_step(&self.text))
    }
}

/// The error that shows a row, the first that offends. The next ones are in other batches, perhaps, and which of them
/// were looked at says nothing.
pub(crate) fn offending(what: String, batch: &Batch, shown: &[(String, usize)], row: usize) -> Error {
    let cells = shown.iter().filter_map(|(name, column)| {
        let value = batch.columns.get(*column).and_then(|c| churn_core::widen::widen(c).ok())?;
        Some(format!("{} = {}", churn_core::names::name(name), Scalar::from_array(&value, row)))
    });
    let cells = churn_core::names::comma(cells);
    Error::new(ErrorKind::Require, what).why("The first row that offends:").why(format!("  {cells}"))
}

/// Hands what flows by to a side output: encoded, if the format is text.
pub(crate) struct Tap {
    pub(crate) output: usize,
    pub(crate) columns: Vec<usize>,
    pub(crate) encoder: Option<Box<dyn Encoder>>,
    /// The column of rows that are ready to be written, if there is one; it goes no further.
    pub(crate) ready: Option<usize>,
    pub(crate) step: StepId,
    /// The text of the step, for messages.
    pub(crate) text: String,
}

impl StreamOp for Tap {
    fn apply(&self, mut batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let ready = self.ready.filter(|place| *place < batch.columns.len());
        let ready = ready.map(|place| batch.columns.remove(place));
        let ready = ready.as_ref().and_then(|lines| lines.as_binary_view_opt());
        let columns = self.columns.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
        let rows = Batch { columns, rows: batch.rows };
        if batch.rows > 0 {
            let side = match &self.encoder {
                Some(encoder) => {
                    work.counters.event(self.step, Event::NoNumber, encoder.lost(&rows));
                    SideOutput::Bytes(encoder.rows(&rows, ready).map_err(|e| e.in_step(&self.text))?)
                }
                None => SideOutput::Rows(rows.compacted()),
            };
            work.side.push((self.output, side));
        }
        Ok(batch)
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

/// Hands lines of text that flow by to a side output.
pub(crate) struct TapLines(pub(crate) usize);

impl StreamOp for TapLines {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let lines = batch.columns.first().and_then(|c| c.as_binary_opt::<i64>()).cloned();
        let rows = batch.rows;
        drop(batch);
        if let Some(lines) = lines {
            let (offsets, values, _) = lines.into_parts();
            let range = offsets.first() as usize..offsets.last() as usize;
            // Taken over if they are all of the column, and nobody else has it.
            let text =
                if range == (0..values.len()) { values.into_vec() } else { Err(values.slice(range.start)) };
            let text = text.unwrap_or_else(|values| known_part(values.as_slice(), ..range.len()).to_vec());
            work.side.push((self.0, SideOutput::Bytes(text)));
        }
        Ok(Batch { columns: Vec::new(), rows })
    }
}
