//! The ordered side: of each group the first rows so far.

use std::cmp::Ordering;
use std::sync::Arc;

use arrow_array::ArrayRef;
use churn_core::parallel::Threads;
use churn_core::{Batch, Result};

use super::candidates::{CandidatePart, GroupCandidates};
use crate::operators::sort::SortSink;
use crate::operators::sort::sort_keys::SortKeys;
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::gathered::gathered;
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::Commit;

/// Rows over twice those that are wanted before the others are dropped.
const SURPLUS: usize = 1 << 16;

/// Rows after which it is decided whether most have to be held.
const TRIED: usize = 1 << 22;

/// Rows that are made a part of the sort together.
const PART_ROWS: usize = 1 << 14;

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

    /// The rows in slices, with their key columns.
    fn into_slices(self) -> Vec<(Batch, Vec<ArrayRef>)> {
        let slice = |start: usize| {
            let rows = PART_ROWS.min(self.batch.rows - start);
            let columns = self.columns.iter().map(|column| column.slice(start, rows)).collect();
            (self.batch.slice(start, rows), columns)
        };
        (0..self.batch.rows).step_by(PART_ROWS).map(slice).collect()
    }

    /// The rows with the key columns behind their own.
    fn with_keys(&self) -> Batch {
        let columns = self.batch.columns.iter().chain(&self.columns).cloned().collect();
        Batch { columns, rows: self.batch.rows }
    }
}

/// One of the first rows of a group so far.
#[derive(Clone, Copy)]
struct First {
    code: u128,
    part: u32,
    row: u32,
}

/// The ordered side.
pub(crate) struct TopPerGroup {
    workers: Arc<GroupCandidates>,
    count: usize,
    reservation: Reservation,
    threads: Threads,
    /// In the order in which rows came.
    held: Vec<Held>,
    held_rows: usize,
    /// Of each group the wanted rows, in order.
    firsts: Vec<Vec<First>>,
    /// How many there are in all.
    live: usize,
    /// Candidates that came.
    candidates: usize,
    /// Takes all rows in the end.
    sort: SortSink,
}

impl TopPerGroup {
    pub(super) fn new(workers: Arc<GroupCandidates>, count: usize, context: &Context) -> TopPerGroup {
        let reservation = || context.budget.reservation();
        TopPerGroup {
            workers,
            count,
            reservation: reservation(),
            threads: context.threads().clone(),
            held: Vec::new(),
            held_rows: 0,
            firsts: Vec::new(),
            live: 0,
            candidates: 0,
            sort: SortSink::new(None, reservation(), &context.spill, context.threads().clone()),
        }
    }

    /// Holds candidates that come behind those that are held.
    fn hold(&mut self, batch: Batch, columns: Vec<ArrayRef>) -> Result<()> {
        let keys = self.workers.sort.keys(std::slice::from_ref(&columns), batch.rows)?;
        let workers = self.workers.clone();
        let mut limits = workers.limits_mut();
        let Some(limits) = limits.as_mut() else { return Ok(()) };
        limits.are_whole &= keys.codes_are_whole();
        let mut numbers = Vec::with_capacity(batch.rows);
        limits.groups.numbers(&batch.columns_at(&workers.columns), batch.rows, &mut numbers)?;
        limits.last.resize(limits.groups.len(), u128::MAX);
        self.firsts.resize(limits.groups.len(), Vec::new());
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
        let new = First { code: self.held.get(part)?.keys.code(row), part: part as u32, row: row as u32 };
        let firsts = self.firsts.get(group)?;
        // Of equal rows the earlier one stays before.
        let behind = firsts.iter().rev().take_while(|first| self.order(&new, first).is_lt()).count();
        let place = firsts.len() - behind;
        if place == self.count {
            return None;
        }
        let firsts = self.firsts.get_mut(group)?;
        if firsts.len() == self.count {
            firsts.pop();
        } else {
            self.live += 1;
            // Many groups have but few rows.
            firsts.reserve_exact(if firsts.len() == firsts.capacity() { firsts.len().max(1) } else { 0 });
        }
        firsts.insert(place, new);
        firsts.last().filter(|_| firsts.len() == self.count).map(|first| first.code)
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
        let mut live: Vec<&mut First> = self.firsts.iter_mut().flatten().collect();
        live.sort_unstable_by_key(|first| (first.part, first.row));
        let places: Vec<(u32, u32)> = live.iter().map(|first| (first.part, first.row)).collect();
        let batches: Vec<Batch> = self.held.iter().map(Held::with_keys).collect();
        let Some(width) = self.held.first().map(|held| held.batch.columns.len()) else { return Ok(()) };
        let mut batch = gathered(&batches.iter().collect::<Vec<_>>(), &places)?;
        drop(batches);
        let columns = batch.columns.split_off(width);
        let keys = self.workers.sort.keys(std::slice::from_ref(&columns), batch.rows)?;
        for (row, first) in (0u32..).zip(live) {
            (first.part, first.row) = (0, row);
        }
        self.held_rows = batch.rows;
        self.held = vec![Held { batch, columns, keys }];
        Ok(())
    }

    /// Bytes in use, about.
    fn memory(&self) -> usize {
        let limits = self.workers.limits();
        let groups = limits.as_ref().map_or(0, |limits| limits.groups.memory() + limits.last.capacity() * 16);
        // Of each group a vector, with what the system takes to tell it from others.
        let firsts = self.firsts.capacity() * 2 * size_of::<Vec<First>>() + self.live * size_of::<First>();
        groups + firsts + self.held.iter().map(Held::memory).sum::<usize>()
    }

    /// Hands the rows that are held to the sort; all that come from now on go there.
    fn sort_all(&mut self, work: &mut MorselOutput) -> Result<()> {
        *self.workers.limits_mut() = None;
        self.firsts = Vec::new();
        let (bytes, rows) = (self.memory(), std::mem::take(&mut self.held_rows).max(1));
        let sort = &self.workers.sort;
        let mut slices = std::mem::take(&mut self.held).into_iter().flat_map(Held::into_slices);
        let mut left = rows;
        loop {
            // A few at a time, since the sort may have to put them on disk.
            let some: Vec<_> = slices.by_ref().take(self.threads.count()).collect();
            if some.is_empty() {
                return self.reservation.hold(0);
            }
            left -= some.iter().map(|(batch, _)| batch.rows).sum::<usize>().min(left);
            let parts = self.threads.each(some.into_iter(), |(batch, keys)| sort.part_of(batch, keys))?;
            // What the sort holds from now on it reserves itself.
            let _ = self.reservation.try_hold((bytes as u128 * left as u128 / rows as u128) as usize);
            parts.into_iter().try_for_each(|part| self.sort.commit(part, work).map(drop))?;
        }
    }

    /// Whether rows are still left out.
    fn leaves_out(&self) -> bool {
        self.workers.limits().is_some()
    }
}

impl Commit for TopPerGroup {
    type Part = CandidatePart;
    type Output = Materialized;

    fn commit(&mut self, part: CandidatePart, work: &mut MorselOutput) -> Result<bool> {
        let batches = match part {
            CandidatePart::Candidates(batches) => batches,
            // Workers make some once no rows are left out, which stays so.
            CandidatePart::Sorted(part) => return self.sort.commit(part, work),
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
        let left_out = self.workers.left_out();
        let holds_most = left_out < self.candidates && left_out + self.candidates >= TRIED;
        // While rows are dropped or handed over, the new ones stand beside the old ones.
        if holds_most || !self.reservation.try_hold(2 * self.memory()) {
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
