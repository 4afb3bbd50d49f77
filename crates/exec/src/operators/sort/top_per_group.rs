//! `sort` where only the first rows of each group are wanted: others are left out while rows are read.
//!
//! The ordered side holds of each group the first rows so far. A worker looks up the groups of its rows, and leaves out those
//! that come behind the last row that is held of a full group. At the end the rows that are held are sorted as all rows are.
//! Where most rows have to be held, as groups have but a few, or where they do not fit in memory, all rows are sorted from then on:
//! whoever takes them counts the rows of each group, and passes over those that are too many.

use std::cmp::Ordering;
use std::sync::atomic::{self, AtomicUsize};
use std::sync::{Arc, PoisonError, RwLock};

use arrow_array::{ArrayRef, BooleanArray};
use arrow_buffer::BooleanBufferBuilder;
use churn_core::parallel::Threads;
use churn_core::{Batch, ColumnId, Result};
use churn_kernels::known::known;
use churn_plan::operators as plan;

use super::order::Order;
use super::part::{LocalPart, SortWorkers};
use super::sort_keys::SortKeys;
use super::table::Keyed;
use super::{SortSink, order_of};
use crate::keys::{KeyTable, UNKNOWN};
use crate::operators::{OperatorPlace, places};
use crate::runtime::budget::Reservation;
use crate::runtime::gathered::gathered;
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::scan_test::{ScanFilter, all_rows};
use crate::runtime::sink::{Commit, Local, Sink, Worker};

/// Rows over twice those that are wanted before the others are dropped.
const SURPLUS: usize = 1 << 16;

/// Rows after which it is decided whether most have to be held.
const TRIED: usize = 1 << 22;

/// Rows that are made a part of the sort together.
const PART_ROWS: usize = 1 << 16;

/// What workers leave rows out by.
struct Limits {
    groups: KeyTable,
    /// The code of the last row that is wanted of each group, once there are as many; else the largest.
    last: Vec<u128>,
    /// Whether rows with equal codes have equal keys.
    are_whole: bool,
}

/// The worker side.
pub(super) struct GroupCandidates {
    sort: SortWorkers,
    columns: Vec<usize>,
    /// None once all rows are sorted.
    limits: RwLock<Option<Limits>>,
    /// Rows that were no candidates.
    left_out: AtomicUsize,
}

impl GroupCandidates {
    /// Which of so many rows may be among the first of their groups; `None` where all rows are sorted.
    fn candidates(
        &self,
        keys: &[ArrayRef],
        groups: &[ArrayRef],
        rows: usize,
    ) -> Result<Option<BooleanArray>> {
        let limits = self.limits.read().unwrap_or_else(PoisonError::into_inner);
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
        self.left_out.fetch_add(rows - kept.true_count(), atomic::Ordering::Relaxed);
        Ok(Some(kept))
    }
}

/// Leaves rows out before their other columns are decoded.
struct CandidateFilter {
    workers: Arc<GroupCandidates>,
    /// What is sorted by, and the columns whose values make a group, among the columns of the test.
    order: Order,
    groups: Vec<usize>,
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
pub(super) enum CandidatePart {
    /// Batches with their key columns.
    Candidates(Vec<(Batch, Vec<ArrayRef>)>),
    Sorted(Keyed),
}

/// The rows of a morsel that are in no part yet.
pub(super) struct LocalCandidates<'a> {
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
                let keys = Batch { columns: keys, rows: batch.rows }.filter(&kept)?.columns;
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

/// Rows that are held, with their keys.
struct Held {
    batch: Batch,
    /// The key columns.
    columns: Vec<ArrayRef>,
    keys: SortKeys,
}

impl Held {
    fn memory(&self) -> usize {
        let columns: usize = self.columns.iter().map(|column| column.get_array_memory_size()).sum();
        self.batch.memory() + columns + self.keys.memory()
    }

