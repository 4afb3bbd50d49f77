//! The ordered side: of each group the first rows so far.

use std::cmp::Ordering;
use std::sync::Arc;

use churn_core::parallel::Threads;
use churn_core::{Batch, Result};

use super::candidates::{CandidatePart, GroupCandidates};
use crate::operators::sort::SortKeys;
use crate::operators::window::{BLOCK_ROWS, WindowRows};
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::gathered::{GatheredScan, gathered};
use crate::runtime::materialized::{Materialized, slices_of};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::Commit;
use crate::spill::partitioned::PartitionedSink;

/// Rows over twice those that are wanted before the others are dropped.
const SURPLUS: usize = 1 << 16;

/// Rows after which it is decided whether most have to be held.
const TRIED: usize = 1 << 22;

/// Rows after which this is decided where half of them had far fewer groups.
const TRIED_AS_GROUPS_GROW: usize = 1 << 19;

/// Rows that are held.
struct Held {
    /// Their keys stand behind their columns.
    batch: Batch,
    keys: SortKeys,
}

impl Held {
    fn memory(&self) -> usize {
        self.batch.memory() + self.keys.memory()
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
    /// How many groups there were when half of [`TRIED_AS_GROUPS_GROW`] rows had come.
    groups_of_half: usize,
    /// Takes all rows once they are distributed.
    distributed: PartitionedSink<WindowRows>,
}

/// The rows that are wanted, in the order in which they came, their keys behind their columns.
pub(crate) struct FirstRows {
    pub(super) rows: Materialized,
    /// Whether there are others, too, and the number of each row in its group behind its keys.
    pub(super) are_numbered: bool,
}

impl TopPerGroup {
    pub(super) fn new(
        workers: Arc<GroupCandidates>,
        distributed: PartitionedSink<WindowRows>,
        context: &Context,
    ) -> TopPerGroup {
        TopPerGroup {
            reservation: context.budget.reservation(),
            threads: context.threads().clone(),
            held: Vec::new(),
            held_rows: 0,
            firsts: Vec::new(),
            live: 0,
            candidates: 0,
            groups_of_half: 0,
            distributed,
            workers,
        }
    }

