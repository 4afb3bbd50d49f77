//! The keys that were seen, for steps that tell rows of new keys from others: in memory as long as they fit; from then
//! on rows of keys that the table lacks are partitioned to files.

use arrow_array::ArrayRef;
use churn_core::parallel::Threads;
use churn_core::{Batch, Result, Type};

use super::rows_per_key::numbers_of;
use crate::keys::KeyTable;
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::spill::partitioned::{PartitionOperator, PartitionWriter, Partitions, position_column};
use crate::spill::{Run, RunWriter, Spill};

/// The keys of all rows so far.
pub(crate) struct SeenKeys {
    pub(crate) keys: Vec<usize>,
    pub(super) kinds: Vec<Type>,
    table: KeyTable,
    pub(super) reservation: Reservation,
    pub(super) spill: Spill,
    pub(super) threads: Threads,
    /// The place of the next row.
    pub(super) row: u64,
    pub(super) full: Option<Full>,
}

/// Where rows go once the table is full.
pub(super) struct Full {
    /// Rows of unknown keys.
    pub(super) writer: PartitionWriter,
    /// Rows that pass, with their places.
    pub(super) passed: RunWriter,
}

impl Full {
    pub(super) fn pass(&mut self, mut batch: Batch, places: impl Iterator<Item = u64>) -> Result<()> {
        batch.columns.insert(0, position_column(places));
        self.passed.write(batch)
    }
}

/// Rows of a batch, with their keys and places, and the numbers of known keys.
pub(super) struct UnknownRows {
    pub(super) batch: Batch,
    pub(super) keys: Vec<ArrayRef>,
    pub(super) places: Vec<u64>,
    pub(super) numbers: Vec<u32>,
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
    pub(super) fn weigh(&mut self) -> Result<()> {
        // A table that grows holds its old places beside the new ones for a moment.
        if !self.reservation.try_hold(self.table.memory() / 2 * 3) {
            let writer = PartitionWriter::new(self.kinds.clone(), &self.spill, &self.threads)?;
            self.full = Some(Full { writer, passed: self.spill.writer()? });
        }
        Ok(())
    }

    /// Lets go of the keys: all rows have come.
    pub(super) fn forget(&mut self) -> Result<()> {
        self.table = KeyTable::new(self.kinds.clone());
        self.reservation.hold(0)
    }

    /// The numbers of the rows' keys, and how many keys there are then.
    pub(super) fn numbers(&mut self, batch: &Batch) -> Result<(Vec<u32>, usize)> {
        let numbers = numbers_of(&mut self.table, batch, &self.keys)?;
        Ok((numbers, self.table.len()))
    }

    /// Which rows are the first of their keys.
    pub(super) fn first_rows(&mut self, batch: &Batch) -> Result<Vec<bool>> {
        let mut next = self.table.len() as u32;
        let is_first = |number: &u32| {
            let is_first = *number == next;
            next += u32::from(is_first);
            is_first
        };
        Ok(numbers_of(&mut self.table, batch, &self.keys)?.iter().map(is_first).collect())
    }

    /// What becomes of rows of unknown keys.
    pub(super) fn processed(
        &self,
        partitions: Vec<Run>,
        process: &dyn PartitionOperator,
    ) -> Result<Vec<Run>> {
        let files = Partitions {
            kinds: &self.kinds,
            keys: &|batch| Ok(batch.columns_at(&self.keys)),
            process,
            bytes_a_row: 8,
            spill: &self.spill,
            threads: self.threads.clone(),
        };
        files.processed(partitions, &mut self.reservation.budget().reservation())
    }

    /// The rows whose keys the full table knows, and the others.
    pub(super) fn split(&mut self, batch: &Batch, first: u64) -> Result<(UnknownRows, UnknownRows)> {
        let keys = batch.columns_at(&self.keys);
        let mut numbers = Vec::new();
        self.table.find(&keys, batch.rows, &mut numbers)?;
        let part = |known: bool| {
            let is_known: Vec<bool> = numbers.iter().map(|n| (*n != u32::MAX) == known).collect();
            let rows = || is_known.iter().enumerate().filter(|(_, is)| **is).map(|(row, _)| row);
            let places = rows().map(|row| first + row as u64).collect();
            let found = rows().filter_map(|row| numbers.get(row).copied()).collect();
            let batch = batch.filter(&is_known.into())?;
            let keys = batch.columns_at(&self.keys);
            Ok(UnknownRows { batch, keys, places, numbers: found })
        };
        Ok((part(true)?, part(false)?))
    }
}
