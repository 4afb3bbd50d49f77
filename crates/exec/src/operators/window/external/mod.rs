//! Windows whose partitions do not fit in memory.
//!
//! The columns that the window uses are sorted on disk by partition and order. Every call then goes through that file
//! from front to back, a piece of rows at a time, with as many readers as its rows have ends to look at: the row
//! itself, where its frame begins, where it ends. The results are sorted back to the places of their rows.

mod calls;
mod cursor;
mod sorted;

use churn_core::{Result, Type};
use cursor::PartitionCursor;
use sorted::{PLACE, SortedPartition};

use super::Window;
use crate::operators::sort::{OrderKey, Sorter, batches};
use crate::spill::{Disk, Run};

/// Rows that are worked on together.
const PIECE: usize = 1 << 12;

/// The rows of a file, the columns that come out, with the results behind them; the first column are the places.
pub(super) fn run_external(window: &Window, run: &Run, disk: &Disk) -> Result<Run> {
    let sorted = SortedPartition::new(window, run, disk)?;
    let mut calls = window
        .calls
        .iter()
        .map(|call| calls::worked(call, window, &sorted, disk))
        .collect::<Result<Vec<_>>>()?;
    let mut back = Sorter::new(vec![OrderKey::column(0, Type::Int, false, false)], disk)?;
    let mut places = sorted.cursor(&[PLACE])?;
    for (number, partition) in sorted.partitions.iter().enumerate() {
        for from in partition.rows.clone().step_by(PIECE) {
            let rows = from..partition.rows.end.min(from + PIECE);
            let mut batch = places.rows(rows.clone())?;
            for call in &mut calls {
                batch.columns.push(call.piece(number, partition, &rows)?);
            }
            back.push(batch)?;
        }
    }
    drop(calls);
    let width = window.calls.len();
    let mut results = PartitionCursor::new(batches(back.finish()?), (1..=width).collect());
    let mut made = disk.spill.writer()?;
    let mut from = 0;
    for batch in run.reader()?.into_iter().flatten() {
        let mut batch = batch?;
        let kept = std::iter::once(0).chain(window.kept.iter().map(|place| place + 1));
        batch.columns = kept.filter_map(|place| batch.columns.get(place).cloned()).collect();
        batch.columns.extend(results.rows(from..from + batch.rows)?.columns);
        from += batch.rows;
        made.write(batch)?;
    }
    made.finish()
}