    /// The rows with the key columns behind their own.
    fn with_keys(&self) -> Batch {
        let columns = self.batch.columns.iter().chain(&self.columns).cloned().collect();
        Batch { columns, rows: self.batch.rows }
    }
}

/// One of the first rows of a group so far.
#[derive(Clone, Copy, Default)]
struct First {
    code: u128,
    part: u32,
    row: u32,
}

/// The ordered side.
pub(super) struct TopPerGroup {
    workers: Arc<GroupCandidates>,
    count: usize,
    reservation: Reservation,
    threads: Threads,
    /// In the order in which rows came.
    held: Vec<Held>,
    held_rows: usize,
    /// Of each group room for the wanted rows, in order, and how many there are.
    firsts: Vec<First>,
    sizes: Vec<u16>,
    /// How many there are in all.
    live: usize,
    /// Candidates that came.
    candidates: usize,
    /// Takes all rows in the end.
    sort: SortSink,
}

/// The sink of a sort of which some rows of each group are wanted. The source of its pipeline leaves rows out, if it can.
pub(super) fn sink(
    how: &plan::Sort,
    count: usize,
    pipeline: &mut Pipeline,
    place: &OperatorPlace<'_>,
) -> Result<Sink<GroupCandidates, TopPerGroup>> {
    let context = place.context;
    let reservation = || context.budget.reservation();
    let order = |ids: &[ColumnId]| order_of(how, ids, place.step(), context);
    let limits = Limits { groups: KeyTable::new(place.kinds(&how.per)), last: Vec::new(), are_whole: true };
    let workers = Arc::new(GroupCandidates {
        sort: SortWorkers::new(order(&pipeline.layout)?, None, &context.budget)?,
        columns: places(&pipeline.layout, &how.per)?,
        limits: RwLock::new(Some(limits)),
        left_out: AtomicUsize::new(0),
    });
    if how.keys.iter().all(|key| key.by.is_infallible()) {
        let mut used = how.per.clone();
        how.keys.iter().for_each(|key| key.by.columns(&mut used));
        pipeline.test_source(&used, |ids| {
            let (order, groups) = (order(ids)?, places(ids, &how.per)?);
            Ok(Box::new(CandidateFilter { workers: workers.clone(), order, groups }))
        })?;
    }
    let commit = TopPerGroup {
        workers: workers.clone(),
        count,
        reservation: reservation(),
        threads: context.threads().clone(),
        held: Vec::new(),
        held_rows: 0,
        firsts: Vec::new(),
        sizes: Vec::new(),
        live: 0,
        candidates: 0,
        sort: SortSink::new(None, reservation(), &context.spill, context.threads().clone()),
    };
    Ok(Sink { worker: workers, commit })
}

impl TopPerGroup {
    /// Holds candidates that come behind those that are held.
    fn hold(&mut self, batch: Batch, columns: Vec<ArrayRef>) -> Result<()> {
        let keys = self.workers.sort.keys(std::slice::from_ref(&columns), batch.rows)?;
        let workers = self.workers.clone();
        let mut limits = workers.limits.write().unwrap_or_else(PoisonError::into_inner);
        let Some(limits) = limits.as_mut() else { return Ok(()) };
        limits.are_whole &= keys.codes_are_whole();
        let mut numbers = Vec::with_capacity(batch.rows);
        limits.groups.numbers(&batch.columns_at(&workers.columns), batch.rows, &mut numbers)?;
        limits.last.resize(limits.groups.len(), u128::MAX);
        self.sizes.resize(limits.groups.len(), 0);
        self.firsts.resize(limits.groups.len() * self.count, First::default());
        self.held_rows += batch.rows;
        self.held.push(Held { batch, columns, keys });
        let part = self.held.len() - 1;
        for (row, group) in numbers.iter().map(|number| *number as usize).enumerate() {
            if let Some(last) = self.insert(group, part, row)
                && let Some(limit) = limits.last.get_mut(group)
            {
                *limit = last;
            }
        }
        Ok(())
    }

    /// Puts a row among the first of its group, if it is one of them; gives the code of the last one if the group is full.
    fn insert(&mut self, group: usize, part: usize, row: usize) -> Option<u128> {
        let (size, start) = (usize::from(*self.sizes.get(group)?), group * self.count);
        let new = First { code: self.held.get(part)?.keys.code(row), part: part as u32, row: row as u32 };
        let firsts = self.firsts.get(start..start + size)?;
        // Of equal rows the earlier one stays before.
        let behind = firsts.iter().rev().take_while(|first| self.order(&new, first).is_lt()).count();
        let place = size - behind;
        if place == self.count {
            return None;
        }
        if size < self.count {
            *self.sizes.get_mut(group)? += 1;
            self.live += 1;
        }
        let end = (size + 1).min(self.count);
        let firsts = self.firsts.get_mut(start..start + end)?;
        firsts.get_mut(place..)?.rotate_right(1);
        *firsts.get_mut(place)? = new;
        (end == self.count).then(|| firsts.last().map(|first| first.code)).flatten()
    }

    /// The order of two rows by their keys.
    fn order(&self, a: &First, b: &First) -> Ordering {
        a.code.cmp(&b.code).then_with(|| {
            let keys = |first: &First| self.held.get(first.part as usize).map(|held| &held.keys);
            let (Some(left), Some(right)) = (keys(a), keys(b)) else { return Ordering::Equal };
            left.compare(a.row as usize, right, b.row as usize)
        })
    }

