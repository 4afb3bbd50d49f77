//! Rows distributed to buckets by the hash of their partitions (radix partitioning), by the workers.
//!
//! The rows of a partition may stand anywhere in the input, so that each look at one of their values would wait for
//! memory. The rows of a bucket are few enough to be near together while its partitions are worked out.

use std::sync::Arc;

use arrow_array::{ArrayRef, UInt32Array};
use churn_core::widen::widen;
use churn_core::{Batch, OrFault, Result, taken};
use churn_kernels::known::known;
use churn_kernels::sorting;

use super::Window;
use crate::keys::{KeyList, KeyTable};
use crate::runtime::materialized::concat;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Local, Worker};

/// Buckets that rows are distributed to.
pub(super) const BUCKETS: usize = 256;

/// Rows that are distributed together, at least if a morsel has so many: each bucket gets some hundred.
pub(super) const BLOCK_ROWS: usize = 1 << 17;

/// Rows that came one behind the other, distributed.
pub(crate) struct Block {
    /// The columns that come out and that the window does not read, as they came.
    pub(super) rest: Vec<Batch>,
    /// The bucket of each row; none where there is one bucket.
    pub(super) buckets: Vec<u8>,
    /// Where the rows of each bucket start among the distributed rows, and their end.
    pub(super) starts: Vec<u32>,
    /// The different keys of each bucket's rows.
    pub(super) keys: Vec<KeyList>,
    /// The number of each distributed row's key in its bucket's list.
    pub(super) numbers: Vec<u32>,
    /// The columns that the window reads, in the order of the buckets.
    pub(super) columns: Vec<ArrayRef>,
}

impl Block {
    /// How many rows there are.
    pub(super) fn rows(&self) -> usize {
        self.numbers.len()
    }

    /// Bytes in use, about.
    pub(super) fn memory(&self) -> usize {
        let rest: usize = self.rest.iter().map(Batch::memory).sum();
        let columns: usize = self.columns.iter().map(|column| column.get_array_memory_size()).sum();
        rest + columns + self.rows() * 5
    }
}

/// The worker side of a window.
pub(crate) struct Distribute(pub(super) Arc<Window>);

impl Worker for Distribute {
    type Part = Block;
    type Local<'a> = Distributing<'a>;

    const GATHERS: bool = true;

    fn local(&self) -> Result<Distributing<'_>> {
        Ok(Distributing { window: &self.0, batches: Vec::new(), rows: 0 })
    }
}

/// Rows of a morsel that wait to be distributed.
pub(crate) struct Distributing<'a> {
    window: &'a Window,
    batches: Vec<Batch>,
    rows: usize,
}

impl Local for Distributing<'_> {
    type Part = Block;

    fn consume(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<Option<Block>> {
        self.rows += batch.rows;
        self.batches.push(batch.compacted());
        if self.rows < BLOCK_ROWS {
            return Ok(None);
        }
        self.rows = 0;
        self.window.distributed(std::mem::take(&mut self.batches)).map(Some)
    }

    fn seal(self) -> Result<Option<Block>> {
        if self.rows == 0 { Ok(None) } else { self.window.distributed(self.batches).map(Some) }
    }
}

impl Window {
    /// Batches distributed as one block.
    pub(super) fn distributed(&self, batches: Vec<Batch>) -> Result<Block> {
        let rows: usize = batches.iter().map(|batch| batch.rows).sum();
        let rest = |batch: &Batch| Batch { columns: picked(batch, &self.rest), rows: batch.rows };
        let mut columns = Vec::with_capacity(self.used.len());
        for place in &self.used {
            columns.push(whole(&batches, *place)?);
        }
        if self.by.is_empty() {
            return Ok(Block {
                rest: batches.iter().map(rest).collect(),
                buckets: Vec::new(),
                starts: vec![0, rows as u32],
                keys: vec![KeyList::None(1)],
                numbers: vec![0; rows],
                columns,
            });
        }
        let mut table = KeyTable::new(self.kinds.clone());
        let mut numbers = Vec::with_capacity(rows);
        for batch in &batches {
            table.numbers(&picked(batch, &self.by), batch.rows, &mut numbers)?;
        }
        // Of each key its bucket, and its number in the bucket's list.
        let mut of_key = vec![(0u8, 0u32); table.len()];
        let mut keys = Vec::with_capacity(BUCKETS);
        for (bucket, (list, numbers)) in (0u8..=u8::MAX).zip(table.buckets(BUCKETS)?) {
            for (rank, number) in (0u32..).zip(numbers) {
                of_key.get_mut(number as usize).into_iter().for_each(|slot| *slot = (bucket, rank));
            }
            keys.push(list);
        }
        let buckets: Vec<u8> = numbers.iter().map(|number| known(&of_key, *number as usize).0).collect();
        let (starts, order) = sorting::by_number(&buckets, BUCKETS);
        let rank = |row: &u32| known(&of_key, known(&numbers, *row as usize) as usize).1;
        let numbers = order.iter().map(rank).collect();
        let order = UInt32Array::from(order);
        Ok(Block {
            rest: batches.iter().map(rest).collect(),
            buckets,
            starts,
            keys,
            numbers,
            columns: columns.iter().map(|column| taken(column, &order)).collect::<Result<_>>()?,
        })
    }
}

/// Some columns of a batch.
fn picked(batch: &Batch, places: &[usize]) -> Vec<ArrayRef> {
    places.iter().filter_map(|place| batch.columns.get(*place).cloned()).collect()
}

/// A column of some batches in one piece, as it is computed with.
fn whole(batches: &[Batch], place: usize) -> Result<ArrayRef> {
    let part = |batch: &Batch| {
        let column = widen(batch.columns.get(place).or_fault("column of a window")?)?;
        Ok(Batch { columns: vec![column], rows: batch.rows })
    };
    let parts = batches.iter().map(part).collect::<Result<_>>()?;
    concat(parts)?.pop().and_then(|mut whole| whole.columns.pop()).or_fault("rows of a window")
}
