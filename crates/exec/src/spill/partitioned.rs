//! Partitions on disk: rows that do not fit in memory are written to files by the hash of their keys (grace
//! partitioning), so that all rows of a key are in one file, in input order, and each file fits in memory.
//!
//! [`PartitionWriter`] writes them, [`Partitions`] reads them back and runs an operator over one file after the other,
//! and [`PartitionedSink`] is a sink that holds rows in memory as long as they fit and goes on with partitions when they
//! do not. A file that is still too large is partitioned again by other bits of the hash, up to [`LEVELS`] times. Each
//! row carries its position in the input as its first column, so that the results of all files can be merged back into
//! input order. Cost: each row is written and read once a level.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{ArrayRef, BooleanArray, Int64Array, LargeBinaryArray, UInt32Array};
use churn_core::parallel::Threads;
use churn_core::{Batch, OrFault, Result, Type};
use churn_kernels::known::known;
use churn_kernels::memory;

use super::{Disk, PIECE, Run, RunWriter, Spill};
use crate::keys::KeyTable;
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::materialized::{Materialized, concat};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, CompactBatches, Sink, Worker};
use crate::spill::merge::{self, Merge};

/// Partitions that rows are partitioned to.
pub(crate) const PARTITIONS: usize = 64;

/// Rows that wait for a file until they are written together, at most.
const WAITING: usize = 1 << 11;

/// Numbers of places as bytes that compare alike.
pub(crate) fn encode_positions(numbers: impl Iterator<Item = u64>) -> ArrayRef {
    Arc::new(LargeBinaryArray::from_iter_values(numbers.map(u64::to_be_bytes)))
}

/// The numbers of such places.
pub(crate) fn decode_positions(places: &ArrayRef) -> Result<Int64Array> {
    let number = |bytes: Option<&[u8]>| bytes?.try_into().ok().map(i64::from_be_bytes);
    let places = places.as_binary_opt::<i64>().or_fault("column of places")?;
    places.iter().map(|bytes| number(bytes).or_fault("number of a place")).collect()
}

/// Rows on their way to files.
pub(crate) struct PartitionWriter {
    kinds: Vec<Type>,
    /// How often rows with these keys were partitioned before.
    level: u32,
    /// Rows that are not partitioned yet, their keys behind their columns, and their places.
    rows: Vec<Batch>,
    numbers: Vec<u64>,
    bytes: usize,
    files: Vec<PartitionFile>,
}

/// Rows that are partitioned together, and bytes of them: so many that each file gets some.
const TOGETHER: usize = 1 << 14;
const TOGETHER_BYTES: usize = 4 << 20;

/// A file of them, and what waits to be written to it.
struct PartitionFile {
    writer: RunWriter,
    waiting: Vec<Batch>,
    rows: usize,
    bytes: usize,
}

impl PartitionFile {
    fn new(spill: &Spill) -> Result<PartitionFile> {
        Ok(PartitionFile { writer: spill.writer()?, waiting: Vec::new(), rows: 0, bytes: 0 })
    }

    fn push(&mut self, batch: Batch) -> Result<()> {
        self.rows += batch.rows;
        self.bytes += batch.memory();
        self.waiting.push(batch);
        if self.rows >= WAITING || self.bytes >= PIECE / 2 { self.settle() } else { Ok(()) }
    }

    fn settle(&mut self) -> Result<()> {
        (self.rows, self.bytes) = (0, 0);
        concat(std::mem::take(&mut self.waiting))?.into_iter().try_for_each(|batch| self.writer.write(batch))
    }

    fn finish(mut self) -> Result<Run> {
        self.settle()?;
        self.writer.finish()
    }
}

impl PartitionWriter {
    pub(crate) fn new(kinds: Vec<Type>, spill: &Spill) -> Result<PartitionWriter> {
        PartitionWriter::at_level(kinds, 0, spill)
    }

