//! The catalogue of aggregates: the one source of the checker, the docs and `churn help`.
//!
//! An aggregate is an [`Aggregate`] in a file of this folder, and one line in [`ALL`]. It keeps one state a
//! group and is told of rows in batches; partial results of later rows are merged into those of earlier ones,
//! never the other way round, so that an aggregate may depend on the order of rows.

mod bits;
mod count;
mod distinct;
#[cfg(test)]
mod example;
mod external;
mod extremes;
#[cfg(test)]
mod laws;
mod lists;
mod logic;
mod mode;
mod pairs;
mod quantile;
mod slide;
mod sums;

use std::any::Any;
use std::ops::Range;
use std::sync::Arc;

use arrow_array::builder::LargeBinaryBuilder;
use arrow_array::cast::AsArray;
use arrow_array::types::ArrowPrimitiveType;
use arrow_array::{Array, ArrayRef, LargeBinaryArray};
use churn_core::{Error, ErrorKind, Result, Type};
use churn_kernels::known::known;
use churn_kernels::prefetch;
use serde::Serialize;
use serde::de::DeserializeOwned;

pub(crate) use external::FromSorted;
pub use slide::{InPieces, Sliding, quantiles};

use super::Bound;
use super::functions::{Arguments, Complaint};
use external::ExternalValues;

/// An aggregate function.
pub struct Aggregate {
    /// Its name in the language.
    pub name: &'static str,
    /// How it is called.
    pub usage: &'static str,
    /// What it gives, in a sentence.
    pub summary: &'static str,
    /// A step over the demo's deliveries.
    pub example: &'static str,
    /// Checks the arguments and gives what computes it.
    #[doc(hidden)]
    pub bind: fn(Arguments) -> Result<Made, Complaint>,
}

/// Every aggregate.
pub const ALL: &[&[Aggregate]] = &[
    count::AGGREGATES,
    distinct::AGGREGATES,
    sums::AGGREGATES,
    quantile::AGGREGATES,
    extremes::AGGREGATES,
    mode::AGGREGATES,
    logic::AGGREGATES,
    lists::AGGREGATES,
    pairs::AGGREGATES,
];

/// All aggregates of the catalogue.
pub fn all() -> impl Iterator<Item = &'static Aggregate> {
    ALL.iter().flat_map(|family| family.iter())
}

/// Finds an aggregate by its name.
pub fn find(name: &str) -> Option<&'static Aggregate> {
    all().find(|a| a.name == name)
}

/// Makes the accumulator of an aggregate.
pub type Maker = Arc<dyn Fn() -> Box<dyn Accumulator> + Send + Sync>;

/// A checked aggregate call.
#[derive(Clone)]
pub struct Made {
    /// The arguments, converted to the types that it takes.
    pub args: Vec<Bound>,
    /// The type of the result.
    pub(crate) kind: Type,
    /// Makes its accumulators.
    pub make: Maker,
    /// The share, if it is a quantile: frames that slide have a way of their own for it.
    pub quantile: Option<f64>,
    /// The results of frames of floats, none of them null, if there is a faster way than `slide` for some frames.
    pub float_frames: Option<FloatFrames>,
}

/// What an aggregate of floats gives for frames, whose starts and ends never fall; `None` of frames for which it has no way. To
/// the bit what `slide` gives.
pub type FloatFrames = fn(&[f64], &[(u32, u32)]) -> Option<ArrayRef>;

