//! The first or the last rows of each key.

use std::sync::Arc;

use arrow_array::BooleanArray;
use churn_core::{Batch, Result, Type};

use crate::keys::KeyTable;
use crate::spill::partitioned::{ExternalOperator, PartitionOperator, Transformed};
use crate::spill::{Disk, Run};

/// So many rows of each key.
struct RowsPerKey {
    keys: Vec<usize>,
    kinds: Vec<Type>,
    count: usize,
    /// Whether they are the last ones.
    last: bool,
}

/// Keeps the first rows of each key.
pub(crate) fn first_rows(keys: Vec<usize>, kinds: Vec<Type>, count: usize) -> Arc<dyn PartitionOperator> {
    Arc::new(RowsPerKey { keys, kinds, count, last: false })
}

/// Keeps the last rows of each key.
pub(crate) fn last_rows(keys: Vec<usize>, kinds: Vec<Type>, count: usize) -> Arc<dyn PartitionOperator> {
    Arc::new(RowsPerKey { keys, kinds, count, last: true })
}

impl PartitionOperator for RowsPerKey {
    /// The last rows are the first ones from the other end.
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        let mut table = KeyTable::new(self.kinds.clone());
        let mut seen: Vec<usize> = Vec::new();
        let mut keep = |batch: &Batch| {
            let mut numbers = numbers_of(&mut table, batch, &self.keys)?;
            seen.resize(table.len(), 0);
            if self.last {
                numbers.reverse();
            }
            let mut keep = within(&numbers, &mut seen, self.count);
            if self.last {
                keep.reverse();
            }
            let keep: BooleanArray = keep.into();
            Ok((batch.filter(&keep)?, Some(keep)))
        };
        if !self.last {
            return batches.iter().map(&mut keep).collect();
        }
        let mut kept: Vec<Transformed> = batches.iter().rev().map(&mut keep).collect::<Result<_>>()?;
        kept.reverse();
        Ok(kept)
    }

    fn external(&self) -> Option<&dyn ExternalOperator> {
        Some(self)
    }
}

impl ExternalOperator for RowsPerKey {
    /// One key has nearly all rows: the table of keys is small, and the rows pass by, twice where the last are wanted.
    fn run_external(&self, run: &Run, disk: &Disk) -> Result<Run> {
        let mut table = KeyTable::new(self.kinds.clone());
        let keys: Vec<usize> = self.keys.iter().map(|key| key + 1).collect();
        // Of each key how many rows are passed over yet.
        let mut over: Vec<usize> = Vec::new();
        for batch in run.reader()?.into_iter().flatten().filter(|_| self.last) {
            let numbers = numbers_of(&mut table, &batch?, &keys)?;
            over.resize(table.len(), 0);
            numbers
                .iter()
                .for_each(|number| over.get_mut(*number as usize).into_iter().for_each(|n| *n += 1));
        }
        over.iter_mut().for_each(|rows| *rows = rows.saturating_sub(self.count));
        let mut seen: Vec<usize> = Vec::new();
        let mut kept = disk.spill.writer()?;
        for batch in run.reader()?.into_iter().flatten() {
            let batch = batch?;
            let numbers = numbers_of(&mut table, &batch, &keys)?;
            seen.resize(table.len(), 0);
            let keep: Vec<bool> = if self.last {
                let is_over = |number: &u32| over.get_mut(*number as usize).is_some_and(passed_over);
                numbers.iter().map(is_over).map(|over| !over).collect()
            } else {
                within(&numbers, &mut seen, self.count)
            };
            kept.write(batch.filter(&keep.into())?)?;
        }
        kept.finish()
    }
}

/// Whether a row is passed over, while there are rows that are.
fn passed_over(left: &mut usize) -> bool {
    let is = *left > 0;
    *left -= usize::from(is);
    is
}

/// Which rows are among the first `count` of their group.
pub(crate) fn within(numbers: &[u32], seen: &mut [usize], count: usize) -> Vec<bool> {
    let is_within = |number: &u32| {
        let Some(seen) = seen.get_mut(*number as usize) else { return false };
        *seen += 1;
        *seen <= count
    };
    numbers.iter().map(is_within).collect()
}

/// The number of each row's key.
pub(crate) fn numbers_of(table: &mut KeyTable, batch: &Batch, keys: &[usize]) -> Result<Vec<u32>> {
    let mut numbers = Vec::new();
    table.numbers(&batch.columns_at(keys), batch.rows, &mut numbers)?;
    Ok(numbers)
}
