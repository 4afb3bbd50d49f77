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

use super::spill::{Reader, Run};
use crate::error::{Error, ErrorKind, Result};
use crate::expr::Batch;
use crate::io::source::{Decoded, Morsel, RowTest, Scan};

/// Rows of a morsel.
const ROWS: usize = 1 << 13;

/// A run being read.
struct Cursor {
    reader: Reader,
    keys: LargeBinaryArray,
    batch: Batch,
    row: usize,
    /// The place of the batch among those that the morsel being made takes rows from.
    source: Option<usize>,
}

impl Cursor {
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
pub(crate) struct Merge(Mutex<State>);

struct State {
    cursors: Vec<Cursor>,
    /// The runs by their next key.
    heads: BinaryHeap<Reverse<(Vec<u8>, usize)>>,
    /// The most rows that are still wanted.
    left: usize,
}

impl Merge {
    /// Starts the merge of these runs; gives at most `keep` rows.
    pub(crate) fn new(runs: Vec<Run>, keep: Option<usize>) -> Result<Merge> {
        let mut state =
            State { cursors: Vec::new(), heads: BinaryHeap::new(), left: keep.unwrap_or(usize::MAX) };
        for run in runs {
            let Some(reader) = run.reader()? else { continue };
            let keys = LargeBinaryArray::from_iter_values(std::iter::empty::<&[u8]>());
            let batch = Batch { columns: Vec::new(), rows: 0 };
            let mut cursor = Cursor { reader, keys, batch, row: 0, source: None };
            if cursor.advance()? {
                state.heads.push(Reverse((cursor.key().to_vec(), state.cursors.len())));
                state.cursors.push(cursor);
            }
        }
        Ok(Merge(Mutex::new(state)))
    }
}

impl State {
    /// Decides which rows come next.
    fn next(&mut self) -> Result<Option<Merged>> {
        let most = ROWS.min(self.left);
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
        Ok((!merged.places.is_empty()).then_some(merged))
    }
}

impl Scan for Merge {
    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(state.next()?.map(|merged| Box::new(Some(merged)) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}

/// Rows that come next, not yet gathered.
struct Merged {
    sources: Vec<Batch>,
    /// The source and the row of each.
    places: Vec<(usize, usize)>,
}

impl Morsel for Option<Merged> {
    fn next(&mut self, _: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let Some(Merged { sources, places }) = self.take() else { return Ok(None) };
        let rows = places.len();
        let width = sources.first().map_or(0, |s| s.columns.len());
        let mut columns = Vec::with_capacity(width);
        for i in 1..width {
            let parts: Vec<&dyn Array> =
                sources.iter().filter_map(|s| s.columns.get(i)).map(AsRef::as_ref).collect();
            columns.push(
                arrow_select::interleave::interleave(&parts, &places).map_err(crate::expr::arrow_error)?,
            );
        }
        let batch = Batch { columns, rows };
        Ok(Some(Decoded::of(batch, rows)))
    }
}
