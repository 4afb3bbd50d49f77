//! Rows distributed to buckets by the hash of their partitions (radix partitioning), by the workers.
//!
//! The rows of a partition may stand anywhere in the input, so that each look at one of their values would wait for
//! memory. The rows of a bucket are few enough to be near together while its partitions are worked out.

use std::sync::Arc;

use arrow_array::UInt32Array;
use churn_core::widen::widen;
use churn_core::{Batch, OrFault, Result};
use churn_kernels::known::known;
use churn_kernels::sorting;

use super::Window;
use crate::keys::{KeyList, KeyTable};
use crate::runtime::materialized::concat;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Local, Worker};

/// Buckets that rows are distributed to, at most.
const BUCKETS: usize = 256;

/// Rows of a bucket that are as near as they need to be.
const NEAR: usize = 1 << 16;

/// Rows that are distributed together, at least if a morsel has so many: each bucket gets some hundred.
pub(crate) const BLOCK_ROWS: usize = 1 << 17;

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
    /// The columns that the window reads, as they are computed with, in the order of the buckets.
    pub(super) read: Batch,
}

impl Block {
    /// How many rows there are.
    pub(super) fn rows(&self) -> usize {
        self.read.rows
    }

    /// Bytes in use, about.
    pub(super) fn memory(&self) -> usize {
        let rest: usize = self.rest.iter().map(Batch::memory).sum();
        rest + self.read.memory() + self.rows() * 5
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
        self.window.distributed(std::mem::take(&mut self.batches), self.window.most_buckets()).map(Some)
    }

    fn seal(self) -> Result<Option<Block>> {
        let window = self.window;
        if self.rows == 0 {
            Ok(None)
        } else {
            window.distributed(self.batches, window.most_buckets()).map(Some)
        }
    }
}

impl Window {
    /// The buckets for rows whose number is not known.
    pub(super) fn most_buckets(&self) -> usize {
        if self.by.is_empty() { 1 } else { BUCKETS }
    }

    /// The buckets for so many rows.
    pub(super) fn buckets_of(&self, rows: usize) -> usize {
        (rows / NEAR).next_power_of_two().min(self.most_buckets())
    }

    /// Batches distributed as one block to so many buckets.
    pub(super) fn distributed(&self, batches: Vec<Batch>, buckets: usize) -> Result<Block> {
        let (table, numbers) = self.numbered(&batches)?;
        self.distributed_to(buckets, &batches, table, numbers)
    }

    /// Batches distributed as one block, the key of each row's partition known by its number.
    pub(crate) fn distributed_by(
        &self,
        batches: &[Batch],
        table: KeyTable,
        numbers: Vec<u32>,
    ) -> Result<Block> {
        self.distributed_to(self.most_buckets(), batches, table, numbers)
    }

    /// The keys of the partitions of some batches, and the number of each row's key.
    pub(crate) fn numbered(&self, batches: &[Batch]) -> Result<(KeyTable, Vec<u32>)> {
        let mut table = KeyTable::new(self.kinds.clone());
        let mut numbers = Vec::with_capacity(batches.iter().map(|batch| batch.rows).sum());
        for batch in batches {
            table.numbers(&batch.columns_at(&self.by), batch.rows, &mut numbers)?;
        }
        Ok((table, numbers))
    }

    fn distributed_to(
        &self,
        count: usize,
        batches: &[Batch],
        table: KeyTable,
        mut numbers: Vec<u32>,
    ) -> Result<Block> {
        let rest = |batch: &Batch| Batch { columns: batch.columns_at(&self.rest), rows: batch.rows };
        let read = |batch: &Batch| {
            let columns = batch.columns_at(&self.used).iter().map(widen).collect::<Result<_>>()?;
            Ok(Batch { columns, rows: batch.rows })
        };
        let read = concat(batches.iter().map(read).collect::<Result<_>>()?)?;
        let read = read.into_iter().next().or_fault("rows of a window")?;
        if count == 1 {
            let all = if self.by.is_empty() {
                KeyList::None(1)
            } else {
                table.buckets(1)?.pop().or_fault("keys of a window's partitions")?.0
            };
            return Ok(Block {
                rest: batches.iter().map(rest).collect(),
                buckets: Vec::new(),
                starts: vec![0, numbers.len() as u32],
                keys: vec![all],
                numbers,
                read,
            });
        }
        // Of each key its bucket, and its number in the bucket's list.
        let (mut bucket_of, mut rank_of) = (vec![0u8; table.len()], vec![0u32; table.len()]);
        let mut keys = Vec::with_capacity(count);
        for (bucket, (list, numbers)) in (0u8..=u8::MAX).zip(table.buckets(count)?) {
            for (rank, number) in (0u32..).zip(numbers) {
                bucket_of.get_mut(number as usize).into_iter().for_each(|slot| *slot = bucket);
                rank_of.get_mut(number as usize).into_iter().for_each(|slot| *slot = rank);
            }
            keys.push(list);
        }
        let buckets: Vec<u8> = numbers.iter().map(|number| known(&bucket_of, *number as usize)).collect();
        numbers.iter_mut().for_each(|number| *number = known(&rank_of, *number as usize));
        let (starts, order) = sorting::by_number(&buckets, count);
        let numbers = order.iter().map(|row| known(&numbers, *row as usize)).collect();
        Ok(Block {
            rest: batches.iter().map(rest).collect(),
            buckets,
            starts,
            keys,
            numbers,
            read: read.take(&UInt32Array::from(order))?,
        })
    }
}
