//! Operators that need the order of rows and keep something: they run in the ordered part of a run.

use arrow_array::BooleanArray;
use churn_kernels::hash;

use super::budget::Reservation;
use super::keys::KeyTable;
use super::stream::{StreamOp, offending};
use super::tally::Work;
use crate::error::Result;
use crate::expr::{Batch, Event};
use crate::plan::StepId;

/// An operator that sees the batches in order.
pub(crate) trait SerialOp: Send {
    /// Works on the next batch.
    fn apply(&mut self, batch: Batch, work: &mut Work) -> Result<Batch>;

    /// Whether nothing will come out of it any more.
    fn is_full(&self) -> bool {
        false
    }
}

/// An operator that needs no order, behind one that does.
pub(crate) struct Streamed(pub(crate) Box<dyn StreamOp>);

impl SerialOp for Streamed {
    fn apply(&mut self, batch: Batch, work: &mut Work) -> Result<Batch> {
        self.0.apply(batch, work)
    }
}

/// `first N after M`.
pub(crate) struct First {
    pub(crate) skip: usize,
    pub(crate) left: usize,
    /// Whether the run may stop when it is full: not where a step below must see every row.
    pub(crate) stops: bool,
    pub(crate) step: StepId,
}

impl SerialOp for First {
    fn apply(&mut self, batch: Batch, work: &mut Work) -> Result<Batch> {
        let from = self.skip.min(batch.rows);
        self.skip -= from;
        let rows = self.left.min(batch.rows - from);
        self.left -= rows;
        work.tally.rows(self.step, rows);
        Ok(if rows == batch.rows { batch } else { batch.slice(from, rows) })
    }

    fn is_full(&self) -> bool {
        self.stops && self.left == 0
    }
}

/// `first N per COLS` (and `after` of it never stands with `per`).
pub(crate) struct FirstPer {
    pub(crate) count: usize,
    pub(crate) keys: Vec<usize>,
    pub(crate) table: KeyTable,
    pub(crate) seen: Vec<usize>,
    pub(crate) step: StepId,
}

impl SerialOp for FirstPer {
    fn apply(&mut self, batch: Batch, work: &mut Work) -> Result<Batch> {
        let numbers = numbers_of(&mut self.table, &batch, &self.keys)?;
        self.seen.resize(self.table.len(), 0);
        let keep: BooleanArray = numbers
            .iter()
            .map(|n| {
                let Some(seen) = self.seen.get_mut(*n as usize) else { return Some(false) };
                *seen += 1;
                Some(*seen <= self.count)
            })
            .collect();
        let batch = batch.filter(&keep)?;
        work.tally.rows(self.step, batch.rows);
        Ok(batch)
    }
}

/// `sample P percent`: each row by a number that its place and the seed give.
pub(crate) struct SamplePercent {
    pub(crate) percent: f64,
    pub(crate) seed: u64,
    pub(crate) row: u64,
    pub(crate) step: StepId,
}

/// The random number of a row, the same in every run.
pub(crate) fn lot(seed: u64, row: u64) -> u64 {
    hash::of_u128(u128::from(seed) << 64 | u128::from(row))
}

impl SerialOp for SamplePercent {
    fn apply(&mut self, batch: Batch, work: &mut Work) -> Result<Batch> {
        let first = self.row;
        self.row += batch.rows as u64;
        // 2^64 times the share; one hundred percent is every lot.
        let below = |row| (lot(self.seed, row) as f64) < self.percent / 100.0 * 2f64.powi(64);
        let keep: BooleanArray =
            (first..self.row).map(|row| Some(self.percent >= 100.0 || below(row))).collect();
        let batch = batch.filter(&keep)?;
        work.tally.rows(self.step, batch.rows);
        Ok(batch)
    }
}

/// The keys of all rows so far.
pub(crate) struct Seen {
    pub(crate) keys: Vec<usize>,
    pub(crate) table: KeyTable,
    pub(crate) held: Reservation,
}

impl Seen {
    /// Which rows have a key that no row before them has.
    fn new_rows(&mut self, batch: &Batch) -> Result<Vec<bool>> {
        let mut next = self.table.len() as u32;
        let numbers = numbers_of(&mut self.table, batch, &self.keys)?;
        self.held.hold(self.table.memory())?;
        let is_new = |number: &u32| {
            let new = *number == next;
            next += u32::from(new);
            new
        };
        Ok(numbers.iter().map(is_new).collect())
    }
}

/// `distinct`: the first row of each key.
pub(crate) struct Distinct {
    pub(crate) seen: Seen,
    pub(crate) step: StepId,
}

impl SerialOp for Distinct {
    fn apply(&mut self, batch: Batch, work: &mut Work) -> Result<Batch> {
        let new = self.seen.new_rows(&batch)?;
        let kept = batch.filter(&new.into())?;
        work.tally.rows(self.step, kept.rows);
        work.tally.event(self.step, Event::Repeated, batch.rows - kept.rows);
        Ok(kept)
    }
}

/// `require unique by COLS`.
pub(crate) struct RequireUnique {
    pub(crate) seen: Seen,
    pub(crate) names: Vec<String>,
    pub(crate) shown: Vec<(String, usize)>,
    pub(crate) text: String,
}

impl SerialOp for RequireUnique {
    fn apply(&mut self, batch: Batch, _: &mut Work) -> Result<Batch> {
        let new = self.seen.new_rows(&batch)?;
        let repeated = new.iter().enumerate().filter(|(_, new)| !**new).map(|(row, _)| row);
        let repeated: Vec<usize> = repeated.take(5).collect();
        if repeated.is_empty() {
            return Ok(batch);
        }
        let names = crate::text::comma(self.names.iter().map(|n| crate::text::name(n)));
        let what = format!("Rows are equal in {names} to a row before them.");
        Err(offending(what, &batch, &self.shown, &repeated).in_step(&self.text))
    }
}

/// The number of each row's key.
fn numbers_of(table: &mut KeyTable, batch: &Batch, keys: &[usize]) -> Result<Vec<u32>> {
    let columns: Vec<_> = keys.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
    let mut numbers = Vec::new();
    table.numbers(&columns, batch.rows, &mut numbers)?;
    Ok(numbers)
}
