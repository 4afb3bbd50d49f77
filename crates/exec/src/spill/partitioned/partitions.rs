//! Files of partitions, and an operator run over each.

use arrow_array::ArrayRef;
use churn_core::parallel::Threads;
use churn_core::{Batch, Result, Type};
use churn_kernels::memory;

use super::{PartitionOperator, PartitionWriter, positions};
use crate::runtime::budget::Reservation;
use crate::spill::{Disk, Run, Spill, merge};

/// Runs an operator over partitions on disk.
pub(crate) struct Partitions<'a> {
    pub(crate) kinds: &'a [Type],
    /// The keys of some rows.
    pub(crate) keys: &'a (dyn Fn(&Batch) -> Result<Vec<ArrayRef>> + Sync),
    pub(crate) process: &'a dyn PartitionOperator,
    /// What the process holds beside the rows.
    pub(crate) bytes_a_row: usize,
    pub(crate) spill: &'a Spill,
    pub(crate) threads: Threads,
}

/// How often rows are partitioned at most: after so many times those of one file have one key.
const LEVELS: u32 = 4;

/// Files whose rows are worked on before their results are told apart by whether they fitted.
const AT_ONCE: usize = 16;

/// Runs of results. Those that are many are merged on the way: they are all open.
struct Results {
    open: Vec<Run>,
    merged: Vec<Run>,
}

impl Results {
    fn push(&mut self, run: Run, disk: &Disk) -> Result<()> {
        if self.open.len() >= merge::MOST {
            self.merged.push(merge::one(std::mem::take(&mut self.open), disk)?);
        }
        self.open.push(run);
        Ok(())
    }

    fn all(mut self) -> Vec<Run> {
        self.merged.append(&mut self.open);
        self.merged
    }
}

/// Rows that are not repartitioned where there is a way without.
const FEW: u64 = 1 << 14;

impl Partitions<'_> {
    /// Works on the rows of the files, of some at once where they fit; gives the results, each run in order.
    pub(crate) fn processed(&self, runs: Vec<Run>, reservation: &mut Reservation) -> Result<Vec<Run>> {
        reservation.hold(0)?;
        let budget = reservation.budget().clone();
        let disk = Disk { spill: self.spill, budget: &budget, threads: &self.threads };
        let needed = |run: &Run| run.bytes + run.rows as usize * self.bytes_a_row;
        let largest = runs.iter().map(needed).max().unwrap_or(0);
        let fit_at_once = largest * self.threads.count() <= budget.free();
        let threads = if fit_at_once { self.threads.clone() } else { self.threads.one() };
        // Without keys all rows are in one file, however often they are partitioned.
        let level = if self.kinds.is_empty() { LEVELS } else { 0 };
        let mut runs = runs.into_iter().filter(|run| run.rows > 0);
        let mut results = Results { open: Vec::new(), merged: Vec::new() };
        loop {
            let some: Vec<Run> = runs.by_ref().take(AT_ONCE).collect();
            if some.is_empty() {
                return Ok(results.all());
            }
            let of_run = |run| self.worked_out(run, &mut budget.reservation());
            let made = threads.each(some.iter(), of_run)?;
            for (run, made) in some.into_iter().zip(made) {
                match made {
                    Some(made) => results.push(made, &disk)?,
                    None => self.divided(run, level, &mut results, &disk)?,
                }
            }
        }
    }

    /// Works on the rows of a file that do not fit: partitioned again, or without holding them.
    fn divided(&self, run: Run, level: u32, results: &mut Results, disk: &Disk) -> Result<()> {
        memory::give_back();
        let large = self.process.external();
        if level == LEVELS || (large.is_some() && run.rows <= FEW) {
            let large = large.ok_or_else(|| disk.budget.refused())?;
            return results.push(large.run_external(&run, disk)?, disk);
        }
        let parts = self.repartitioned(&run, level + 1)?;
        // One key has all rows: no further partitioning can separate them.
        let level = if parts.iter().any(|part| part.rows == run.rows) { LEVELS } else { level + 1 };
        drop(run);
        for part in parts.into_iter().filter(|part| part.rows > 0) {
            match self.worked_out(&part, &mut disk.budget.reservation())? {
                Some(made) => results.push(made, disk)?,
                None => self.divided(part, level, results, disk)?,
            }
        }
        Ok(())
    }

    /// The results of the rows of a file, as a run; none if the rows do not fit.
    fn worked_out(&self, run: &Run, reservation: &mut Reservation) -> Result<Option<Run>> {
        let Some(mut batches) = self.load(run, self.process.external().is_some(), reservation)? else {
            return Ok(None);
        };
        let places: Vec<ArrayRef> = batches.iter_mut().map(|b| b.columns.remove(0)).collect();
        let mut writer = self.spill.writer()?;
        for ((mut batch, keep), mut places) in self.process.rows(batches)?.into_iter().zip(places) {
            if let Some(keep) = keep {
                places = arrow_select::filter::filter(&places, &keep).map_err(churn_core::arrow_error)?;
            }
            batch.columns.insert(0, places);
            writer.write(batch)?;
        }
        writer.finish().map(Some)
    }

    /// The rows of a file; none if they do not fit. A few do, unless there is a way without.
    fn load(&self, run: &Run, is_hard: bool, reservation: &mut Reservation) -> Result<Option<Vec<Batch>>> {
        let (mut batches, mut bytes) = (Vec::new(), 0);
        for batch in run.reader()?.into_iter().flatten() {
            let batch = batch?;
            bytes += batch.memory() + batch.rows * self.bytes_a_row;
            batches.push(batch);
            if !(if is_hard { reservation.try_hold(bytes) } else { reservation.fits_whole(bytes) }) {
                return Ok(None);
            }
        }
        Ok(Some(batches))
    }

    /// The rows of a file, partitioned to more of them.
    fn repartitioned(&self, run: &Run, level: u32) -> Result<Vec<Run>> {
        let mut writer = PartitionWriter::at_level(self.kinds.to_vec(), level, self.spill, &self.threads)?;
        for batch in run.reader()?.into_iter().flatten() {
            let mut batch = batch?;
            let column = batch.columns.remove(0);
            let places: Vec<u64> = positions(&column)?.iter().map(|place| place.cast_unsigned()).collect();
            writer.push(&batch, &(self.keys)(&batch)?, &places)?;
        }
        writer.finish()
    }
}
