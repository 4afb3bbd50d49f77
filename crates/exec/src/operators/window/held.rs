//! The rows of a window while they fit in memory: distributed to buckets, of which several are worked out at once.

use std::sync::Arc;

use churn_core::{Batch, Error, ErrorKind, Result};
use churn_kernels::memory;

use super::Window;
use super::bucket::Bucket;
use super::distribute::{Block, Distribute};
use super::output::{DistributedRows, DistributedScan, Origin, PlacedBlock};
use crate::runtime::budget::Reservation;
use crate::runtime::materialized::Materialized;
use crate::spill::partitioned::HeldRows;

/// Rows of blocks that wait before they are put into their buckets.
const WAITING: usize = 1 << 20;

/// All rows of a window so far.
pub(crate) struct WindowRows {
    window: Arc<Window>,
    buckets: Vec<Bucket>,
    /// Blocks whose rows are in the buckets.
    placed: Vec<PlacedBlock>,
    /// How many pieces each bucket has.
    pieces: usize,
    waiting: Vec<Block>,
    waiting_rows: usize,
    /// How many rows there are in all.
    all: usize,
}

impl WindowRows {
    /// No rows yet, of blocks that are distributed to so many buckets.
    pub(super) fn new(window: Arc<Window>, buckets: usize) -> WindowRows {
        let buckets = (0..buckets).map(|_| Bucket::new(&window)).collect();
        WindowRows {
            window,
            buckets,
            placed: Vec::new(),
            pieces: 0,
            waiting: Vec::new(),
            waiting_rows: 0,
            all: 0,
        }
    }

    /// Puts the rows that wait into their buckets, as a piece of each.
    fn settle(&mut self) -> Result<()> {
        let blocks = std::mem::take(&mut self.waiting);
        if blocks.is_empty() {
            return Ok(());
        }
        self.waiting_rows = 0;
        let add = |(number, bucket): (usize, &mut Bucket)| bucket.add(&blocks, number);
        self.window.threads.each(self.buckets.iter_mut().enumerate(), add)?;
        let mut next = vec![0u32; self.buckets.len()];
        for Block { rest, buckets, starts, .. } in blocks {
            let first = next.clone();
            for (next, (start, end)) in next.iter_mut().zip(starts.iter().zip(starts.iter().skip(1))) {
                *next += end - start;
            }
            self.placed.push(PlacedBlock { rest, buckets, starts, piece: self.pieces, first });
        }
        self.pieces += 1;
        Ok(())
    }

    /// The rows in their order, made of what becomes of each bucket.
    fn rows(
        mut self,
        origins: Vec<Origin>,
        of: impl Fn(Bucket) -> Result<Vec<Batch>> + Sync,
    ) -> Result<DistributedRows> {
        self.settle()?;
        let some = |bucket: Bucket| if bucket.rows() > 0 { of(bucket) } else { Ok(Vec::new()) };
        let buckets = self.window.threads.each(self.buckets.into_iter(), some)?;
        Ok(DistributedRows::new(self.placed, buckets, origins))
    }

    /// The rows with their results.
    pub(super) fn worked_out(self) -> Result<DistributedRows> {
        let window = self.window.clone();
        self.rows(window.origins(), |bucket| {
            let bytes = bucket.memory();
            let rows = bucket.worked_out(&window)?;
            // Most of what the bucket held is free for the results of the next ones, in pieces that not all of them fit into.
            memory::passed(bytes);
            Ok(rows)
        })
    }
}

impl HeldRows for WindowRows {
    type Worker = Distribute;

    fn push(&mut self, block: Block) -> Result<(usize, usize)> {
        let (bytes, rows) = (block.memory(), block.rows());
        self.all += rows;
        if u32::try_from(self.all).is_err() {
            let what = "More than 4 billion rows meet in one window.";
            return Err(Error::new(ErrorKind::Memory, what).in_step(&self.window.text));
        }
        self.waiting_rows += rows;
        self.waiting.push(block);
        if self.waiting_rows >= WAITING {
            self.settle()?;
        }
        Ok((bytes, rows))
    }

    fn drain(&mut self) -> Result<Vec<Batch>> {
        let window = self.window.clone();
        let rows = std::mem::replace(self, WindowRows::new(window.clone(), self.buckets.len()));
        rows.rows(window.input_origins(), Bucket::into_input)?.all()
    }

    fn finish(self, reservation: Reservation) -> Result<Materialized> {
        let rows = self.worked_out()?;
        Ok(Materialized::Scan(Box::new(DistributedScan::new(rows, reservation))))
    }
}