/// The states of one aggregate for all groups.
pub trait Accumulator: Send {
    /// Makes room for groups `0..groups`.
    fn grow(&mut self, groups: usize);
    /// Adds the rows of a batch; `groups` has the group of each.
    fn update(&mut self, groups: &[u32], args: &[ArrayRef]) -> Result<()>;
    /// Adds another accumulator's states, of later rows; pairs are (theirs, ours).
    fn merge(&mut self, other: &mut dyn Accumulator, pairs: &[(u32, u32)]) -> Result<()>;
    /// Moves the states of these groups into accumulators of their own.
    fn partition(&mut self, parts: &[Vec<u32>]) -> Vec<Box<dyn Accumulator>>;
    /// The states of all groups as bytes, one value a group, and none left.
    fn save(&mut self) -> Result<LargeBinaryArray>;
    /// Appends saved states as those of further groups.
    fn load(&mut self, saved: &LargeBinaryArray) -> Result<()>;
    /// The results, one a group.
    fn finish(&mut self) -> Result<ArrayRef>;
    /// Splits off up to `most` values of each state that has more: the groups, and an accumulator with the parts.
    fn part(&mut self, most: usize) -> (Vec<u32>, Box<dyn Accumulator>);
    /// For external aggregation: the type of the values that a state consists of, if they can be drained from it.
    fn external(&self) -> Option<Type>;
    /// For external aggregation: empties all states. `put` is called with each group and its values as columns of equal
    /// length, the values themselves first.
    fn drain(&mut self, put: &mut dyn FnMut(usize, Vec<ArrayRef>) -> Result<()>) -> Result<()>;
    /// For external aggregation: what computes the results from the drained values in sorted order; `rows` has the
    /// number of values of each group.
    fn sorted(&self, rows: &[u64]) -> Option<Box<dyn FromSorted>>;
    /// The result of each window frame. There is one frame a row, as the range of its rows; starts and ends never fall.
    /// `rows` has the rows that the arguments belong to where some rows do not count.
    fn slide(&self, args: &[ArrayRef], rows: Option<&[u32]>, frames: &[(u32, u32)]) -> Result<ArrayRef>;
    /// As `slide`, for a partition that is on disk.
    fn sliding(&self) -> Box<dyn Sliding>;
    /// Bytes in use.
    fn memory(&self) -> usize;
    /// For the downcast in `merge`.
    fn as_any(&mut self) -> &mut dyn Any;
}

/// What an aggregate keeps of the rows of one group; its default is that of no rows.
///
/// States are merged, the earlier rows' first, written to disk by serde where memory is short, and read back: what a state
/// gives must not depend on how the rows were cut.
pub trait AggregateState: Clone + Default + Send + Serialize + DeserializeOwned + 'static {
    /// Adds the state of later rows, which is not needed any more.
    fn merge(&mut self, later: &mut Self);
    /// Bytes that the state holds outside itself, in vectors and texts: what the memory of a run is counted by.
    fn heap(&self) -> usize {
        0
    }
    /// The state of the first rows alone, where the state is one of more than so many values.
    #[doc(hidden)]
    fn part(&mut self, _most: usize) -> Option<Self> {
        None
    }
}

/// Frames that slide over rows that come in pieces.
struct SlidingStates<S, U, F> {
    frame: slide::SlidingFrame<S>,
    ahead: slide::FrameBlock<S>,
    behind: slide::FrameBlock<S>,
    update: U,
    finish: F,
}

impl<S, U, F> Sliding for SlidingStates<S, U, F>
where
    S: AggregateState,
    U: Fn(&mut [S], &[u32], &[ArrayRef]) -> Result<()>,
    F: Fn(&mut [S]) -> Result<ArrayRef>,
{
    fn results(
        &mut self,
        frames: &[Range<usize>],
        ahead: &mut dyn InPieces,
        behind: &mut dyn InPieces,
    ) -> Result<ArrayRef> {
        let mut ahead = slide::Fetched { arguments: ahead, update: &self.update, block: &mut self.ahead };
        let mut behind = slide::Fetched { arguments: behind, update: &self.update, block: &mut self.behind };
        slide::slide(&mut self.frame, frames.iter().cloned(), &mut ahead, &mut behind, &self.finish)
    }
}

/// An accumulator made of a state a group and two closures.
struct States<S, U, F> {
    states: Vec<S>,
    update: U,
    finish: F,
    external: Option<Arc<dyn ExternalValues<S>>>,
}

impl<S, U: Clone, F: Clone> States<S, U, F> {
    /// Other states of the same aggregate.
    fn with(&self, states: Vec<S>) -> Self {
        let (update, finish) = (self.update.clone(), self.finish.clone());
        States { states, update, finish, external: self.external.clone() }
    }
}

