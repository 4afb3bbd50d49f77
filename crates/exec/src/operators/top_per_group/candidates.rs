//! The worker side: rows that may be among the first of their groups, by what the ordered side holds so far.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use arrow_array::{ArrayRef, BooleanArray};
use arrow_buffer::BooleanBufferBuilder;
use churn_core::{Batch, Result};
use churn_kernels::known::{known, known_part};

use super::block::first_rows;
use crate::keys::{KeyTable, UNKNOWN};
use crate::operators::sort::{Order, SortWorkers};
use crate::operators::window::{BLOCK_ROWS, Block, Window};
use crate::runtime::budget::Budget;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::scan_test::{ScanFilter, all_rows};
use crate::runtime::sink::{Local, Worker};
use crate::spill::partitioned::{SinkPart, Spilling};

/// What workers leave rows out by.
pub(super) struct Limits {
    pub(super) groups: KeyTable,
    /// The code of the last row that is wanted of each group, once there are as many; else the largest.
    pub(super) last: Vec<u128>,
    /// Whether rows with equal codes have equal keys.
    pub(super) are_whole: bool,
}

/// The worker side.
pub(crate) struct GroupCandidates {
    pub(super) sort: SortWorkers,
    /// So many rows of each group are wanted.
    pub(super) count: usize,
    /// Numbers rows in their groups, once they are distributed, or partitioned.
    pub(super) window: Arc<Window>,
    spilling: Spilling,
    /// None once rows are distributed.
    limits: RwLock<Option<Limits>>,
    /// Rows that were no candidates.
    left_out: AtomicUsize,
    /// Bytes of rows from which on they are handed over.
    part_bytes: usize,
}

/// Bytes of the rows of a part at most, about.
const PART_BYTES: u64 = 16 << 20;

impl GroupCandidates {
    pub(super) fn new(
        sort: SortWorkers,
        count: usize,
        (window, spilling): (Arc<Window>, Spilling),
        budget: &Budget,
    ) -> GroupCandidates {
        let groups = KeyTable::new(window.kinds.clone());
        let limits = RwLock::new(Some(Limits { groups, last: Vec::new(), are_whole: true }));
        let part_bytes = budget.share().min(PART_BYTES) as usize;
        GroupCandidates { sort, count, window, limits, left_out: AtomicUsize::new(0), part_bytes, spilling }
    }

    /// The columns of some rows that are sorted by, which stand behind the others.
    pub(super) fn keys_of(&self, batch: &Batch) -> Vec<ArrayRef> {
        let keys = batch.columns.len().saturating_sub(self.sort.order().keys.len());
        batch.columns.get(keys..).unwrap_or_default().to_vec()
    }

    /// Rows with their keys behind them, distributed by their groups, of each of which the first ones are left.
    pub(super) fn distributed(&self, mut batches: Vec<Batch>) -> Result<SinkPart<Block>> {
        let keys: Vec<Vec<ArrayRef>> = batches.iter().map(|batch| self.keys_of(batch)).collect();
        let (groups, mut numbers) = self.window.numbered(&batches)?;
        let keys = self.sort.keys(&keys, numbers.len())?;
        if let Some(kept) = first_rows(&numbers, groups.len(), &keys, self.count) {
            let mut row = 0;
            for batch in &mut batches {
                let own = known_part(&kept, row..row + batch.rows).to_vec();
                row += batch.rows;
                *batch = batch.filter(&own.into())?;
            }
            let mut kept = kept.into_iter();
            numbers.retain(|_| kept.next().unwrap_or(true));
        }
        if self.spilling.has_begun()
            && let Some(rows) = self.spilling.partitioned(std::mem::take(&mut batches))?
        {
            return Ok(SinkPart::Partitioned(rows));
        }
        self.window.distributed_by(&batches, groups, numbers).map(SinkPart::Held)
    }

    /// What rows are left out by.
    pub(super) fn limits(&self) -> RwLockReadGuard<'_, Option<Limits>> {
        self.limits.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// The same, to change it.
    pub(super) fn limits_mut(&self) -> RwLockWriteGuard<'_, Option<Limits>> {
        self.limits.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// Rows that were left out so far.
    pub(super) fn left_out(&self) -> usize {
        self.left_out.load(Ordering::Relaxed)
    }

