//! Sorted runs on disk as one sorted table.
//!
//! The first column of a run is its key, bytes that compare as rows are ordered or a number; equal keys of two runs come in the
//! order of the runs. The merge itself runs in the ordered part of a pipeline and only decides which rows come
//! next; the worker that takes a morsel gathers their columns.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::sync::{Mutex, PoisonError};

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, Int64Array, LargeBinaryArray};
use churn_core::{Batch, OrFault, Result};
use churn_io::source::{Capability, Decoded, Guess, Morsel, RowTest, Scan};

use crate::spill::{Disk, Run, RunReader};

/// Rows of a morsel, and about how many bytes they take.
const ROWS: usize = 1 << 13;
const BYTES: usize = 1 << 20;

/// Bytes that runs may take while they are merged, whatever the account.
const LITTLE: usize = 24 << 20;

/// Runs that are merged at once, at most: each is an open file.
pub(crate) const MOST: usize = 128;

/// What the rows of a run are in the order of.
trait RunKey: Ord + Sized + Send {
    /// A column of them.
    type Column: Send;

    fn column(column: &ArrayRef) -> Option<Self::Column>;

    /// The key of a row, which the column has.
    fn of(column: &Self::Column, row: usize) -> Self;

    /// The same, in place of another.
    fn replace(&mut self, column: &Self::Column, row: usize) {
        *self = Self::of(column, row);
    }
}

impl RunKey for Vec<u8> {
    type Column = LargeBinaryArray;

    fn column(column: &ArrayRef) -> Option<LargeBinaryArray> {
        column.as_binary_opt().cloned()
    }

    fn of(column: &LargeBinaryArray, row: usize) -> Vec<u8> {
        column.value(row).to_vec()
    }

    fn replace(&mut self, column: &LargeBinaryArray, row: usize) {
        self.clear();
        self.extend_from_slice(column.value(row));
    }
}

impl RunKey for i64 {
    type Column = Int64Array;

    fn column(column: &ArrayRef) -> Option<Int64Array> {
        column.as_primitive_opt().cloned()
    }

    fn of(column: &Int64Array, row: usize) -> i64 {
        column.value(row)
    }
}

/// A run being read; its batch has a row that is next.
struct RunCursor<K: RunKey> {
    reader: RunReader,
    keys: K::Column,
    batch: Batch,
    row: usize,
    /// The place of the batch among those that the morsel being made takes rows from.
    source: Option<usize>,
}

impl<K: RunKey> RunCursor<K> {
    /// Starts with a run; `None` if it has no rows.
    fn new(run: &Run) -> Result<Option<RunCursor<K>>> {
        let Some(mut reader) = run.reader()? else { return Ok(None) };
        let Some(batch) = reader.next().transpose()? else { return Ok(None) };
        Ok(Some(RunCursor { reader, keys: Self::keys(&batch)?, batch, row: 0, source: None }))
    }

    fn keys(batch: &Batch) -> Result<K::Column> {
        batch.columns.first().and_then(K::column).or_fault("key of a run on disk")
    }

    /// Goes to the next batch of the run; false at its end.
    fn advance(&mut self) -> Result<bool> {
        let Some(batch) = self.reader.next().transpose()? else { return Ok(false) };
        (self.keys, self.row, self.source) = (Self::keys(&batch)?, 0, None);
        self.batch = batch;
        Ok(true)
    }
}

/// The merge of some runs.
pub(crate) struct Merge {
    state: Mutex<Box<dyn MergeState>>,
    /// The rows that it gives.
    rows: u64,
}

/// Runs being merged.
trait MergeState: Send {
    /// Decides which rows come next.
    fn next(&mut self) -> Result<Option<Merged>>;

    /// The rows that were given.
    fn given(&self) -> u64;
}

struct MergeBy<K: RunKey> {
    cursors: Vec<RunCursor<K>>,
    /// The runs by their next key.
    heads: BinaryHeap<Reverse<(K, usize)>>,
    /// The most rows that are still wanted.
    left: usize,
    /// The rows that were given.
    given: u64,
    /// Rows of a morsel.
    rows: usize,
}