impl<S, U, F> Accumulator for States<S, U, F>
where
    S: AggregateState,
    U: Fn(&mut [S], &[u32], &[ArrayRef]) -> Result<()> + Clone + Send + 'static,
    F: Fn(&mut [S]) -> Result<ArrayRef> + Clone + Send + 'static,
{
    fn grow(&mut self, groups: usize) {
        if groups > self.states.len() {
            self.states.resize_with(groups, S::default);
        }
    }

    fn update(&mut self, groups: &[u32], args: &[ArrayRef]) -> Result<()> {
        (self.update)(&mut self.states, groups, args)
    }

    fn merge(&mut self, other: &mut dyn Accumulator, pairs: &[(u32, u32)]) -> Result<()> {
        let Some(other) = other.as_any().downcast_mut::<Self>() else {
            return Err(of_different_kinds());
        };
        for (theirs, ours) in pairs {
            if let (Some(from), Some(to)) =
                (other.states.get_mut(*theirs as usize), self.states.get_mut(*ours as usize))
            {
                to.merge(from);
            }
        }
        Ok(())
    }

    fn partition(&mut self, parts: &[Vec<u32>]) -> Vec<Box<dyn Accumulator>> {
        let whole = parts.iter().any(|part| part.len() == self.states.len());
        let part_of = |part: &Vec<u32>| {
            let states = if whole && part.len() == self.states.len() {
                std::mem::take(&mut self.states)
            } else {
                part.iter().filter_map(|n| self.states.get_mut(*n as usize).map(std::mem::take)).collect()
            };
            Box::new(self.with(states)) as Box<dyn Accumulator>
        };
        parts.iter().map(part_of).collect()
    }

    fn save(&mut self) -> Result<LargeBinaryArray> {
        let mut saved = LargeBinaryBuilder::new();
        let mut bytes = Vec::new();
        for state in self.states.drain(..) {
            bytes.clear();
            bytes = postcard::to_extend(&state, bytes).map_err(|e| unsaved(&e))?;
            saved.append_value(&bytes);
        }
        Ok(saved.finish())
    }

    fn load(&mut self, saved: &LargeBinaryArray) -> Result<()> {
        for bytes in saved.iter().flatten() {
            self.states.push(postcard::from_bytes(bytes).map_err(|e| unsaved(&e))?);
        }
        Ok(())
    }

    fn finish(&mut self) -> Result<ArrayRef> {
        (self.finish)(&mut self.states)
    }

    fn part(&mut self, most: usize) -> (Vec<u32>, Box<dyn Accumulator>) {
        let states = (0u32..).zip(&mut self.states);
        let (groups, parts) = states.filter_map(|(group, state)| Some((group, state.part(most)?))).unzip();
        (groups, Box::new(self.with(parts)))
    }

    fn external(&self) -> Option<Type> {
        self.external.as_ref().map(|external| external.kind())
    }

    fn drain(&mut self, put: &mut dyn FnMut(usize, Vec<ArrayRef>) -> Result<()>) -> Result<()> {
        let Some(external) = &self.external else { return Ok(()) };
        self.states.iter_mut().enumerate().try_for_each(|(group, state)| put(group, external.drain(state)))
    }

    fn sorted(&self, rows: &[u64]) -> Option<Box<dyn FromSorted>> {
        self.external.as_ref().map(|external| external.sorted(rows))
    }

    fn slide(&self, args: &[ArrayRef], rows: Option<&[u32]>, frames: &[(u32, u32)]) -> Result<ArrayRef> {
        let mut singles = vec![S::default(); frames.len()];
        match rows {
            Some(rows) => (self.update)(&mut singles, rows, args)?,
            None => (self.update)(&mut singles, &(0..frames.len() as u32).collect::<Vec<u32>>(), args)?,
        }
        let frames = frames.iter().map(|(from, to)| *from as usize..*to as usize);
        let (mut ahead, mut behind) = (slide::WholeFrame(&singles), slide::WholeFrame(&singles));
        slide::slide(&mut slide::SlidingFrame::default(), frames, &mut ahead, &mut behind, &self.finish)
    }

    fn sliding(&self) -> Box<dyn Sliding> {
        Box::new(SlidingStates {
            frame: slide::SlidingFrame::default(),
            ahead: slide::FrameBlock::default(),
            behind: slide::FrameBlock::default(),
            update: self.update.clone(),
            finish: self.finish.clone(),
        })
    }

    fn memory(&self) -> usize {
        self.states.capacity() * size_of::<S>() + self.states.iter().map(AggregateState::heap).sum::<usize>()
    }

    fn as_any(&mut self) -> &mut dyn Any {
        self
    }
}

fn of_different_kinds() -> Error {
    Error::new(ErrorKind::Internal, "Two aggregates of different kinds were to be merged.")
}

fn unsaved(error: &postcard::Error) -> Error {
    Error::new(ErrorKind::Internal, format!("The state of an aggregate could not be kept on disk: {error}."))
}