    /// Holds candidates that come behind those that are held.
    fn hold(&mut self, batch: Batch) -> Result<()> {
        let keys = self.keys(&batch)?;
        let workers = self.workers.clone();
        let mut limits = workers.limits_mut();
        let Some(limits) = limits.as_mut() else { return Ok(()) };
        limits.are_whole &= keys.codes_are_whole();
        let mut numbers = Vec::with_capacity(batch.rows);
        limits.groups.numbers(&batch.columns_at(&workers.window.by), batch.rows, &mut numbers)?;
        limits.last.resize(limits.groups.len(), u128::MAX);
        self.firsts.resize(limits.groups.len(), Vec::new());
        self.held_rows += batch.rows;
        self.held.push(Held { batch, keys });
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

    /// The keys of some rows.
    fn keys(&self, batch: &Batch) -> Result<SortKeys> {
        self.workers.sort.keys(&[self.workers.keys_of(batch)], batch.rows)
    }

    /// Puts a row among the first of its group, if it is one of them; gives the code of the last one if the group is full.
    fn insert(&mut self, group: usize, part: usize, row: usize) -> Option<u128> {
        let new = First { code: self.held.get(part)?.keys.code(row), part: part as u32, row: row as u32 };
        let firsts = self.firsts.get(group)?;
        // Of equal rows the earlier one stays before.
        let behind = firsts.iter().rev().take_while(|first| self.order(&new, first).is_lt()).count();
        let place = firsts.len() - behind;
        if place == self.workers.count {
            return None;
        }
        let firsts = self.firsts.get_mut(group)?;
        if firsts.len() == self.workers.count {
            firsts.pop();
        } else {
            self.live += 1;
            // Many groups have but few rows.
            firsts.reserve_exact(if firsts.len() == firsts.capacity() { firsts.len().max(1) } else { 0 });
        }
        firsts.insert(place, new);
        firsts.last().filter(|_| firsts.len() == self.workers.count).map(|first| first.code)
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
        let batches: Vec<&Batch> = self.held.iter().map(|held| &held.batch).collect();
        let batch = gathered(&batches, &places)?;
        for (row, first) in (0u32..).zip(live) {
            (first.part, first.row) = (0, row);
        }
        let keys = self.keys(&batch)?;
        self.held_rows = batch.rows;
        self.held = vec![Held { batch, keys }];
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

    /// Whether most rows have to be held, by those that came so far.
    fn holds_most(&mut self) -> bool {
        let left_out = self.workers.left_out();
        let rows = left_out + self.candidates;
        if rows < TRIED_AS_GROUPS_GROW / 2 {
            self.groups_of_half = self.firsts.len();
        }
        // Groups of which all have come fill up, and leave rows out then.
        let grow = self.firsts.len() * 2 > self.groups_of_half * 3;
        left_out < self.candidates && rows >= if grow { TRIED_AS_GROUPS_GROW } else { TRIED }
    }

    /// Distributes the rows that are held, as all that come from now on.
    fn distribute(&mut self, work: &mut MorselOutput) -> Result<()> {
        *self.workers.limits_mut() = None;
        self.firsts = Vec::new();
        let (bytes, rows) = (self.memory(), std::mem::take(&mut self.held_rows).max(1));
        let workers = self.workers.clone();
        let held = std::mem::take(&mut self.held).into_iter();
        let mut slices = held.flat_map(|held| slices_of(held.batch, BLOCK_ROWS));
        let mut left = rows;
        loop {
            // A few at a time, since they may have to be put on disk.
            let some: Vec<Batch> = slices.by_ref().take(self.threads.count()).collect();
            if some.is_empty() {
                return self.reservation.hold(0);
            }
            left -= some.iter().map(|batch| batch.rows).sum::<usize>().min(left);
            let blocks = self.threads.each(some.into_iter(), |batch| workers.distributed(vec![batch]))?;
            // What is held from now on is reserved there.
            let _ = self.reservation.try_hold((bytes as u128 * left as u128 / rows as u128) as usize);
            blocks.into_iter().try_for_each(|block| self.distributed.commit(block, work).map(drop))?;
        }
    }

    /// Whether rows are still left out.
    fn leaves_out(&self) -> bool {
        self.workers.limits().is_some()
    }
}

impl Commit for TopPerGroup {
    type Part = CandidatePart;
    type Output = FirstRows;

    fn commit(&mut self, part: CandidatePart, work: &mut MorselOutput) -> Result<bool> {
        let batches = match part {
            CandidatePart::Candidates(batches) => batches,
            // Workers make some once no rows are left out, which stays so.
            CandidatePart::Distributed(block) => return self.distributed.commit(block, work),
        };
        if !self.leaves_out() {
            return self.distributed.commit(self.workers.distributed(batches)?, work);
        }
        for batch in batches {
            self.candidates += batch.rows;
            self.hold(batch)?;
        }
        if self.held_rows > 2 * self.live + SURPLUS {
            self.shrink()?;
        }
        // While rows are dropped or handed over, the new ones stand beside the old ones.
        if self.holds_most() || !self.reservation.try_hold(2 * self.memory()) {
            self.distribute(work)?;
        }
        Ok(true)
    }

    fn finish(self, work: &mut MorselOutput) -> Result<FirstRows> {
        if !self.leaves_out() {
            return Ok(FirstRows { rows: self.distributed.finish(work)?, are_numbered: true });
        }
        let mut places: Vec<(u32, u32)> =
            self.firsts.iter().flatten().map(|first| (first.part, first.row)).collect();
        places.sort_unstable();
        let batches: Vec<Batch> = self.held.into_iter().map(|held| held.batch).collect();
        let rows = GatheredScan::new(&batches, places, self.reservation)?;
        Ok(FirstRows { rows: Materialized::Scan(Box::new(rows)), are_numbered: false })
    }
}
