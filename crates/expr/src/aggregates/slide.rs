//! Aggregates over sliding window frames in amortised constant time a row, for states that can be merged and not
//! subtracted from.
//!
//! This is the two-stack queue for sliding aggregation, with blocks: a frame's state is kept as (1) a stack with, for
//! each remaining row of the block that the frame starts in, the merged state of that row and all rows up to the block's
//! end; (2) one merged state of all full blocks behind it; (3) one state of the rows of the last block so far. A row
//! leaves the frame by a pop of the stack; when the stack is empty, the states of the next block's rows are computed
//! again and become the stack. Each row is merged three times at most. Since nothing is subtracted, sums keep their
//! accuracy. At most one block of single-row states is in memory, however wide the frame is.
//!
//! A frame of a few rows is merged anew for each row where the state is a few numbers: rows do not wait for each other then,
//! which costs less than the queue does.

use std::cmp::Ordering;
use std::collections::VecDeque;
use std::ops::Range;

use arrow_array::builder::Float64Builder;
use arrow_array::{ArrayRef, Float64Array};
use churn_core::Result;
use churn_kernels::known::known_part;

use super::AggregateState;
use crate::compare::order_floats;

/// Results that are made at once: states of many values would else be held for all rows.
const TOGETHER: usize = 1 << 12;

/// Rows of a block.
pub(super) const BLOCK: usize = 1 << 12;

/// Rows of a frame that is merged anew for each row.
pub(super) const NARROW: usize = 8;

/// Bytes of a state that is merged in a few instructions.
const SMALL: usize = 32;

/// Turns states into results.
pub(super) type Finish<'a, S> = &'a dyn Fn(&mut [S]) -> Result<ArrayRef>;

/// The states of single rows, from front to back.
pub(super) trait Singles<S> {
    /// Those of these rows.
    fn of(&mut self, rows: Range<usize>) -> Result<&[S]>;
}

/// The states of all rows.
pub(super) struct WholeFrame<'a, S>(pub(super) &'a [S]);

impl<S> Singles<S> for WholeFrame<'_, S> {
    fn of(&mut self, rows: Range<usize>) -> Result<&[S]> {
        Ok(self.0.get(rows).unwrap_or_default())
    }
}

/// The results of frames whose ends only rise; rows come in from `ahead`, and are looked at again in `behind`.
pub(super) fn slide<S: AggregateState>(
    frame: &mut SlidingFrame<S>,
    frames: impl ExactSizeIterator<Item = Range<usize>>,
    ahead: &mut impl Singles<S>,
    behind: &mut impl Singles<S>,
    finish: Finish<'_, S>,
) -> Result<ArrayRef> {
    let mut parts: Vec<ArrayRef> = Vec::new();
    let mut states: Vec<S> = Vec::with_capacity(TOGETHER.min(frames.len()));
    // By the state's type and the frame alone, so that the answer does not depend on how rows are cut.
    let is_small = size_of::<S>() <= SMALL && !std::mem::needs_drop::<S>();
    for rows in frames {
        states.push(if is_small && (1..=NARROW).contains(&rows.len()) {
            merged(behind.of(rows)?)
        } else {
            frame.moved(rows, ahead, behind)?
        });
        if states.len() == TOGETHER {
            parts.push(finish(&mut states)?);
            states.clear();
        }
    }
    if parts.is_empty() || !states.is_empty() {
        parts.push(finish(&mut states)?);
    }
    let parts: Vec<_> = parts.iter().map(AsRef::as_ref).collect();
    arrow_select::concat::concat(&parts).map_err(churn_core::arrow_error)
}

/// All of these states in one.
#[inline]
fn merged<S: AggregateState>(singles: &[S]) -> S {
    let Some((first, later)) = singles.split_first() else { return S::default() };
    let mut all = first.clone();
    later.iter().for_each(|single| all.merge(&mut single.clone()));
    all
}

/// The states of a frame.
#[derive(Default)]
pub(super) struct SlidingFrame<S> {
    /// Of each row from the frame's first one, which is on top, to the end of its block.
    front: Vec<S>,
    /// Of the full blocks behind that, with their ends, and of all of them.
    full: VecDeque<(usize, S)>,
    middle: S,
    /// Of the rows behind them, and where these start.
    last: S,
    start: usize,
    from: usize,
    to: usize,
}

