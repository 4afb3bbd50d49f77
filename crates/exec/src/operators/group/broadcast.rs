//! `per`: rows that stay until the results of their groups are known, in memory or in a file.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::cast::AsArray;
use arrow_array::types::UInt32Type;
use arrow_array::{ArrayRef, UInt32Array};
use churn_core::{Batch, OrFault, Result, taken};
use churn_io::memory::Ready;
use churn_io::source::{Capability, Morsel, Scan};

use super::external::ExternalStates;
use super::local::{Grouping, LocalTable};
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::spill::partitioned::{ExternalOperator, PartitionOperator, Transformed};
use crate::spill::{Disk, Run, RunReader, RunWriter, Spill};

/// Rows with the numbers of their groups.
#[derive(Default)]
pub(super) struct BroadcastRows {
    rows: Vec<(Batch, Vec<u32>)>,
    memory: usize,
    /// Where they are once there was no room for them; the numbers are the last column.
    file: Option<RunWriter>,
}

impl BroadcastRows {
    /// Adds rows.
    pub(super) fn push(&mut self, batch: Batch, numbers: Vec<u32>) -> Result<()> {
        if let Some(file) = &mut self.file {
            return write(file, batch, numbers);
        }
        self.memory += batch.memory() + numbers.len() * 4;
        self.rows.push((batch, numbers));
        Ok(())
    }

    /// Bytes in use.
    pub(super) fn memory(&self) -> usize {
        self.memory
    }

    /// Whether the rows are in a file.
    pub(super) fn is_on_disk(&self) -> bool {
        self.file.is_some()
    }

    /// Puts the rows into a file.
    pub(super) fn spill(&mut self, spill: &Spill) -> Result<()> {
        let mut file = spill.writer_alone()?;
        self.memory = 0;
        self.rows.drain(..).try_for_each(|(batch, numbers)| write(&mut file, batch, numbers))?;
        self.file = Some(file);
        Ok(())
    }

    /// Takes all rows, in order, without their numbers.
    pub(super) fn drained(&mut self, mut take: impl FnMut(Batch) -> Result<()>) -> Result<()> {
        self.memory = 0;
        if let Some(file) = self.file.take() {
            for batch in file.finish()?.reader()?.into_iter().flatten() {
                let mut batch = batch?;
                batch.columns.pop();
                take(batch)?;
            }
        }
        self.rows.drain(..).try_for_each(|(batch, _)| take(batch))
    }

    /// The rows with their groups' results at their right.
    pub(super) fn materialized(self, results: Vec<ArrayRef>) -> Result<Materialized> {
        match self.file {
            None => {
                let rows = self.rows.into_iter().map(|(batch, numbers)| broadcast(batch, &numbers, &results));
                Ok(Materialized::Batches(rows.collect::<Result<_>>()?))
            }
            Some(file) => {
                let run = file.finish()?;
                let reader = Mutex::new(run.reader()?);
                Ok(Materialized::Scan(Box::new(SpilledBroadcast {
                    _run: run,
                    reader,
                    results: Arc::new(results),
                })))
            }
        }
    }
}

fn write(file: &mut RunWriter, mut batch: Batch, numbers: Vec<u32>) -> Result<()> {
    batch.columns.push(Arc::new(UInt32Array::from(numbers)));
    file.write(batch)
}

/// What becomes of rows that meet by their keys: each stands beside its group.
pub(super) struct Broadcast(pub(super) Arc<Grouping>);

impl Broadcast {
    /// Adds rows to a table of groups. What happens to values was counted when the workers saw the rows first.
    fn add(local: &mut LocalTable<'_>, batch: Batch) -> Result<()> {
        local.update(batch, &mut MorselOutput::new(0))
    }
}

impl PartitionOperator for Broadcast {
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        let mut local = LocalTable::new(&self.0);
        batches.iter().try_for_each(|batch| Broadcast::add(&mut local, batch.clone()))?;
        let results = ExternalStates::default().results(&mut local.accumulators, local.keys.len());
        let results = results.map_err(|e| e.in_step(&self.0.text))?;
        let rows = std::mem::take(&mut local.rows).into_iter();
        rows.map(|(batch, numbers)| Ok((broadcast(batch, &numbers, &results)?, None))).collect()
    }

    fn external(&self) -> Option<&dyn ExternalOperator> {
        Some(self)
    }
}

impl ExternalOperator for Broadcast {
    /// The rows pass by twice: for the groups, and to stand beside them.
    fn run_external(&self, run: &Run, disk: &Disk) -> Result<Run> {
        let mut local = LocalTable::new(&self.0);
        let (mut external, mut reservation) = (ExternalStates::default(), disk.budget.reservation());
        for batch in run.reader()?.into_iter().flatten() {
            let mut batch = batch?;
            batch.columns.remove(0);
            let rows = batch.rows;
            Broadcast::add(&mut local, batch)?;
            local.rows.clear();
            external.relieve(rows, &mut local.accumulators, &mut reservation, disk)?;
        }
        let results = external.results(&mut local.accumulators, local.keys.len());
        let results = results.map_err(|e| e.in_step(&self.0.text))?;
        let mut made = disk.spill.writer()?;
        for batch in run.reader()?.into_iter().flatten() {
            let mut batch = batch?;
            let places = batch.columns.remove(0);
            let mut numbers = Vec::new();
            local.keys.numbers(&self.0.key_columns(&batch)?, batch.rows, &mut numbers)?;
            let mut batch = broadcast(batch, &numbers, &results)?;
            batch.columns.insert(0, places);
            made.write(batch)?;
        }
        made.finish()
    }
}

/// Rows with the results of their groups.
fn broadcast(batch: Batch, numbers: &[u32], results: &[ArrayRef]) -> Result<Batch> {
    let numbers = UInt32Array::from(numbers.to_vec());
    let mut columns = batch.columns;
    for result in results {
        columns.push(taken(result, &numbers)?);
    }
    Ok(Batch { columns, rows: batch.rows })
}

/// Rows that are read from a file as they are taken.
struct SpilledBroadcast {
    _run: Run,
    reader: Mutex<Option<RunReader>>,
    results: Arc<Vec<ArrayRef>>,
}

impl Scan for SpilledBroadcast {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut reader = self.reader.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(mut batch) = reader.as_mut().and_then(Iterator::next).transpose()? else { return Ok(None) };
        let numbers = batch.columns.pop();
        let numbers = numbers.as_ref().and_then(|n| n.as_primitive_opt::<UInt32Type>());
        let numbers = numbers.or_fault("column of the groups' numbers")?.values();
        Ok(Some(Box::new(Ready::new(broadcast(batch, numbers, &self.results)?))))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        let reader = self.reader.lock().unwrap_or_else(PoisonError::into_inner);
        reader.as_ref().map_or((0, None), RunReader::progress)
    }
}
