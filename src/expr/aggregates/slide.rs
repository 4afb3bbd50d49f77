//! Aggregates over frames of rows that slide: each row comes in once and goes out once.
//!
//! States can be merged but not taken apart, so those of a frame are kept as two stacks: behind a border in the
//! middle one state that grows, before it one state for each row, of that row and those up to the border. A row goes
//! out by leaving the stack; when it is empty, the border moves to the end of the frame. Sums are so never
//! subtracted from, and lose nothing.

use std::cmp::Ordering;

use arrow_array::builder::Float64Builder;
use arrow_array::{ArrayRef, Float64Array};

use super::State;
use crate::error::Result;
use crate::expr::compare::order_floats;

/// Results that are made at once: states of many values would else be held for all rows.
const TOGETHER: usize = 1 << 12;

/// The results of frames over rows with these states.
pub(super) fn slide<S: State>(
    singles: &[S],
    frames: &[(u32, u32)],
    finish: &dyn Fn(&mut [S]) -> Result<ArrayRef>,
) -> Result<ArrayRef> {
    let mut parts: Vec<ArrayRef> = Vec::new();
    let mut states: Vec<S> = Vec::with_capacity(TOGETHER.min(frames.len()));
    let mut frame = Frame { singles, front: Vec::new(), back: S::default(), from: 0, to: 0 };
    for (from, to) in frames {
        states.push(frame.moved(*from as usize, *to as usize));
        if states.len() == TOGETHER {
            parts.push(finish(&mut states)?);
            states.clear();
        }
    }
    if parts.is_empty() || !states.is_empty() {
        parts.push(finish(&mut states)?);
    }
    let parts: Vec<_> = parts.iter().map(AsRef::as_ref).collect();
    arrow_select::concat::concat(&parts).map_err(crate::expr::arrow_error)
}

/// The states of a frame.
struct Frame<'a, S> {
    singles: &'a [S],
    /// Of each row before the border, and those from it to the border; the frame's first row on top.
    front: Vec<S>,
    /// Of the rows behind the border.
    back: S,
    from: usize,
    to: usize,
}

impl<S: State> Frame<'_, S> {
    /// Moves the frame on; gives its state.
    fn moved(&mut self, from: usize, to: usize) -> S {
        if from >= to {
            return S::default();
        }
        if from >= self.to {
            self.front.clear();
            self.back = S::default();
            (self.from, self.to) = (from, from);
        }
        for single in self.singles.get(self.to..to).unwrap_or_default() {
            self.back.merge(&mut single.clone());
        }
        self.to = self.to.max(to);
        while self.from < from {
            if self.front.is_empty() {
                self.turn(from);
                break;
            }
            self.front.pop();
            self.from += 1;
        }
        match self.front.last() {
            None => self.back.clone(),
            Some(front) => {
                let mut whole = front.clone();
                whole.merge(&mut self.back.clone());
                whole
            }
        }
    }

    /// Moves the border to the end of the frame, which starts at `from`.
    fn turn(&mut self, from: usize) {
        let mut whole = S::default();
        for single in self.singles.get(from..self.to).unwrap_or_default().iter().rev() {
            let mut state = single.clone();
            state.merge(&mut whole);
            self.front.push(state.clone());
            whole = state;
        }
        self.back = S::default();
        self.from = from;
    }
}

/// The quantiles of frames: the values in the frame are marked at their ranks, and the wanted rank is looked for in
/// a tree of counts.
pub(crate) fn quantiles(
    values: &Float64Array,
    rows: Option<&[u32]>,
    p: f64,
    frames: &[(u32, u32)],
) -> Float64Array {
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
            rank_of.get(to.max(first)..end).unwrap_or_default().iter().for_each(|rank| counts.add(*rank, 1));
            rank_of
                .get(from..first.min(to))
                .unwrap_or_default()
                .iter()
                .for_each(|rank| counts.add(*rank, -1));
            (from, to) = (first, end);
        } else {
            rank_of.get(from..to).unwrap_or_default().iter().for_each(|rank| counts.add(*rank, -1));
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
