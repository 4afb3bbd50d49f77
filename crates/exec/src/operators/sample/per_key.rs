//! `sample N per COLS`: so many random rows of each key, those with the smallest lots, in input order.
//!
//! Each row gets its lot before rows are partitioned by key, so that the choice depends on the seed and the row's place alone.

use std::collections::BinaryHeap;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::UInt64Type;
use arrow_array::{BooleanArray, UInt64Array};
use churn_core::{Batch, OrFault, Result, Type};

use super::lot;
use super::rows::enters;
use crate::keys::KeyTable;
use crate::operators::rows_per_key::numbers_of;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::serial::SerialOp;
use crate::spill::partitioned::{ExternalOperator, PartitionOperator, Transformed};
use crate::spill::{Disk, Run};

/// Adds each row's lot as the last column.
pub(crate) struct AddLots {
    seed: u64,
    row: u64,
}

impl AddLots {
    pub(crate) fn new(seed: u64) -> AddLots {
        AddLots { seed, row: 0 }
    }
}

impl SerialOp for AddLots {
    fn apply(&mut self, mut batch: Batch, _: &mut MorselOutput) -> Result<Batch> {
        let rows = self.row..self.row + batch.rows as u64;
        self.row = rows.end;
        let lots: UInt64Array = rows.map(|row| Some(lot(self.seed, row))).collect();
        batch.columns.push(Arc::new(lots));
        Ok(batch)
    }
}

/// Keeps the rows of each key with the smallest lots; the last column has them.
pub(crate) struct SamplePerKey {
    pub(crate) keys: Vec<usize>,
    pub(crate) kinds: Vec<Type>,
    pub(crate) count: usize,
}

/// The smallest lots of each key, with the places of their rows; the largest on top.
struct Chosen<'a> {
    keys: Vec<usize>,
    table: KeyTable,
    best: Vec<BinaryHeap<(u64, u64)>>,
    row: u64,
    how: &'a SamplePerKey,
}

impl<'a> Chosen<'a> {
    /// None yet, of batches whose keys stand so many columns later.
    fn new(how: &'a SamplePerKey, later: usize) -> Chosen<'a> {
        Chosen {
            keys: how.keys.iter().map(|key| key + later).collect(),
            table: KeyTable::new(how.kinds.clone()),
            best: Vec::new(),
            row: 0,
            how,
        }
    }

    /// The key's number, the lot and the place of each of the next rows.
    fn entries(&mut self, batch: &Batch) -> Result<Vec<(usize, (u64, u64))>> {
        let numbers = numbers_of(&mut self.table, batch, &self.keys)?;
        let lots = batch.columns.last().and_then(|lots| lots.as_primitive_opt::<UInt64Type>());
        let lots = lots.or_fault("column of lots")?.values();
        let first = self.row;
        self.row += batch.rows as u64;
        let entries = numbers.iter().zip(lots).zip(first..);
        Ok(entries.map(|((number, lot), row)| (*number as usize, (*lot, row))).collect())
    }

    /// Takes the lots of the next rows in.
    fn add(&mut self, batch: &Batch) -> Result<()> {
        for (number, entry) in self.entries(batch)? {
            if number >= self.best.len() {
                self.best.resize_with(self.table.len(), BinaryHeap::new);
            }
            if let Some(best) = self.best.get_mut(number) {
                enters(best, self.how.count, entry);
            }
        }
        Ok(())
    }

    /// Which of the next rows are chosen, once all were taken in and are gone through again.
    fn keep(&mut self, batch: &Batch) -> Result<BooleanArray> {
        let entries = self.entries(batch)?;
        // Of a count of none the heaps are empty.
        let is_in = |(number, entry): (usize, (u64, u64))| {
            self.best.get(number).and_then(BinaryHeap::peek).is_some_and(|worst| entry <= *worst)
        };
        Ok(entries.into_iter().map(|entry| Some(is_in(entry))).collect())
    }
}

impl PartitionOperator for SamplePerKey {
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        let mut chosen = Chosen::new(self, 0);
        batches.iter().try_for_each(|batch| chosen.add(batch))?;
        chosen.row = 0;
        let kept = |batch: &Batch| {
            let keep = chosen.keep(batch)?;
            Ok((batch.filter(&keep)?, Some(keep)))
        };
        batches.iter().map(kept).collect()
    }

    fn external(&self) -> Option<&dyn ExternalOperator> {
        Some(self)
    }
}

impl ExternalOperator for SamplePerKey {
    /// One key has nearly all rows: they pass by twice, for their lots and to be kept or not.
    fn run_external(&self, run: &Run, disk: &Disk) -> Result<Run> {
        let mut chosen = Chosen::new(self, 1);
        for batch in run.reader()?.into_iter().flatten() {
            chosen.add(&batch?)?;
        }
        chosen.row = 0;
        let mut kept = disk.spill.writer()?;
        for batch in run.reader()?.into_iter().flatten() {
            let batch = batch?;
            let keep = chosen.keep(&batch)?;
            kept.write(batch.filter(&keep)?)?;
        }
        kept.finish()
    }
}