    fn at_level(kinds: Vec<Type>, level: u32, spill: &Spill) -> Result<PartitionWriter> {
        let files = (0..PARTITIONS).map(|_| PartitionFile::new(spill)).collect::<Result<_>>()?;
        Ok(PartitionWriter { kinds, level, rows: Vec::new(), numbers: Vec::new(), bytes: 0, files })
    }

    /// Partitions rows by these keys; `numbers` has the place of each.
    pub(crate) fn push(&mut self, batch: &Batch, keys: &[ArrayRef], numbers: &[u64]) -> Result<()> {
        self.bytes += batch.memory();
        let columns = batch.columns.iter().chain(keys).cloned().collect();
        self.rows.push(Batch { columns, rows: batch.rows });
        self.numbers.extend_from_slice(numbers);
        if self.numbers.len() >= TOGETHER || self.bytes >= TOGETHER_BYTES { self.settle() } else { Ok(()) }
    }

    fn settle(&mut self) -> Result<()> {
        self.bytes = 0;
        let numbers = std::mem::take(&mut self.numbers);
        for mut batch in concat(std::mem::take(&mut self.rows))? {
            let keys = batch.columns.split_off(batch.columns.len().saturating_sub(self.kinds.len()));
            self.partition(&batch, &keys, &numbers)?;
        }
        Ok(())
    }

    fn partition(&mut self, batch: &Batch, keys: &[ArrayRef], numbers: &[u64]) -> Result<()> {
        let mut table = KeyTable::new(self.kinds.clone());
        let mut groups = Vec::new();
        table.numbers(keys, batch.rows, &mut groups)?;
        let mut file_of = vec![0usize; table.len()];
        for (file, (_, groups)) in table.partition_at(PARTITIONS, self.level)?.into_iter().enumerate() {
            for group in groups {
                if let Some(slot) = file_of.get_mut(group as usize) {
                    *slot = file;
                }
            }
        }
        let mut rows: Vec<Vec<u32>> = vec![Vec::new(); PARTITIONS];
        for (row, group) in (0u32..).zip(&groups) {
            if let Some(rows) = file_of.get(*group as usize).and_then(|file| rows.get_mut(*file)) {
                rows.push(row);
            }
        }
        for (file, rows) in self.files.iter_mut().zip(rows) {
            if rows.is_empty() {
                continue;
            }
            let places = encode_positions(rows.iter().map(|row| known(numbers, *row as usize)));
            let mut part = batch.take(&UInt32Array::from(rows))?;
            part.columns.insert(0, places);
            file.push(part)?;
        }
        Ok(())
    }

    /// Ends the files; gives one run for each partition, whose first column has the positions of its rows.
    pub(crate) fn finish(mut self) -> Result<Vec<Run>> {
        self.settle()?;
        self.files.into_iter().map(PartitionFile::finish).collect()
    }
}

/// The output of an operator for one input batch: the output rows, and, unless there is one output row for each input
/// row, which input rows they replace (a bit for each input row; as many bits are set as there are output rows).
pub(crate) type Transformed = (Batch, Option<BooleanArray>);

/// An operator over the rows of one partition, which has all rows of its keys in input order.
pub(crate) trait PartitionOperator: Send + Sync {
    /// Computes the output of each input batch, in order.
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>>;

    /// The operator for a partition that does not fit in memory and cannot be partitioned further, as one key has most of
    /// its rows. `None`: such a partition is an error of kind `Memory`.
    fn external(&self) -> Option<&dyn ExternalOperator> {
        None
    }
}

/// An operator over a partition that stays on disk.
pub(crate) trait ExternalOperator {
    /// Reads a run and writes the run of its output rows. The first column of both has positions.
    fn run_external(&self, run: &Run, disk: &Disk) -> Result<Run>;
}

impl<F: Fn(Vec<Batch>) -> Result<Vec<Transformed>> + Send + Sync> PartitionOperator for F {
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        self(batches)
    }
}

