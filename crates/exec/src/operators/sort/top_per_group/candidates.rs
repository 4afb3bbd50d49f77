//! The worker side: rows that may be among the first of their groups, by what the ordered side holds so far.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use arrow_array::{ArrayRef, BooleanArray};
use arrow_buffer::BooleanBufferBuilder;
use churn_core::{Batch, Result, Type};
use churn_kernels::known::known;

use crate::keys::{KeyTable, UNKNOWN};
use crate::operators::sort::order::Order;
use crate::operators::sort::part::{LocalPart, SortWorkers};
use crate::operators::sort::table::Keyed;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::scan_test::{ScanFilter, all_rows};
use crate::runtime::sink::{Local, Worker};

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
    /// The columns whose values make a group.
    pub(super) columns: Vec<usize>,
    /// None once all rows are sorted.
    limits: RwLock<Option<Limits>>,
    /// Rows that were no candidates.
    left_out: AtomicUsize,
}

impl GroupCandidates {
    pub(super) fn new(sort: SortWorkers, columns: Vec<usize>, kinds: Vec<Type>) -> GroupCandidates {
        let limits = Limits { groups: KeyTable::new(kinds), last: Vec::new(), are_whole: true };
        let limits = RwLock::new(Some(limits));
        GroupCandidates { sort, columns, limits, left_out: AtomicUsize::new(0) }
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

    /// Which of so many rows may be among the first of their groups; `None` where all rows are sorted.
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
        Ok(LocalCandidates { workers: self, rows: LocalPart::new(&self.sort), sorts: false })
    }
}

/// Rows of a morsel.
pub(crate) enum CandidatePart {
    /// Batches with their key columns.
    Candidates(Vec<(Batch, Vec<ArrayRef>)>),
    Sorted(Keyed),
}

/// The rows of a morsel that are in no part yet.
pub(crate) struct LocalCandidates<'a> {
    workers: &'a GroupCandidates,
    rows: LocalPart<'a>,
    /// Whether all rows are sorted.
    sorts: bool,
}

impl LocalCandidates<'_> {
    fn part(&mut self) -> Result<CandidatePart> {
        let rows = std::mem::replace(&mut self.rows, LocalPart::new(&self.workers.sort));
        Ok(if self.sorts {
            CandidatePart::Sorted(rows.part()?)
        } else {
            CandidatePart::Candidates(rows.into_batches())
        })
    }
}

impl Local for LocalCandidates<'_> {
    type Part = CandidatePart;

    fn consume(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Option<CandidatePart>> {
        let keys = self.workers.sort.order().columns(&batch, work)?;
        let groups = batch.columns_at(&self.workers.columns);
        match self.workers.candidates(&keys, &groups, batch.rows)? {
            Some(kept) => {
                // They are held: few of them would else hold a whole block of a file.
                let keys = Batch { columns: keys, rows: batch.rows }.filter(&kept)?.compacted().columns;
                self.rows.push_keyed(batch.filter(&kept)?, keys)?;
            }
            None => {
                self.sorts = true;
                self.rows.push_keyed(batch, keys)?;
            }
        }
        if self.rows.is_large() { self.part().map(Some) } else { Ok(None) }
    }

    fn seal(mut self) -> Result<Option<CandidatePart>> {
        self.part().map(Some)
    }
}
