//! Materialized rows: results, and tables that are used more than once; and the sinks that make them.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{Array, ArrayRef};
use churn_core::widen::alike;
use churn_core::{Batch, Error, Result, cancel};
use churn_io::memory::{Batches, Ready};
use churn_io::source::{Capability, Morsel, Scan};

use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::{self, Pipeline};
use crate::runtime::sink::{Commit, CompactBatches, Sink};
use crate::spill::{Run, RunReader, RunWriter, Spill};

/// The rows that a sink leaves when its pipeline has run.
pub(crate) enum Materialized {
    Batches(Vec<Batch>),
    /// Rows that are made, or read from disk, as they are taken.
    Scan(Box<dyn Scan>),
}

impl Materialized {
    /// A source of the rows for the next pipeline.
    pub(crate) fn scan(self) -> Box<dyn Scan> {
        match self {
            Materialized::Batches(batches) => Box::new(Batches::new(batches)),
            Materialized::Scan(scan) => scan,
        }
    }
}

/// Parts of a large batch that workers can share.
pub(crate) fn slices(batch: Batch) -> Vec<Batch> {
    slices_of(batch, 1 << 14)
}

/// Parts of a batch of so many rows.
pub(crate) fn slices_of(batch: Batch, rows: usize) -> Vec<Batch> {
    if batch.rows <= rows {
        return vec![batch];
    }
    let starts = (0..batch.rows).step_by(rows);
    starts.map(|from| batch.slice(from, rows.min(batch.rows - from))).collect()
}

/// All rows, for the caller: what they hold is the caller's, not the run's.
pub struct Collect(Vec<Batch>);

impl Collect {
    /// A sink whose output is the rows in memory, in order.
    pub fn sink() -> Sink<CompactBatches, Collect> {
        Sink { worker: Arc::new(CompactBatches), commit: Collect(Vec::new()) }
    }
}

impl Commit for Collect {
    type Part = Batch;
    type Output = Vec<Batch>;

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        if batch.rows > 0 {
            self.0.push(batch);
        }
        Ok(true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<Vec<Batch>> {
        Ok(self.0)
    }
}

/// The sink of [`materialize`]: rows in memory, or in a file if they do not fit.
struct TableBuffer {
    batches: Vec<Batch>,
    file: Option<RunWriter>,
    spill: Spill,
    reservation: Reservation,
    /// Bytes that stay in memory, at most.
    most: usize,
}

/// A table that has run, to be read any number of times.
#[derive(Clone)]
pub(crate) enum MaterializedTable {
    InMemory(Arc<(Vec<Batch>, Reservation)>),
    Spilled(Run),
}

impl MaterializedTable {
    /// How many rows there are.
    pub(crate) fn rows(&self) -> u64 {
        match self {
            MaterializedTable::InMemory(table) => table.0.iter().map(|batch| batch.rows as u64).sum(),
            MaterializedTable::Spilled(run) => run.rows,
        }
    }

    /// The rows, for the next pipeline.
    pub(crate) fn materialized(&self) -> Result<Materialized> {
        match self {
            MaterializedTable::InMemory(table) => Ok(Materialized::Batches(table.0.clone())),
            MaterializedTable::Spilled(run) => {
                Ok(Materialized::Scan(Box::new(SpilledRows(Mutex::new(run.reader()?)))))
            }
        }
    }
}

/// Runs a pipeline and materializes its rows.
pub(crate) fn materialize(pipeline: Pipeline, context: &Context) -> Result<MaterializedTable> {
    materialize_within(usize::MAX, pipeline, context)
}

/// Runs a pipeline and materializes its rows, so many bytes of them in memory at most.
pub(crate) fn materialize_within(
    most: usize,
    pipeline: Pipeline,
    context: &Context,
) -> Result<MaterializedTable> {
    pipeline::run(pipeline, buffer(most, context), context)
}

/// Runs a pipeline and materializes its rows up to the first one that is wrong; gives them, and the error of that row.
pub(crate) fn materialize_to_error(
    pipeline: Pipeline,
    context: &Context,
) -> Result<(MaterializedTable, Option<Error>)> {
    pipeline::run_to_error(pipeline, buffer(usize::MAX, context), context)
}

/// The sink that materializes rows, so many bytes of them in memory at most.
fn buffer(most: usize, context: &Context) -> Sink<CompactBatches, TableBuffer> {
    let (spill, reservation) = (context.spill.clone(), context.budget.reservation());
    let commit = TableBuffer { batches: Vec::new(), file: None, spill, reservation, most };
    Sink { worker: Arc::new(CompactBatches), commit }
}

impl Commit for TableBuffer {
    type Part = Batch;
    type Output = MaterializedTable;

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        if let Some(file) = &mut self.file {
            return file.write(batch).map(|()| true);
        }
        if batch.rows > 0 {
            let fits = self.reservation.try_add(batch.memory()) && self.reservation.bytes() <= self.most;
            self.batches.push(batch);
            if !fits {
                let mut file = self.spill.writer_alone()?;
                self.batches.drain(..).try_for_each(|batch| file.write(batch))?;
                self.file = Some(file);
                self.reservation.hold(0)?;
            }
        }
        Ok(true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<MaterializedTable> {
        let TableBuffer { batches, file, reservation, .. } = self;
        Ok(match file {
            Some(file) => MaterializedTable::Spilled(file.finish()?),
            None => MaterializedTable::InMemory(Arc::new((batches, reservation))),
        })
    }
}

/// Rows in a file, batch by batch.
struct SpilledRows(Mutex<Option<RunReader>>);

impl Scan for SpilledRows {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut reader = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let batch = reader.as_mut().and_then(Iterator::next).transpose()?;
        Ok(batch.map(|batch| Box::new(Ready::new(batch)) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        let reader = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        reader.as_ref().map_or((0, None), RunReader::progress)
    }
}

/// One batch of many small ones.
pub(crate) fn concat(batches: Vec<Batch>) -> Result<Vec<Batch>> {
    let Some(first) = batches.first() else { return Ok(Vec::new()) };
    let mut columns = Vec::new();
    for i in 0..first.columns.len() {
        cancel::check()?;
        let mut parts: Vec<ArrayRef> = batches.iter().filter_map(|b| b.columns.get(i).cloned()).collect();
        alike(&mut parts)?;
        let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
        columns.push(arrow_select::concat::concat(&parts).map_err(churn_core::arrow_error)?);
    }
    Ok(vec![Batch { columns, rows: batches.iter().map(|b| b.rows).sum() }])
}