/// Runs an operator over partitions on disk.
pub(crate) struct Partitions<'a> {
    pub(crate) kinds: &'a [Type],
    /// The keys of some rows.
    pub(crate) keys: &'a dyn Fn(&Batch) -> Result<Vec<ArrayRef>>,
    pub(crate) process: &'a dyn PartitionOperator,
    /// What the process holds beside the rows.
    pub(crate) bytes_a_row: usize,
    pub(crate) spill: &'a Spill,
    pub(crate) threads: Threads,
}

/// How often rows are partitioned at most: after so many times those of one file have one key.
const LEVELS: u32 = 4;

/// Rows that are not repartitioned where there is a way without.
const FEW: u64 = 1 << 14;

impl Partitions<'_> {
    /// Works on the rows of one file after the other; gives the results, each run in order.
    pub(crate) fn processed(&self, runs: Vec<Run>, reservation: &mut Reservation) -> Result<Vec<Run>> {
        let budget = reservation.budget().clone();
        let disk = Disk { spill: self.spill, budget: &budget, threads: &self.threads };
        // Partitions that are many are merged on the way: they are all open.
        let (mut results, mut merged) = (Vec::new(), Vec::new());
        // Without keys all rows are in one file, however often they are partitioned.
        let first = if self.kinds.is_empty() { LEVELS } else { 0 };
        let mut open: Vec<(Run, u32)> = runs.into_iter().rev().map(|run| (run, first)).collect();
        while let Some((run, level)) = open.pop() {
            if run.rows == 0 {
                continue;
            }
            if results.len() >= merge::MOST {
                reservation.hold(0)?;
                merged.push(merge::one(std::mem::take(&mut results), &disk)?);
            }
            let large = self.process.external();
            let Some(mut batches) = self.load(&run, large.is_some(), reservation)? else {
                reservation.hold(0)?;
                memory::give_back();
                if level == LEVELS || (large.is_some() && run.rows <= FEW) {
                    results.push(large.ok_or_else(|| disk.budget.refused())?.run_external(&run, &disk)?);
                    continue;
                }
                let parts = self.repartitioned(&run, level + 1)?;
                // One key has all rows: no further partitioning can separate them.
                let whole = parts.iter().any(|part| part.rows == run.rows);
                open.extend(parts.into_iter().map(|part| (part, if whole { LEVELS } else { level + 1 })));
                continue;
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
            results.push(writer.finish()?);
        }
        reservation.hold(0)?;
        merged.append(&mut results);
        Ok(merged)
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
        let mut writer = PartitionWriter::at_level(self.kinds.to_vec(), level, self.spill)?;
        for batch in run.reader()?.into_iter().flatten() {
            let mut batch = batch?;
            let places = decode_positions(&batch.columns.remove(0))?;
            let places: Vec<u64> = places.values().iter().map(|place| place.cast_unsigned()).collect();
            writer.push(&batch, &(self.keys)(&batch)?, &places)?;
        }
        writer.finish()
    }
}

/// The rows of a [`PartitionedSink`] while they fit in memory.
pub(crate) trait HeldRows: Send + Sized {
    /// The worker side of the sink.
    type Worker: Worker;

    /// Adds the rows of the next part; gives about the bytes that it holds, and how many rows it has.
    fn push(&mut self, part: PartOf<Self>) -> Result<(usize, usize)>;

    /// All rows as they came; from now on none is held.
    fn drain(&mut self) -> Result<Vec<Batch>>;

    /// The output over all rows, which hold what is reserved.
    fn finish(self, reservation: Reservation) -> Result<Materialized>;
}

type PartOf<H> = <<H as HeldRows>::Worker as Worker>::Part;

/// Rows that are held as they came, for an operator over all of them.
pub(crate) struct HeldBatches {
    process: Arc<dyn PartitionOperator>,
    batches: Vec<Batch>,
}

impl HeldRows for HeldBatches {
    type Worker = CompactBatches;

    fn push(&mut self, batch: Batch) -> Result<(usize, usize)> {
        let held = (batch.memory(), batch.rows);
        self.batches.push(batch);
        Ok(held)
    }

    fn drain(&mut self) -> Result<Vec<Batch>> {
        Ok(std::mem::take(&mut self.batches))
    }

