//! Each row with the same chance.

use arrow_array::BooleanArray;
use churn_core::{Batch, Result, StepId};

use super::lot;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::serial::SerialOp;

/// `sample P percent`: each row by a number that its place and the seed give.
pub(crate) struct SamplePercent {
    pub(crate) percent: f64,
    pub(crate) seed: u64,
    pub(crate) row: u64,
    pub(crate) step: StepId,
}

impl SerialOp for SamplePercent {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let first = self.row;
        self.row += batch.rows as u64;
        // 2^64 times the share; one hundred percent is every lot.
        let below = |row| (lot(self.seed, row) as f64) < self.percent / 100.0 * 2f64.powi(64);
        let keep: BooleanArray =
            (first..self.row).map(|row| Some(self.percent >= 100.0 || below(row))).collect();
        let batch = batch.filter(&keep)?;
        work.counters.rows(self.step, batch.rows);
        Ok(batch)
    }
}