impl<S: AggregateState> SlidingFrame<S> {
    /// Moves the frame on; gives its state.
    fn moved(
        &mut self,
        rows: Range<usize>,
        ahead: &mut impl Singles<S>,
        behind: &mut impl Singles<S>,
    ) -> Result<S> {
        if rows.is_empty() {
            return Ok(S::default());
        }
        if rows.start >= self.to {
            *self = SlidingFrame {
                start: rows.start,
                from: rows.start,
                to: rows.start,
                ..SlidingFrame::default()
            };
        }
        while self.to < rows.end {
            let end = rows.end.min(self.start + BLOCK);
            ahead.of(self.to..end)?.iter().for_each(|single| self.last.merge(&mut single.clone()));
            self.to = end;
            if end == self.start + BLOCK {
                self.middle.merge(&mut self.last.clone());
                self.full.push_back((end, std::mem::take(&mut self.last)));
                self.start = end;
            }
        }
        while self.from < rows.start {
            if self.front.is_empty() {
                self.turn(rows.start, behind)?;
                break;
            }
            self.front.pop();
            self.from += 1;
        }
        let mut whole = self.front.last().cloned();
        let mut join = |part: &S| match &mut whole {
            Some(whole) => whole.merge(&mut part.clone()),
            None => whole = Some(part.clone()),
        };
        if !self.full.is_empty() {
            join(&self.middle);
        }
        if self.start < self.to {
            join(&self.last);
        }
        Ok(whole.unwrap_or_default())
    }

    /// Turns the block that the frame now starts in into states of its rows.
    fn turn(&mut self, from: usize, behind: &mut impl Singles<S>) -> Result<()> {
        while self.full.front().is_some_and(|(end, _)| *end <= from) {
            self.full.pop_front();
        }
        let end = if let Some((end, _)) = self.full.pop_front() {
            end
        } else {
            (self.last, self.start) = (S::default(), self.to);
            self.to
        };
        self.middle = S::default();
        self.full.iter().for_each(|(_, block)| self.middle.merge(&mut block.clone()));
        for single in behind.of(from..end)?.iter().rev() {
            let mut state = single.clone();
            if let Some(later) = self.front.last() {
                state.merge(&mut later.clone());
            }
            self.front.push(state);
        }
        self.from = from;
        Ok(())
    }
}

/// The arguments of a partition that is on disk, read forward.
pub trait InPieces {
    /// How many rows there are.
    fn rows(&self) -> usize;

    /// The arguments of these rows; and which of them they are of, if not of all, from the first one on.
    fn of(&mut self, rows: Range<usize>) -> Result<(Vec<ArrayRef>, Option<Vec<u32>>)>;
}

/// An aggregate over the frames of a partition that is on disk.
pub trait Sliding {
    /// The results of the next frames. Both readers give the same arguments: `ahead` is at the frames' ends, where rows
    /// enter, and `behind` at their starts, where a block of rows is read again.
    fn results(
        &mut self,
        frames: &[Range<usize>],
        ahead: &mut dyn InPieces,
        behind: &mut dyn InPieces,
    ) -> Result<ArrayRef>;
}

/// The states of single rows, made a block at a time.
pub(super) struct Fetched<'a, S, U> {
    pub(super) arguments: &'a mut dyn InPieces,
    pub(super) update: &'a U,
    pub(super) block: &'a mut FrameBlock<S>,
}

/// The states of some single rows.
#[derive(Default)]
pub(super) struct FrameBlock<S> {
    from: usize,
    states: Vec<S>,
}