    fn finish(self, _: Reservation) -> Result<Materialized> {
        let made = self.process.rows(self.batches)?;
        Ok(Materialized::Batches(made.into_iter().map(|(batch, _)| batch).collect()))
    }
}

/// A sink that runs a [`PartitionOperator`] over all its rows: at once while they fit in memory, else by partitions.
pub(crate) struct PartitionedSink<H> {
    /// Places of the keys among the columns.
    keys: Vec<usize>,
    kinds: Vec<Type>,
    held: H,
    process: Arc<dyn PartitionOperator>,
    /// What the process holds beside the rows.
    bytes_a_row: usize,
    spill: Spill,
    threads: Threads,
    reservation: Reservation,
    writer: Option<PartitionWriter>,
    row: u64,
}

impl PartitionedSink<HeldBatches> {
    /// A sink that holds rows as they came.
    pub(crate) fn sink(
        keys: Vec<usize>,
        kinds: Vec<Type>,
        (process, bytes_a_row): (Arc<dyn PartitionOperator>, usize),
        context: &Context,
    ) -> Sink<CompactBatches, PartitionedSink<HeldBatches>> {
        let held = HeldBatches { process: process.clone(), batches: Vec::new() };
        let commit = PartitionedSink::new((keys, kinds), held, (process, bytes_a_row), context);
        Sink { worker: Arc::new(CompactBatches), commit }
    }
}

impl<H: HeldRows> PartitionedSink<H> {
    /// The ordered side of a sink over rows with these keys and their types.
    pub(crate) fn new(
        (keys, kinds): (Vec<usize>, Vec<Type>),
        held: H,
        (process, bytes_a_row): (Arc<dyn PartitionOperator>, usize),
        context: &Context,
    ) -> PartitionedSink<H> {
        PartitionedSink {
            keys,
            kinds,
            held,
            process,
            bytes_a_row,
            spill: context.spill.clone(),
            threads: context.threads().clone(),
            reservation: context.budget.reservation(),
            writer: None,
            row: 0,
        }
    }

    /// Writes the rows that are held to their partitions.
    fn partition(&mut self) -> Result<()> {
        for batch in self.held.drain()? {
            let keys = batch.columns_at(&self.keys);
            let numbers: Vec<u64> = (self.row..self.row + batch.rows as u64).collect();
            self.row += batch.rows as u64;
            if self.writer.is_none() {
                self.writer = Some(PartitionWriter::new(self.kinds.clone(), &self.spill)?);
            }
            if let Some(writer) = &mut self.writer {
                writer.push(&batch, &keys, &numbers)?;
            }
        }
        Ok(())
    }
}

impl<H: HeldRows> Commit for PartitionedSink<H> {
    type Part = PartOf<H>;
    type Output = Materialized;

    fn commit(&mut self, part: PartOf<H>, _: &mut MorselOutput) -> Result<bool> {
        let (bytes, rows) = self.held.push(part)?;
        if self.writer.is_some() {
            return self.partition().map(|()| true);
        }
        if !self.reservation.try_add(bytes + rows * self.bytes_a_row) {
            self.partition()?;
            self.reservation.hold(0)?;
            memory::give_back();
        }
        Ok(true)
    }

    fn finish(mut self, _: &mut MorselOutput) -> Result<Materialized> {
        let Some(writer) = self.writer.take() else { return self.held.finish(self.reservation) };
        let keys = self.keys.clone();
        let files = Partitions {
            kinds: &self.kinds,
            keys: &|batch| Ok(batch.columns_at(&keys)),
            process: self.process.as_ref(),
            bytes_a_row: self.bytes_a_row,
            spill: &self.spill,
            threads: self.threads.clone(),
        };
        let runs = files.processed(writer.finish()?, &mut self.reservation)?;
        let disk = Disk { spill: &self.spill, budget: self.reservation.budget(), threads: &self.threads };
        Ok(Materialized::Scan(Box::new(Merge::new(runs, None, &disk)?)))
    }
}