    /// Drops all rows but those that may still be wanted; these stay in the order in which they came.
    fn shrink(&mut self) -> Result<()> {
        let count = self.count;
        let used = |(group, size): (usize, &u16)| group * count..group * count + usize::from(*size);
        let mut live: Vec<usize> = self.sizes.iter().enumerate().flat_map(used).collect();
        let place = |first: usize| self.firsts.get(first).map_or((0, 0), |first| (first.part, first.row));
        live.sort_unstable_by_key(|first| place(*first));
        let places: Vec<(u32, u32)> = live.iter().map(|first| place(*first)).collect();
        let batches: Vec<Batch> = self.held.iter().map(Held::with_keys).collect();
        let Some(width) = self.held.first().map(|held| held.batch.columns.len()) else { return Ok(()) };
        let mut batch = gathered(&batches.iter().collect::<Vec<_>>(), &places)?;
        drop(batches);
        let columns = batch.columns.split_off(width);
        let keys = self.workers.sort.keys(std::slice::from_ref(&columns), batch.rows)?;
        for (row, first) in (0u32..).zip(&live) {
            if let Some(first) = self.firsts.get_mut(*first) {
                (first.part, first.row) = (0, row);
            }
        }
        self.held_rows = batch.rows;
        self.held = vec![Held { batch, columns, keys }];
        Ok(())
    }

    /// Bytes in use, about.
    fn memory(&self) -> usize {
        let limits = self.workers.limits.read().unwrap_or_else(PoisonError::into_inner);
        let groups = limits.as_ref().map_or(0, |limits| limits.groups.memory() + limits.last.capacity() * 16);
        let firsts = self.firsts.capacity() * size_of::<First>() + self.sizes.capacity() * 2;
        groups + firsts + self.held.iter().map(Held::memory).sum::<usize>()
    }

    /// Hands the rows that are held to the sort; all that come from now on go there.
    fn sort_all(&mut self, work: &mut MorselOutput) -> Result<()> {
        *self.workers.limits.write().unwrap_or_else(PoisonError::into_inner) = None;
        (self.firsts, self.sizes) = (Vec::new(), Vec::new());
        self.held_rows = 0;
        let sort = &self.workers.sort;
        let parts = |held: Held| {
            let starts = (0..held.batch.rows).step_by(PART_ROWS);
            let part = |start: usize| {
                let rows = PART_ROWS.min(held.batch.rows - start);
                let columns = held.columns.iter().map(|column| column.slice(start, rows)).collect();
                sort.part_of(held.batch.slice(start, rows), columns)
            };
            starts.map(part).collect::<Result<Vec<Keyed>>>()
        };
        let parts = self.threads.each(std::mem::take(&mut self.held).into_iter(), parts)?;
        self.reservation.hold(0)?;
        for part in parts.into_iter().flatten() {
            self.sort.commit(part, work)?;
        }
        Ok(())
    }

    /// Whether rows are still left out.
    fn leaves_out(&self) -> bool {
        self.workers.limits.read().unwrap_or_else(PoisonError::into_inner).is_some()
    }
}

impl Commit for TopPerGroup {
    type Part = CandidatePart;
    type Output = Materialized;

    fn commit(&mut self, part: CandidatePart, work: &mut MorselOutput) -> Result<bool> {
        let batches = match part {
            CandidatePart::Candidates(batches) => batches,
            CandidatePart::Sorted(part) => {
                if self.leaves_out() {
                    self.sort_all(work)?;
                }
                return self.sort.commit(part, work);
            }
        };
        if !self.leaves_out() {
            for (batch, columns) in batches {
                let part = self.workers.sort.part_of(batch, columns)?;
                self.sort.commit(part, work)?;
            }
            return Ok(true);
        }
        for (batch, columns) in batches {
            self.candidates += batch.rows;
            self.hold(batch, columns)?;
        }
        if self.held_rows > 2 * self.live + SURPLUS {
            self.shrink()?;
        }
        let left_out = self.workers.left_out.load(atomic::Ordering::Relaxed);
        let holds_most = left_out < self.candidates && left_out + self.candidates >= TRIED;
        if holds_most || !self.reservation.try_hold(self.memory()) {
            self.sort_all(work)?;
        }
        Ok(true)
    }

    fn finish(mut self, work: &mut MorselOutput) -> Result<Materialized> {
        if self.leaves_out() {
            self.shrink()?;
            self.sort_all(work)?;
        }
        self.sort.finish(work)
    }
}