impl Merge {
    /// Starts the merge of these runs; gives at most `keep` rows. Where there are too many to be held together, some
    /// are merged beforehand.
    pub(crate) fn new(runs: Vec<Run>, keep: Option<usize>, disk: &Disk) -> Result<Merge> {
        let runs = fewer(runs, keep, disk)?;
        let rows: u64 = runs.iter().map(|run| run.rows).sum();
        let rows = keep.map_or(rows, |keep| rows.min(keep as u64));
        Ok(Merge { state: Mutex::new(merge_of(&runs, keep)?), rows })
    }
}

/// The runs, or fewer of the same rows in the same order: so many as can be read at once.
fn fewer(mut runs: Vec<Run>, keep: Option<usize>, disk: &Disk) -> Result<Vec<Run>> {
    runs.retain(|run| run.rows > 0);
    loop {
        let largest = runs.iter().map(Run::held_to_read).max().unwrap_or(0);
        let at_once = (disk.budget.half().max(LITTLE) / largest.max(1)).clamp(2, MOST);
        let Some(over) = runs.len().checked_sub(at_once).filter(|over| *over > 0) else { return Ok(runs) };
        if let Some(first) = runs.get(..=over).filter(|first| first.len() <= at_once) {
            let first = merged(first, keep, disk)?;
            runs.splice(..=over, [first]);
            return Ok(runs);
        }
        runs = runs.chunks(at_once).map(|some| merged(some, keep, disk)).collect::<Result<_>>()?;
    }
}

/// The rows of some runs, in order, as one run.
pub(crate) fn one(runs: Vec<Run>, disk: &Disk) -> Result<Run> {
    merged(&fewer(runs, None, disk)?, None, disk)
}

/// As [`one`], of runs that can be read at once.
fn merged(runs: &[Run], keep: Option<usize>, disk: &Disk) -> Result<Run> {
    if let [one] = runs {
        return Ok(one.clone());
    }
    let mut state = merge_of(runs, keep)?;
    let mut writer = disk.spill.writer()?;
    while let Some(merged) = state.next()? {
        writer.write(merged.gathered(0)?)?;
    }
    writer.finish()
}

/// The merge of runs of one kind of key.
fn merge_of(runs: &[Run], keep: Option<usize>) -> Result<Box<dyn MergeState>> {
    let first = runs.iter().find(|run| run.rows > 0).map(|run| run.reader_of(Some(vec![0])));
    let first = first.transpose()?.flatten().and_then(|mut reader| reader.next()).transpose()?;
    let are_numbers = first.and_then(|batch| i64::column(batch.columns.first()?)).is_some();
    Ok(if are_numbers {
        Box::new(MergeBy::<i64>::new(runs, keep)?)
    } else {
        Box::new(MergeBy::<Vec<u8>>::new(runs, keep)?)
    })
}

impl<K: RunKey> MergeBy<K> {
    fn new(runs: &[Run], keep: Option<usize>) -> Result<MergeBy<K>> {
        let (rows, bytes) =
            runs.iter().fold((0, 0), |(rows, bytes), run| (rows + run.rows, bytes + run.bytes));
        let rows = (BYTES as u64 * rows / (bytes as u64).max(1)).clamp(1, ROWS as u64) as usize;
        let left = keep.unwrap_or(usize::MAX);
        let cursors = runs.iter().filter_map(|run| RunCursor::new(run).transpose());
        let cursors: Vec<RunCursor<K>> = cursors.collect::<Result<_>>()?;
        let head = |(number, cursor): (usize, &RunCursor<K>)| Reverse((K::of(&cursor.keys, 0), number));
        let heads = cursors.iter().enumerate().map(head).collect();
        Ok(MergeBy { cursors, heads, left, given: 0, rows })
    }
}

impl<K: RunKey> MergeState for MergeBy<K> {
    fn next(&mut self) -> Result<Option<Merged>> {
        let most = self.rows.min(self.left);
        let mut merged = Merged { sources: Vec::new(), places: Vec::with_capacity(most) };
        self.cursors.iter_mut().for_each(|c| c.source = None);
        while merged.places.len() < most {
            let Some(mut head) = self.heads.peek_mut() else { break };
            let Reverse((key, number)) = &mut *head;
            let Some(cursor) = self.cursors.get_mut(*number) else { break };
            let source = *cursor.source.get_or_insert_with(|| {
                merged.sources.push(cursor.batch.clone());
                merged.sources.len() - 1
            });
            merged.places.push((source, cursor.row));
            cursor.row += 1;
            if cursor.row < cursor.batch.rows || cursor.advance()? {
                key.replace(&cursor.keys, cursor.row);
            } else {
                std::collections::binary_heap::PeekMut::pop(head);
            }
        }
        self.left -= merged.places.len();
        self.given += merged.places.len() as u64;
        Ok((!merged.places.is_empty()).then_some(merged))
    }

