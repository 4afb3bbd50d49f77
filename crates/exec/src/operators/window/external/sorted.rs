//! The columns that a window uses, sorted on disk.

use std::collections::BTreeSet;
use std::sync::Arc;

use arrow_array::{Array, ArrayRef, UInt64Array};
use churn_core::widen::widen;
use churn_core::{Batch, Result, Type};
use churn_kernels::known::known_place;

use super::cursor::PartitionCursor;
use crate::keys::normal;
use crate::operators::sort::{Changes, OrderKey, Sorter, batches, is_word, words_of};
use crate::operators::window::Window;
use crate::operators::window::frames::{FramePartition, turned};
use crate::operators::window::order::PlacedKey;
use crate::spill::{Disk, Run};

/// The places that rows had, as whole numbers.
pub(super) const PLACE: usize = 0;

/// A number that rows share that are equal in the order.
pub(super) const PEER: usize = 1;

/// A word that rises with the first order key.
pub(super) const WORD: usize = 2;

/// The first column that the window uses.
const USED: usize = 3;

/// The file.
pub(super) struct SortedPartition {
    run: Run,
    pub(super) rows: usize,
    pub(super) partitions: Vec<FramePartition>,
    /// The places that the columns have in the window.
    used: Vec<usize>,
}

impl SortedPartition {
    /// Sorts the rows of a file by partition and order; equal ones stay as they are.
    pub(super) fn new(window: &Window, run: &Run, disk: &Disk) -> Result<SortedPartition> {
        let used = window.used.clone();
        let first = 1 + window.by.len();
        let place = |place: usize| first + known_place(&used, &place);
        let by =
            window.kinds.iter().zip(1..).map(|(kind, i)| OrderKey::column(i, kind.clone(), false, false));
        let order = window
            .order
            .iter()
            .map(|key| OrderKey::column(place(key.place), key.kind.clone(), key.descending, key.nulls_first));
        let mut sorter = Sorter::new(by.chain(order).collect(), disk)?;
        for batch in run.reader()?.into_iter().flatten() {
            let batch = batch?;
            let column = |i: &usize| batch.columns.get(i + 1).map(widen);
            let columns = window.by.iter().chain(&used).filter_map(column).collect::<Result<Vec<_>>>()?;
            let places = batch.columns.first().cloned().into_iter();
            sorter.push(Batch { columns: places.chain(columns).collect(), rows: batch.rows })?;
        }
        let mut marks = Marks::new(window)?;
        let mut file = disk.spill.writer()?;
        for batch in batches(sorter.finish()?) {
            let batch = batch?;
            let (places, rest) = batch.columns.split_at(1);
            let (by, columns) = rest.split_at(window.by.len());
            let keys = window.order.iter().filter_map(|key| columns.get(place(key.place) - first).cloned());
            let marks = marks.of(by, &keys.collect::<Vec<_>>(), batch.rows)?;
            let columns = places.iter().cloned().chain(marks).chain(columns.iter().cloned()).collect();
            file.write(Batch { columns, rows: batch.rows })?;
        }
        Ok(SortedPartition { run: file.finish()?, rows: marks.row, partitions: marks.partitions, used })
    }

    /// Where a column of the window stands in the file.
    pub(super) fn place(&self, column: usize) -> usize {
        USED + known_place(&self.used, &column)
    }

    /// A reader of some columns of the file.
    pub(super) fn cursor(&self, columns: &[usize]) -> Result<PartitionCursor> {
        let read: BTreeSet<usize> = columns.iter().copied().collect();
        let read: Vec<usize> = read.into_iter().collect();
        let columns = columns.iter().map(|column| known_place(&read, column)).collect();
        Ok(PartitionCursor::new(self.run.reader_of(Some(read))?.into_iter().flatten(), columns))
    }
}

/// What is noted of sorted rows as they come.
struct Marks<'a> {
    first: Option<&'a PlacedKey>,
    by: Changes,
    order: Changes,
    first_key: Changes,
    partitions: Vec<FramePartition>,
    row: usize,
    peer: u64,
    rank: u64,
}

impl<'a> Marks<'a> {
    fn new(window: &'a Window) -> Result<Marks<'a>> {
        let kinds: Vec<Type> = window.order.iter().map(|key| key.kind.clone()).collect();
        Ok(Marks {
            first: window.order.first(),
            by: Changes::new(&window.kinds)?,
            order: Changes::new(&kinds)?,
            first_key: Changes::new(kinds.get(..1).unwrap_or_default())?,
            partitions: Vec::new(),
            row: 0,
            peer: 0,
            rank: 0,
        })
    }

    /// The peers and words of the next rows.
    fn of(&mut self, by: &[ArrayRef], order: &[ArrayRef], rows: usize) -> Result<[ArrayRef; 2]> {
        let is_new = self.by.of(by, rows)?;
        let is_other = self.order.of(order, rows)?;
        // A window without an order has no key.
        let first = order.get(..1).unwrap_or_default();
        let is_other_key = self.first_key.of(first, rows)?;
        let first = first.first().map(normal).transpose()?;
        let words = match (self.first, &first) {
            (Some(key), Some(column)) if is_word(&key.kind) => Some(turned(key, words_of(column))),
            _ => None,
        };
        let nulls = first.as_ref().and_then(|column| column.logical_nulls());
        let mut peers = Vec::with_capacity(rows);
        let mut ranks = Vec::with_capacity(rows);
        for (row, ((new, other), other_key)) in is_new.into_iter().zip(is_other).zip(is_other_key).enumerate()
        {
            let place = self.row + row;
            if new {
                self.partitions.push(FramePartition { rows: place..place, keyed: place..place });
                (self.peer, self.rank) = (0, 0);
            } else {
                self.peer += u64::from(other);
                self.rank += u64::from(other_key);
            }
            if let Some(partition) = self.partitions.last_mut() {
                partition.rows.end = place + 1;
                if nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row)) {
                    if partition.keyed.is_empty() {
                        partition.keyed.start = place;
                    }
                    partition.keyed.end = place + 1;
                }
            }
            peers.push(self.peer);
            ranks.push(self.rank);
        }
        self.row += rows;
        let words = UInt64Array::from(words.unwrap_or(ranks));
        Ok([Arc::new(UInt64Array::from(peers)), Arc::new(words)])
    }
}
