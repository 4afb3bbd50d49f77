//! Sorted runs on disk as one sorted table.
//!
//! The first column of a run is its key, bytes that compare as rows are ordered; equal keys of two runs come in the
//! order of the runs. The merge itself runs in the ordered part of a pipeline and only decides which rows come
//! next; the worker that takes a morsel gathers their columns.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::sync::{Mutex, PoisonError};

use arrow_array::cast::AsArray;
use arrow_array::{Array, LargeBinaryArray};
use churn_core::{Batch, Error, ErrorKind, Result};
use churn_io::source::{Capability, Decoded, Guess, Morsel, RowTest, Scan};

use crate::spill::{Disk, Run, RunReader};

/// Rows of a morsel, and about how many bytes they take.
const ROWS: usize = 1 << 13;
const BYTES: usize = 1 << 20;

/// Bytes that runs may take while they are merged, whatever the account.
const LITTLE: usize = 24 << 20;

/// Runs that are merged at once, at most: each is an open file.
pub(crate) const MOST: usize = 128;

/// A run being read.
struct RunCursor {
    reader: RunReader,
    keys: LargeBinaryArray,
    batch: Batch,
    row: usize,
    /// The place of the batch among those that the morsel being made takes rows from.
    source: Option<usize>,
}

impl RunCursor {
    /// Goes to the next batch of the run; false at its end.
    fn advance(&mut self) -> Result<bool> {
        let Some(batch) = self.reader.next().transpose()? else { return Ok(false) };
        let lost = || Error::new(ErrorKind::Internal, "A run on disk has no key.");
        self.keys = batch.columns.first().and_then(|k| k.as_binary_opt::<i64>()).cloned().ok_or_else(lost)?;
        (self.batch, self.row, self.source) = (batch, 0, None);
        Ok(true)
    }

    fn key(&self) -> &[u8] {
        if self.row < self.keys.len() { self.keys.value(self.row) } else { &[] }
    }
}

/// The merge of some runs.
pub(crate) struct Merge {
    state: Mutex<MergeState>,
    /// The rows that it gives.
    rows: u64,
}

struct MergeState {
    cursors: Vec<RunCursor>,
    /// The runs by their next key.
    heads: BinaryHeap<Reverse<(Vec<u8>, usize)>>,
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
        Ok(Merge { state: Mutex::new(MergeState::new(&runs, keep)?), rows })
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
    let mut state = MergeState::new(runs, keep)?;
    let mut writer = disk.spill.writer()?;
    while let Some(merged) = state.next()? {
        writer.write(merged.gathered(0)?)?;
    }
    writer.finish()
}

impl MergeState {
    fn new(runs: &[Run], keep: Option<usize>) -> Result<MergeState> {
        let (rows, bytes) =
            runs.iter().fold((0, 0), |(rows, bytes), run| (rows + run.rows, bytes + run.bytes));
        let rows = (BYTES as u64 * rows / (bytes as u64).max(1)).clamp(1, ROWS as u64) as usize;
        let left = keep.unwrap_or(usize::MAX);
        let mut state = MergeState { cursors: Vec::new(), heads: BinaryHeap::new(), left, given: 0, rows };
        for run in runs {
            let Some(reader) = run.reader()? else { continue };
            let keys = LargeBinaryArray::from_iter_values(std::iter::empty::<&[u8]>());
            let batch = Batch { columns: Vec::new(), rows: 0 };
            let mut cursor = RunCursor { reader, keys, batch, row: 0, source: None };
            if cursor.advance()? {
                state.heads.push(Reverse((cursor.key().to_vec(), state.cursors.len())));
                state.cursors.push(cursor);
            }
        }
        Ok(state)
    }

    /// Decides which rows come next.
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
                key.clear();
                key.extend_from_slice(cursor.key());
            } else {
                std::collections::binary_heap::PeekMut::pop(head);
            }
        }
        self.left -= merged.places.len();
        self.given += merged.places.len() as u64;
        Ok((!merged.places.is_empty()).then_some(merged))
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
        (self.state.lock().unwrap_or_else(PoisonError::into_inner).given, Some(self.rows))
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
    use crate::spill::partitioned::encode_positions;

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
            writer.write(Batch { columns: vec![encode_positions(keys.into_iter()), numbers], rows })?;
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
