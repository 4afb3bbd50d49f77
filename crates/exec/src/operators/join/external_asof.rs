//! An as-of join whose build side does not fit in memory.
//!
//! The rows of a build-side partition are sorted on disk by the column that is compared: falling where the nearest row
//! is the greatest one not above the left row (`>`, `>=`), rising where it is the least one not below it; of equal rows
//! the last in input order comes first. Blocks of that file are loaded one after the other and probed with all left
//! rows: the first match that a left row finds is its nearest one, and later blocks cannot have a nearer. Rows that
//! matched none are sorted back by their positions at the end. Cost: two external sorts of the partition, and one pass
//! over the left rows for each block.

use arrow_array::UInt32Array;
use churn_core::{Batch, Result, Type};
use churn_expr::ast::Binary;

use super::spec::JoinSpec;
use crate::operators::sort::{OrderKey, Sorter, batches};
use crate::spill::{Disk, Run};

/// The rows of a file, nearest first; of equally near ones the last comes first.
pub(super) fn nearest_first(how: &JoinSpec, run: &Run, disk: &Disk) -> Result<Run> {
    let mut keys = Vec::new();
    if let Some(test) = how.tests.first() {
        let column = 1 + how.added.len() + how.keys.len();
        let is_from_below = matches!(test.op, Binary::Greater | Binary::GreaterEqual);
        keys.push(OrderKey::column(column, test.kind.clone(), is_from_below, false));
    }
    keys.push(OrderKey::column(0, Type::Int, true, false));
    sorted(run, keys, disk)
}

/// The rows of a file in the order of their places.
pub(super) fn by_place(run: &Run, disk: &Disk) -> Result<Run> {
    sorted(run, vec![OrderKey::column(0, Type::Int, false, false)], disk)
}

fn sorted(run: &Run, keys: Vec<OrderKey>, disk: &Disk) -> Result<Run> {
    let mut sorter = Sorter::new(keys, disk)?;
    for batch in run.reader()?.into_iter().flatten() {
        sorter.push(batch?)?;
    }
    let mut writer = disk.spill.writer()?;
    batches(sorter.finish()?).try_for_each(|batch| writer.write(batch?))?;
    writer.finish()
}

/// The rows of a batch from the last to the first.
pub(super) fn reversed(batch: Batch) -> Result<Batch> {
    batch.take(&UInt32Array::from((0..batch.rows as u32).rev().collect::<Vec<_>>()))
}