    /// Which of so many rows may be among the first of their groups; `None` once rows are distributed.
    fn candidates(
        &self,
        keys: &[ArrayRef],
        groups: &[ArrayRef],
        rows: usize,
    ) -> Result<Option<BooleanArray>> {
        let limits = self.limits();
        let Some(limits) = limits.as_ref() else { return Ok(None) };
        let keys = self.sort.keys(&[keys.to_vec()], rows)?;
        let mut numbers = Vec::with_capacity(rows);
        limits.groups.find(groups, rows, &mut numbers)?;
        let equal_stays = !(limits.are_whole && keys.codes_are_whole());
        let mut kept = BooleanBufferBuilder::new(rows);
        let mut numbers = numbers.iter();
        keys.each_code(rows, |code| {
            let last = match numbers.next() {
                Some(number) if *number != UNKNOWN => known(&limits.last, *number as usize),
                _ => u128::MAX,
            };
            // It comes later than those that are held.
            kept.append(code < last || last == u128::MAX || equal_stays && code == last);
        });
        let kept = BooleanArray::new(kept.finish(), None);
        self.left_out.fetch_add(rows - kept.true_count(), Ordering::Relaxed);
        Ok(Some(kept))
    }
}

/// Leaves rows out before their other columns are decoded.
pub(super) struct CandidateFilter {
    workers: Arc<GroupCandidates>,
    /// What is sorted by, and the columns whose values make a group, among the columns of the test.
    order: Order,
    groups: Vec<usize>,
}

impl CandidateFilter {
    pub(super) fn new(workers: Arc<GroupCandidates>, order: Order, groups: Vec<usize>) -> CandidateFilter {
        CandidateFilter { workers, order, groups }
    }
}

impl ScanFilter for CandidateFilter {
    fn keep(&self, batch: &Batch, work: &mut MorselOutput) -> Result<BooleanArray> {
        let keys = self.order.columns(batch, work)?;
        let kept = self.workers.candidates(&keys, &batch.columns_at(&self.groups), batch.rows)?;
        Ok(kept.unwrap_or_else(|| all_rows(batch.rows)))
    }

    fn skipped(&self, _: usize, _: &mut MorselOutput) {}
}

impl Worker for GroupCandidates {
    type Part = CandidatePart;
    type Local<'a> = LocalCandidates<'a>;

    const GATHERS: bool = true;

    fn local(&self) -> Result<LocalCandidates<'_>> {
        Ok(LocalCandidates { workers: self, batches: Vec::new(), rows: 0, bytes: 0, are_distributed: false })
    }
}

/// Rows of a morsel.
pub(crate) enum CandidatePart {
    /// Batches, their keys behind their columns.
    Candidates(Vec<Batch>),
    Distributed(SinkPart<Block>),
}

/// The rows of a morsel that are in no part yet.
pub(crate) struct LocalCandidates<'a> {
    workers: &'a GroupCandidates,
    /// Their keys behind their columns.
    batches: Vec<Batch>,
    rows: usize,
    bytes: usize,
    /// Whether some of them were not tested, so that they are distributed.
    are_distributed: bool,
}

impl LocalCandidates<'_> {
    fn part(&mut self) -> Result<CandidatePart> {
        (self.rows, self.bytes) = (0, 0);
        let batches = std::mem::take(&mut self.batches);
        Ok(if self.are_distributed {
            CandidatePart::Distributed(self.workers.distributed(batches)?)
        } else {
            CandidatePart::Candidates(batches)
        })
    }
}

impl Local for LocalCandidates<'_> {
    type Part = CandidatePart;

    fn consume(&mut self, mut batch: Batch, work: &mut MorselOutput) -> Result<Option<CandidatePart>> {
        let keys = self.workers.sort.order().columns(&batch, work)?;
        let groups = batch.columns_at(&self.workers.window.by);
        let kept = self.workers.candidates(&keys, &groups, batch.rows)?;
        batch.columns.extend(keys);
        batch = match kept {
            Some(kept) => batch.filter(&kept)?,
            None => {
                self.are_distributed = true;
                batch
            }
        };
        if batch.rows == 0 {
            return Ok(None);
        }
        // They are held: few of them would else hold a whole block of a file.
        self.rows += batch.rows;
        self.batches.push(batch.compacted());
        self.bytes += self.batches.last().map_or(0, Batch::memory);
        let is_large = self.rows >= BLOCK_ROWS || self.bytes >= self.workers.part_bytes;
        if is_large { self.part().map(Some) } else { Ok(None) }
    }

    fn seal(mut self) -> Result<Option<CandidatePart>> {
        if self.batches.is_empty() { Ok(None) } else { self.part().map(Some) }
    }
}