    fn given(&self) -> u64 {
        self.given
    }
}

impl Scan for Merge {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(state.next()?.map(|merged| Box::new(MergedMorsel(Some(merged))) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.state.lock().unwrap_or_else(PoisonError::into_inner).given(), Some(self.rows))
    }
}

/// Rows that come next, not yet gathered.
struct Merged {
    sources: Vec<Batch>,
    /// The source and the row of each.
    places: Vec<(usize, usize)>,
}

impl Merged {
    /// The columns from this one on.
    fn gathered(&self, from: usize) -> Result<Batch> {
        let width = self.sources.first().map_or(0, |s| s.columns.len());
        let column = |i: usize| {
            let parts: Vec<&dyn Array> =
                self.sources.iter().filter_map(|s| s.columns.get(i)).map(AsRef::as_ref).collect();
            arrow_select::interleave::interleave(&parts, &self.places).map_err(churn_core::arrow_error)
        };
        let columns = (from..width).map(column).collect::<Result<_>>()?;
        Ok(Batch { columns, rows: self.places.len() })
    }
}

/// Rows that come next, gathered by the worker that takes them.
struct MergedMorsel(Option<Merged>);

impl Morsel for MergedMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, _: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let Some(merged) = self.0.take() else { return Ok(None) };
        let batch = merged.gathered(1)?;
        let rows = batch.rows;
        Ok(Some(Decoded::of(batch, rows)))
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::types::Int64Type;
    use arrow_array::{ArrayRef, Int64Array};
    use proptest::prelude::*;

    use churn_core::parallel::Threads;

    use super::*;
    use crate::operators::sort::batches;
    use crate::runtime::budget::Budget;
    use crate::spill::Spill;
    use crate::spill::partitioned::position_column;

    /// Runs of rows with these keys, each with a number that rises from run to run.
    fn runs(keys: &[Vec<u64>], spill: &Spill) -> Result<Vec<Run>> {
        let mut next = 0;
        let run = |keys: &Vec<u64>| {
            let mut keys = keys.clone();
            keys.sort_unstable();
            let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(next..next + keys.len() as i64));
            next += keys.len() as i64;
            let mut writer = spill.writer()?;
            let rows = keys.len();
            writer.write(Batch { columns: vec![position_column(keys.into_iter()), numbers], rows })?;
            writer.finish()
        };
        keys.iter().map(run).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 8, ..ProptestConfig::default() })]
        #[test]
        fn many_runs_are_merged_as_few_are(
            keys in prop::collection::vec(prop::collection::vec(0u64..40, 0..6), 0..300),
            keep in prop::option::of(0usize..900),
        ) {
            let (spill, budget) = (Spill::new(None), Budget::new(Some(1)));
            let disk = Disk { spill: &spill, budget: &budget, threads: &Threads::new(1) };
            let merged = |keys: &[Vec<u64>]| -> Result<Vec<i64>> {
                let scan: Box<dyn Scan> = Box::new(Merge::new(runs(keys, &spill)?, keep, &disk)?);
                let batches = batches(scan).collect::<Result<Vec<_>>>()?;
                let numbers = batches.iter().flat_map(|b| b.columns.first());
                Ok(numbers.flat_map(|c| c.as_primitive::<Int64Type>().values().to_vec()).collect())
            };
            // Equal keys come in the order of the runs, and in a run as they stand.
            let mut expected: Vec<u64> = Vec::new();
            for run in &keys {
                let mut run = run.clone();
                run.sort_unstable();
                expected.append(&mut run);
            }
            let mut order: Vec<i64> = (0..expected.len() as i64).collect();
            order.sort_by_key(|row| expected[*row as usize]);
            order.truncate(keep.unwrap_or(usize::MAX));
            let found = merged(&keys);
            prop_assert_eq!(found.ok(), Some(order));
        }
    }
}