impl<S, U> Singles<S> for Fetched<'_, S, U>
where
    S: AggregateState,
    U: Fn(&mut [S], &[u32], &[ArrayRef]) -> Result<()>,
{
    fn of(&mut self, rows: Range<usize>) -> Result<&[S]> {
        let block = &mut *self.block;
        if rows.start < block.from || rows.end > block.from + block.states.len() {
            let end = rows.end.max((rows.start + BLOCK).min(self.arguments.rows()));
            let (args, own) = self.arguments.of(rows.start..end)?;
            let own = own.unwrap_or_else(|| (0..(end - rows.start) as u32).collect());
            block.from = rows.start;
            block.states.clear();
            block.states.resize_with(end - rows.start, S::default);
            (self.update)(&mut block.states, &own, &args)?;
        }
        Ok(known_part(&block.states, rows.start - block.from..rows.end - block.from))
    }
}

/// The quantiles of frames: the values in the frame are marked at their ranks, and the wanted rank is looked for in
/// a tree of counts.
pub fn quantiles(values: &Float64Array, rows: Option<&[u32]>, p: f64, frames: &[(u32, u32)]) -> Float64Array {
    use arrow_array::Array;
    let most = frames.iter().map(|(_, to)| *to).max().unwrap_or(0) as usize;
    let mut value_of: Vec<Option<f64>> = vec![None; most];
    for place in 0..values.len() {
        let row = rows.map_or(place, |rows| rows.get(place).map_or(usize::MAX, |row| *row as usize));
        if let Some(slot) = value_of.get_mut(row).filter(|_| values.is_valid(place)) {
            *slot = Some(values.value(place));
        }
    }
    let mut sorted: Vec<(f64, usize)> =
        value_of.iter().enumerate().filter_map(|(row, value)| Some(((*value)?, row))).collect();
    sorted.sort_unstable_by(|a, b| order_floats(a.0, b.0).then(a.1.cmp(&b.1)));
    let mut rank_of = vec![usize::MAX; most];
    for (rank, (_, row)) in sorted.iter().enumerate() {
        if let Some(slot) = rank_of.get_mut(*row) {
            *slot = rank;
        }
    }
    let mut counts = Counts::new(sorted.len());
    let (mut from, mut to) = (0, 0);
    let mut results = Float64Builder::with_capacity(frames.len());
    for (first, end) in frames {
        let (first, end) = (*first as usize, *end as usize);
        if first < end {
            known_part(&rank_of, to.max(first)..end).iter().for_each(|rank| counts.add(*rank, 1));
            rank_of
                .get(from..first.min(to))
                .unwrap_or_default()
                .iter()
                .for_each(|rank| counts.add(*rank, -1));
            (from, to) = (first, end);
        } else {
            known_part(&rank_of, from..to).iter().for_each(|rank| counts.add(*rank, -1));
            (from, to) = (end.max(to), end.max(to));
        }
        let value_at = |place: usize| sorted.get(counts.find(place)).map(|(value, _)| *value);
        let quantile = (counts.total > 0).then(|| {
            let place = p * (counts.total - 1) as f64;
            let share = place - place.floor();
            let low = value_at(place.floor() as usize)?;
            let high = if share == 0.0 { low } else { value_at(place.floor() as usize + 1)? };
            Some(if order_floats(low, high) == Ordering::Equal { low } else { low + (high - low) * share })
        });
        results.append_option(quantile.flatten().filter(|_| first < end));
    }
    results.finish()
}

/// Marks at ranks, counted by a tree of partial sums.
struct Counts {
    sums: Vec<i32>,
    total: usize,
}

impl Counts {
    fn new(ranks: usize) -> Counts {
        Counts { sums: vec![0; ranks + 1], total: 0 }
    }

    fn add(&mut self, rank: usize, by: i32) {
        if rank == usize::MAX {
            return;
        }
        self.total = self.total.wrapping_add_signed(by as isize);
        let mut at = rank + 1;
        while let Some(sum) = self.sums.get_mut(at) {
            *sum += by;
            at += at & at.wrapping_neg();
        }
    }

    /// The rank of the mark that has so many before it.
    fn find(&self, before: usize) -> usize {
        let mut left = before as i32;
        let mut at = 0;
        let mut step = self.sums.len().next_power_of_two() / 2;
        while step > 0 {
            if let Some(sum) = self.sums.get(at + step).filter(|sum| **sum <= left) {
                left -= sum;
                at += step;
            }
            step /= 2;
        }
        at
    }
}
