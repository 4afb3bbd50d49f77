//! An as-of join whose build side does not fit in memory.
//!
//! The rows of a build-side partition are sorted on disk by the column that is compared: falling where the nearest row
//! is the greatest one not above the left row (`>`, `>=`), rising where it is the least one not below it; of equal rows
//! the last in input order comes first. Blocks of that file are loaded one after the other and probed with all left
//! rows: the first match that a left row finds is its nearest one, and later blocks cannot have a nearer. Rows that
//! matched none are sorted back by their positions at the end. Cost: two external sorts of the partition, and one pass
//! over the left rows for each block.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use arrow_array::{ArrayRef, UInt32Array};
use churn_core::{Batch, OrFault, Result, Type};
use churn_expr::ast::Binary;

use super::spec::JoinSpec;
use crate::operators::sort::{OrderKey, Sorter, batches};
use crate::spill::partitioned::{decode_positions, encode_positions};
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

/// The first column, places as bytes, is a number while it is sorted by.
fn sorted(run: &Run, keys: Vec<OrderKey>, disk: &Disk) -> Result<Run> {
    let replaced = |mut batch: Batch, places: &dyn Fn(&ArrayRef) -> Result<ArrayRef>| {
        if let Some(column) = batch.columns.first_mut() {
            *column = places(column)?;
        }
        Ok(batch)
    };
    let mut sorter = Sorter::new(keys, disk)?;
    for batch in run.reader()?.into_iter().flatten() {
        sorter.push(replaced(batch?, &|places| Ok(Arc::new(decode_positions(places)?)))?)?;
    }
    let mut writer = disk.spill.writer()?;
    for batch in batches(sorter.finish()?) {
        let as_bytes = |places: &ArrayRef| {
            let numbers = places.as_primitive_opt::<Int64Type>().or_fault("column of places")?.values();
            Ok(encode_positions(numbers.iter().map(|n| n.cast_unsigned())))
        };
        writer.write(replaced(batch?, &as_bytes)?)?;
    }
    writer.finish()
}

/// The rows of a batch from the last to the first.
pub(super) fn reversed(batch: Batch) -> Result<Batch> {
    batch.take(&UInt32Array::from((0..batch.rows as u32).rev().collect::<Vec<_>>()))
}
