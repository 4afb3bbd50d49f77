//! Operators that need the order of rows and keep something: they run in the ordered part of a run.

use std::sync::{Mutex, PoisonError};

use arrow_array::{ArrayRef, BooleanArray};
use churn_core::parallel::Threads;
use churn_core::{Batch, Error, Event, Result, StepId, Type};
use churn_io::source::Scan;
use churn_kernels::hash;

use super::budget::Reservation;
use super::context::Context;
use super::keys::KeyTable;
use super::merge::Merge;
use super::morsel_output::MorselOutput;
use super::rows_per_key::{first_rows, numbers_of, within};
use super::spill::partitioned::{
    PartitionOperator, PartitionWriter, Partitions, decode_positions, encode_positions,
};
use super::spill::{Disk, Run, RunWriter, Spill};
use super::stream::{StreamOp, offending};

/// An operator that sees the batches in order.
pub(crate) trait SerialOp: Send {
    /// Works on the next batch.
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch>;

    /// Whether nothing will come out of it any more.
    fn is_full(&self) -> bool {
        false
    }

    /// Rows that it kept back, and that come out behind all others.
    fn finish(&mut self, _: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        Ok(None)
    }
}

/// An operator that needs no order, behind one that does.
pub(crate) struct Streamed(pub(crate) Box<dyn StreamOp>);

impl SerialOp for Streamed {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
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
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let from = self.skip.min(batch.rows);
        self.skip -= from;
        let rows = self.left.min(batch.rows - from);
        self.left -= rows;
        work.counters.rows(self.step, rows);
        Ok(if rows == batch.rows { batch } else { batch.slice(from, rows) })
    }

    fn is_full(&self) -> bool {
        self.stops && self.left == 0
    }
}

/// `first N per COLS`, and `distinct`, which is the first one.
///
/// When the table of keys is full, it stays as it is: rows of known keys are settled by it, and the others are partitioned
/// to files. What passes from then on comes out at the end, in order.
pub(crate) struct FirstPer {
    pub(crate) count: usize,
    pub(crate) seen: SeenKeys,
    /// How many rows of each key passed.
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
}

