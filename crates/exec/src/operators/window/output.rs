//! Distributed rows in the order of the input, put together as they are taken.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, UInt32Array};
use churn_core::{Batch, OrFault, Result};
use churn_io::source::{Capability, Decoded, Guess, Morsel, RowTest, Scan};

use crate::runtime::budget::Reservation;
use crate::runtime::materialized::concat;

/// A block whose rows are in the buckets.
pub(super) struct PlacedBlock {
    /// The columns that are in no bucket.
    pub(super) rest: Vec<Batch>,
    /// The bucket of each row; none where there is one bucket.
    pub(super) buckets: Vec<u8>,
    /// Where the rows of each bucket start among the block's rows by buckets, and their end.
    pub(super) starts: Vec<u32>,
    /// The piece of each bucket that the rows are in, and where they start there.
    pub(super) piece: usize,
    pub(super) first: Vec<u32>,
}

/// Where a column comes from: a place among the columns beside the buckets, or among those of each bucket.
#[derive(Clone, Copy, Debug)]
pub(super) enum Origin {
    Rest(usize),
    Bucket(usize),
}

/// Rows of blocks and buckets. The rows of a bucket stand in the order of the input, those of a block one behind the other.
pub(super) struct DistributedRows {
    blocks: Vec<PlacedBlock>,
    /// The pieces of each bucket; none of one without rows.
    buckets: Vec<Vec<Batch>>,
    origins: Vec<Origin>,
}

impl DistributedRows {
    /// The columns of the rows come from their origins.
    pub(super) fn new(
        blocks: Vec<PlacedBlock>,
        buckets: Vec<Vec<Batch>>,
        origins: Vec<Origin>,
    ) -> DistributedRows {
        DistributedRows { blocks, buckets, origins }
    }

    /// The columns of the buckets, for the rows of a block: first put together by buckets, then in the order of the block.
    fn gathered(&self, block: &PlacedBlock) -> Result<Batch> {
        let ends = block.starts.iter().skip(1);
        let of_bucket = |((pieces, first), (start, end)): ((&Vec<Batch>, &u32), (&u32, &u32))| {
            let rows = (end - start) as usize;
            Some(pieces.get(block.piece).filter(|_| rows > 0)?.slice(*first as usize, rows))
        };
        let buckets = self.buckets.iter().zip(&block.first);
        let by_buckets = concat(buckets.zip(block.starts.iter().zip(ends)).filter_map(of_bucket).collect())?;
        let by_buckets = by_buckets.into_iter().next().or_fault("rows of a window")?;
        if block.buckets.is_empty() {
            return Ok(by_buckets);
        }
        let mut next = block.starts.clone();
        let mut place = |bucket: &u8| {
            let next = next.get_mut(usize::from(*bucket)).or_fault("bucket of a window's row")?;
            *next += 1;
            Ok(*next - 1)
        };
        let places = block.buckets.iter().map(&mut place).collect::<Result<Vec<u32>>>()?;
        Ok(by_buckets.take(&UInt32Array::from(places))?.compacted())
    }

    /// All rows, in the batches that they came in.
    pub(super) fn all(self) -> Result<Vec<Batch>> {
        let (rows, mut batches) = (Arc::new(self), Vec::new());
        for block in 0..rows.blocks.len() {
            let mut left = BlockRows::new(rows.clone(), block);
            while let Some(batch) = left.take()? {
                batches.push(batch);
            }
        }
        Ok(batches)
    }
}

/// A scan of distributed rows; a block is a morsel.
pub(super) struct DistributedScan {
    rows: Arc<DistributedRows>,
    /// The next block, and the rows that were given.
    next: Mutex<(usize, u64)>,
    _reservation: Reservation,
}

impl DistributedScan {
    /// All rows; they hold what is reserved.
    pub(super) fn new(rows: DistributedRows, reservation: Reservation) -> DistributedScan {
        DistributedScan { rows: Arc::new(rows), next: Mutex::new((0, 0)), _reservation: reservation }
    }
}

impl Scan for DistributedScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(block) = self.rows.blocks.get(next.0) else { return Ok(None) };
        next.1 += block.rest.iter().map(|batch| batch.rows as u64).sum::<u64>();
        next.0 += 1;
        Ok(Some(Box::new(BlockRows::new(self.rows.clone(), next.0 - 1))))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        let rows = self.rows.buckets.iter().flatten().map(|piece| piece.rows as u64).sum();
        (self.next.lock().unwrap_or_else(PoisonError::into_inner).1, Some(rows))
    }
}

/// The rows of a block that were not given yet.
struct BlockRows {
    rows: Arc<DistributedRows>,
    block: usize,
    /// The next batch, and the rows before it.
    batch: usize,
    row: usize,
    /// The columns of the buckets, for all rows of the block; gathered when the first batch is taken.
    gathered: Option<Batch>,
}

impl BlockRows {
    fn new(rows: Arc<DistributedRows>, block: usize) -> BlockRows {
        BlockRows { rows, block, batch: 0, row: 0, gathered: None }
    }

    /// The next batch.
    fn take(&mut self) -> Result<Option<Batch>> {
        let block = self.rows.blocks.get(self.block).or_fault("block of a window")?;
        let Some(rest) = block.rest.get(self.batch) else { return Ok(None) };
        let gathered = match self.gathered.take() {
            Some(gathered) => gathered,
            None => self.rows.gathered(block)?,
        };
        let own = gathered.slice(self.row, rest.rows);
        let column = |origin: &Origin| match origin {
            Origin::Rest(place) => rest.columns.get(*place),
            Origin::Bucket(place) => own.columns.get(*place),
        };
        let column = |origin| column(origin).cloned().or_fault("column of a window's rows");
        let columns = self.rows.origins.iter().map(column).collect::<Result<Vec<ArrayRef>>>()?;
        (self.batch, self.row) = (self.batch + 1, self.row + rest.rows);
        self.gathered = Some(gathered);
        Ok(Some(Batch { columns, rows: own.rows }))
    }
}

impl Morsel for BlockRows {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        self.take()?.map(|batch| Decoded::tested(batch, test)).transpose()
    }
}
