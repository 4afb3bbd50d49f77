//! The first rows of each key.

use churn_core::{Batch, Event, Result, StepId};
use churn_io::source::Scan;

use crate::operators::rows_per_key::{first_rows, within};
use crate::operators::seen_keys::SeenKeys;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::serial::SerialOp;
use crate::spill::Disk;
use crate::spill::merge::Merge;

/// `first N per COLS`, and `distinct`, which is the first one.
///
/// When the table of keys is full, it stays as it is: rows of known keys are settled by it, and the others are partitioned
/// to files. What passes from then on comes out at the end, in order.
pub(crate) struct FirstPer {
    pub(crate) count: usize,
    pub(crate) seen: SeenKeys,
    /// How many rows of each key passed, where it may be more than one.
    pub(crate) passed: Vec<usize>,
    /// Whether rows that do not pass are told of as repeated.
    pub(crate) distinct: bool,
    pub(crate) step: StepId,
}

impl FirstPer {
    fn tell(&self, before: usize, kept: usize, work: &mut MorselOutput) {
        work.counters.rows(self.step, kept);
        if self.distinct {
            work.counters.event(self.step, Event::Repeated, before - kept);
        }
    }

    /// Which rows are among the first of their keys.
    fn keep(&mut self, batch: &Batch) -> Result<Vec<bool>> {
        if self.count == 1 {
            return self.seen.first_rows(batch);
        }
        let (numbers, keys) = self.seen.numbers(batch)?;
        self.passed.resize(keys, 0);
        Ok(within(&numbers, &mut self.passed, self.count))
    }
}

impl SerialOp for FirstPer {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let first = self.seen.row;
        self.seen.row += batch.rows as u64;
        if self.seen.full.is_none() {
            let kept = batch.filter(&self.keep(&batch)?.into())?;
            self.tell(batch.rows, kept.rows, work);
            self.seen.weigh()?;
            return Ok(kept);
        }
        let (known, unknown) = self.seen.split(&batch, first)?;
        let keep = within(&known.numbers, &mut self.passed, self.count);
        let passing = known.batch.filter(&keep.clone().into())?;
        self.tell(known.batch.rows, passing.rows, work);
        let places = known.places.iter().zip(&keep).filter(|(_, keep)| **keep).map(|(place, _)| *place);
        if let Some(full) = &mut self.seen.full {
            full.pass(passing, places)?;
            full.writer.push(&unknown.batch, &unknown.keys, &unknown.places)?;
        }
        Ok(batch.slice(0, 0))
    }

    fn finish(&mut self, work: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        let Some(full) = self.seen.full.take() else { return Ok(None) };
        let process = first_rows(self.seen.keys.clone(), self.seen.kinds.clone(), self.count);
        let partitions = full.writer.finish()?;
        let rows: u64 = partitions.iter().map(|run| run.rows).sum();
        self.seen.forget()?;
        let mut runs = self.seen.processed(partitions, process.as_ref())?;
        let kept: u64 = runs.iter().map(|run| run.rows).sum();
        self.tell(rows as usize, kept as usize, work);
        runs.push(full.passed.finish()?);
        let SeenKeys { spill, reservation, threads, .. } = &self.seen;
        let disk = Disk { spill, budget: reservation.budget(), threads };
        Ok(Some(Box::new(Merge::new(runs, None, &disk)?)))
    }
}