impl SerialOp for FirstPer {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let first = self.seen.row;
        self.seen.row += batch.rows as u64;
        if self.seen.full.is_none() {
            let numbers = numbers_of(&mut self.seen.table, &batch, &self.seen.keys)?;
            self.passed.resize(self.seen.table.len(), 0);
            let kept = batch.filter(&within(&numbers, &mut self.passed, self.count).into())?;
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

/// The keys of all rows so far.
pub(crate) struct SeenKeys {
    pub(crate) keys: Vec<usize>,
    kinds: Vec<Type>,
    table: KeyTable,
    reservation: Reservation,
    spill: Spill,
    threads: Threads,
    /// The place of the next row.
    row: u64,
    full: Option<Full>,
}

/// Where rows go once the table is full.
struct Full {
    /// Rows of unknown keys.
    writer: PartitionWriter,
    /// Rows that pass, with their places.
    passed: RunWriter,
}

impl Full {
    fn pass(&mut self, mut batch: Batch, places: impl Iterator<Item = u64>) -> Result<()> {
        batch.columns.insert(0, encode_positions(places));
        self.passed.write(batch)
    }
}

/// Rows of a batch, with their keys and places, and the numbers of known keys.
struct UnknownRows {
    batch: Batch,
    keys: Vec<ArrayRef>,
    places: Vec<u64>,
    numbers: Vec<u32>,
}

impl SeenKeys {
    pub(crate) fn new(keys: Vec<usize>, kinds: Vec<Type>, context: &Context) -> Result<SeenKeys> {
        Ok(SeenKeys {
            keys,
            table: KeyTable::new(kinds.clone()),
            kinds,
            reservation: context.budget.reservation(),
            spill: context.spill.clone(),
            threads: context.threads().clone(),
            row: 0,
            full: None,
        })
    }

    /// Reserves what the table holds; when it may not grow any more, files take over.
    fn weigh(&mut self) -> Result<()> {
        // A table that grows holds its old places beside the new ones for a moment.
        if !self.reservation.try_hold(self.table.memory() / 2 * 3) {
            let writer = PartitionWriter::new(self.kinds.clone(), &self.spill)?;
            self.full = Some(Full { writer, passed: self.spill.writer()? });
        }
        Ok(())
    }

    /// Lets go of the keys: all rows have come.
    fn forget(&mut self) -> Result<()> {
        self.table = KeyTable::new(self.kinds.clone());
        self.reservation.hold(0)
    }

    /// What becomes of rows of unknown keys.
    fn processed(&self, partitions: Vec<Run>, process: &dyn PartitionOperator) -> Result<Vec<Run>> {
        let files = Partitions {
            kinds: &self.kinds,
            keys: &|batch| Ok(self.keys.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect()),
            process,
            bytes_a_row: 8,
            spill: &self.spill,
            threads: self.threads.clone(),
        };
        files.processed(partitions, &mut self.reservation.budget().reservation())
    }

    /// The rows whose keys the full table knows, and the others.
    fn split(&mut self, batch: &Batch, first: u64) -> Result<(UnknownRows, UnknownRows)> {
        let keys: Vec<_> = self.keys.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
        let mut numbers = Vec::new();
        self.table.find(&keys, batch.rows, &mut numbers)?;
        let part = |known: bool| {
            let is_known: Vec<bool> = numbers.iter().map(|n| (*n != u32::MAX) == known).collect();
            let rows = || is_known.iter().enumerate().filter(|(_, is)| **is).map(|(row, _)| row);
            let places = rows().map(|row| first + row as u64).collect();
            let found = rows().filter_map(|row| numbers.get(row).copied()).collect();
            let batch = batch.filter(&is_known.into())?;
            let keys = self.keys.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
            Ok(UnknownRows { batch, keys, places, numbers: found })
        };
        Ok((part(true)?, part(false)?))
    }
}

/// `require unique by COLS`.
pub(crate) struct RequireUnique {
    pub(crate) seen: SeenKeys,
    pub(crate) names: Vec<String>,
    pub(crate) shown: Vec<(String, usize)>,
    pub(crate) text: String,
}

/// A row that is equal to one before it, by its place among all rows.
type Repeated = Option<(u64, Batch)>;

impl RequireUnique {
    /// The first of some rows, given their places in the batch; `place` tells the place of each among all rows.
    fn first(batch: &Batch, rows: &[usize], place: impl Fn(usize) -> u64) -> Repeated {
        rows.first().map(|row| (place(*row), batch.slice(*row, 1)))
    }

    /// The error of the first row that is equal to one before it.
    fn refuse(&self, (_, row): (u64, Batch)) -> Error {
        let names = churn_core::names::comma(self.names.iter().map(|n| churn_core::names::name(n)));
        let what = format!("A row is equal in {names} to a row before it.");
        offending(what, &row, &self.shown, 0).in_step(&self.text)
    }

    /// The first repeated row among those that went to files.
    fn first_on_disk(&mut self) -> Result<Repeated> {
        let Some(full) = self.seen.full.take() else { return Ok(None) };
        self.seen.forget()?;
        let found: Mutex<Repeated> = Mutex::new(None);
        let rows = first_rows(self.seen.keys.clone(), self.seen.kinds.clone(), 1);
        let process = |batches: Vec<Batch>| {
            let kept = rows.rows(batches.clone())?;
            for (batch, (_, keep)) in batches.iter().zip(&kept) {
                let keep: Vec<bool> = keep.iter().flat_map(|k| k.values().iter()).collect();
                let mut own = batch.clone();
                // The last column has the places of the rows.
                let places = own.columns.pop();
                let places = places.as_ref().map(decode_positions).transpose()?;
                let place = |row: usize| places.as_ref().map_or(u64::MAX, |places| places.value(row) as u64);
                if let Some(repeated) = Self::first(&own, &places_where(&keep, false), place) {
                    let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
                    if found.as_ref().is_none_or(|(place, _)| repeated.0 < *place) {
                        *found = Some(repeated);
                    }
                }
            }
            // Nothing comes of them: they have passed.
            Ok(batches
                .iter()
                .map(|batch| (batch.slice(0, 0), Some(vec![false; batch.rows].into())))
                .collect())
        };
        self.seen.processed(full.writer.finish()?, &process)?;
        Ok(found.into_inner().unwrap_or_else(PoisonError::into_inner))
    }
}

impl SerialOp for RequireUnique {
    fn apply(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<Batch> {
        let first = self.seen.row;
        self.seen.row += batch.rows as u64;
        if self.seen.full.is_none() {
            let mut next = self.seen.table.len() as u32;
            let numbers = numbers_of(&mut self.seen.table, &batch, &self.seen.keys)?;
            let is_new = |number: &u32| {
                let new = *number == next;
                next += u32::from(new);
                new
            };
            let new: Vec<bool> = numbers.iter().map(is_new).collect();
            if let Some(repeated) = Self::first(&batch, &places_where(&new, false), |row| first + row as u64)
            {
                return Err(self.refuse(repeated));
            }
            self.seen.weigh()?;
            return Ok(batch);
        }
        let (known, mut unknown) = self.seen.split(&batch, first)?;
        if let Some(full) = &mut self.seen.full {
            unknown.batch.columns.push(encode_positions(unknown.places.iter().copied()));
            full.writer.push(&unknown.batch, &unknown.keys, &unknown.places)?;
        }
        let place = |row: usize| known.places.get(row).copied().unwrap_or(u64::MAX);
        if let Some(here) = Self::first(&known.batch, &(0..known.batch.rows).collect::<Vec<_>>(), place) {
            // One of the rows on disk may be repeated before it.
            let before = self.first_on_disk()?.filter(|(place, _)| *place < here.0);
            return Err(self.refuse(before.unwrap_or(here)));
        }
        Ok(batch)
    }

    fn finish(&mut self, _: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        match self.first_on_disk()? {
            Some(repeated) => Err(self.refuse(repeated)),
            None => Ok(None),
        }
    }
}

fn places_where(values: &[bool], is: bool) -> Vec<usize> {
    values.iter().enumerate().filter(|(_, v)| **v == is).map(|(place, _)| place).collect()
}
