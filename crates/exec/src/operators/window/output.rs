//! Distributed rows in the order of the input, put together as they are taken.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::ArrayRef;
use churn_core::{Batch, OrFault, Result};
use churn_io::source::{Capability, Decoded, Guess, Morsel, RowTest, Scan};
use churn_kernels::gather::Place;
use churn_kernels::known::known;

use crate::runtime::budget::Reservation;
use crate::runtime::gathered::gathered;

/// A block whose rows are in the buckets.
pub(super) struct PlacedBlock {
    /// The columns that are in no bucket.
    pub(super) rest: Vec<Batch>,
    /// The bucket of each row; none where there is one bucket.
    pub(super) buckets: Vec<u8>,
    /// Of each bucket the first of its rows that are of this block.
    pub(super) first: Vec<u32>,
}

/// Where a column comes from: a place among the columns beside the buckets, or among those of each bucket.
#[derive(Clone, Copy, Debug)]
pub(super) enum Origin {
    Rest(usize),
    Bucket(usize),
}

/// Rows of blocks and buckets. The rows of a bucket stand in the order of the input, so that each bucket is read from front to
/// back.
pub(super) struct DistributedRows {
    blocks: Vec<PlacedBlock>,
    /// Those that have rows.
    buckets: Vec<Batch>,
    /// The place of each bucket among these.
    places: Vec<u32>,
    origins: Vec<Origin>,
}

impl DistributedRows {
    /// The columns of the rows come from their origins.
    pub(super) fn new(
        blocks: Vec<PlacedBlock>,
        buckets: Vec<Batch>,
        origins: Vec<Origin>,
    ) -> DistributedRows {
        let mut places = Vec::with_capacity(buckets.len());
        let mut some = 0;
        for bucket in &buckets {
            places.push(some);
            some += u32::from(bucket.rows > 0);
        }
        let buckets = buckets.into_iter().filter(|bucket| bucket.rows > 0).collect();
        DistributedRows { blocks, buckets, places, origins }
    }

    /// The columns of the buckets, for the rows of a block.
    fn gathered(&self, block: &PlacedBlock) -> Result<Batch> {
        let rows = block.rest.iter().map(|batch| batch.rows).sum();
        let mut next = block.first.clone();
        if let ([bucket], [next]) = (self.buckets.as_slice(), next.as_slice()) {
            return Ok(bucket.slice(*next as usize, rows));
        }
        let mut wanted: Vec<Place> = Vec::with_capacity(rows);
        for bucket in block.buckets.iter().map(|bucket| usize::from(*bucket)) {
            let Some(next) = next.get_mut(bucket) else { continue };
            wanted.push((known(&self.places, bucket), *next));
            *next += 1;
        }
        gathered(&self.buckets.iter().collect::<Vec<_>>(), &wanted)
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
        let rows = self.rows.buckets.iter().map(|bucket| bucket.rows as u64).sum();
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