/// Checks done: the aggregate with its arguments, its result's type and its two closures.
pub(crate) fn made<S, U, F>(args: Arguments, kind: Type, update: U, finish: F) -> Made
where
    S: AggregateState,
    U: Fn(&mut [S], &[u32], &[ArrayRef]) -> Result<()> + Clone + Send + Sync + 'static,
    F: Fn(&mut [S]) -> Result<ArrayRef> + Clone + Send + Sync + 'static,
{
    made_with(args, kind, update, finish, None)
}

/// As [`made`], of an aggregate whose states are values that can be kept on disk.
fn made_external<S, U, F>(
    args: Arguments,
    kind: Type,
    update: U,
    finish: F,
    external: Arc<dyn ExternalValues<S>>,
) -> Made
where
    S: AggregateState,
    U: Fn(&mut [S], &[u32], &[ArrayRef]) -> Result<()> + Clone + Send + Sync + 'static,
    F: Fn(&mut [S]) -> Result<ArrayRef> + Clone + Send + Sync + 'static,
{
    made_with(args, kind, update, finish, Some(external))
}

fn made_with<S, U, F>(
    args: Arguments,
    kind: Type,
    update: U,
    finish: F,
    external: Option<Arc<dyn ExternalValues<S>>>,
) -> Made
where
    S: AggregateState,
    U: Fn(&mut [S], &[u32], &[ArrayRef]) -> Result<()> + Clone + Send + Sync + 'static,
    F: Fn(&mut [S]) -> Result<ArrayRef> + Clone + Send + Sync + 'static,
{
    let make = move || {
        let (update, finish, external) = (update.clone(), finish.clone(), external.clone());
        Box::new(States { states: Vec::<S>::new(), update, finish, external }) as Box<dyn Accumulator>
    };
    Made { args: args.values, kind, make: Arc::new(make), quantile: None, float_frames: None }
}

/// The argument at `i`.
fn column(args: &[ArrayRef], i: usize) -> Result<&ArrayRef> {
    args.get(i).ok_or_else(|| Error::new(ErrorKind::Internal, "An aggregate lacks an argument."))
}

/// Calls `f` with the group's state and the row of each row where none of the columns is null.
#[inline]
fn each_valid<S>(states: &mut [S], groups: &[u32], columns: &[&ArrayRef], mut f: impl FnMut(&mut S, usize)) {
    let nulls = columns.iter().fold(None, |nulls, column| {
        arrow_buffer::NullBuffer::union(nulls.as_ref(), column.logical_nulls().as_ref())
    });
    match nulls.filter(|n| n.null_count() > 0) {
        None => each_row(states, groups, f),
        Some(nulls) => each_row(states, groups, |state, row| {
            if nulls.is_valid(row) {
                f(state, row);
            }
        }),
    }
}

/// Bytes of states that are near in any case.
const NEAR: usize = 1 << 14;

/// Calls `f` with the group's state and the value of each row that has one.
#[inline]
fn each_value<S, T: ArrowPrimitiveType>(
    states: &mut [S],
    groups: &[u32],
    column: &ArrayRef,
    mut f: impl FnMut(&mut S, T::Native),
) {
    let values = column.as_primitive::<T>().values();
    if column.null_count() == 0 {
        each(states, groups, values.iter().copied(), f);
    } else {
        each_valid(states, groups, &[column], |state, row| f(state, at(values, row)));
    }
}

/// Calls `f` with the group's state and the row of each row.
#[inline]
fn each_row<S>(states: &mut [S], groups: &[u32], f: impl FnMut(&mut S, usize)) {
    each(states, groups, 0.., f);
}

/// Calls `f` with the group's state and the item of each row; states are brought near some rows ahead.
#[inline]
fn each<S, I>(
    states: &mut [S],
    groups: &[u32],
    mut items: impl Iterator<Item = I>,
    mut f: impl FnMut(&mut S, I),
) {
    let is_near = size_of_val(states) <= NEAR;
    let later = groups.get(prefetch::AHEAD..).filter(|_| !is_near).unwrap_or_default();
    let (first, last) = groups.split_at(later.len());
    for ((group, later), item) in first.iter().zip(later).zip(&mut items) {
        prefetch::near(states, *later as usize);
        if let Some(state) = states.get_mut(*group as usize) {
            f(state, item);
        }
    }
    for (group, item) in last.iter().zip(items) {
        if let Some(state) = states.get_mut(*group as usize) {
            f(state, item);
        }
    }
}

/// The value at `row` of a slice that is as long as the batch.
#[inline]
fn at<T: Copy + Default>(values: &[T], row: usize) -> T {
    known(values, row)
}
