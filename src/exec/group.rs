//! `group`, `total` and `per`: a small table for each morsel, merged in order into the large one.
//!
//! A worker numbers the keys of its rows with a table that it keeps from morsel to morsel, so that a key that
//! was seen before costs one look-up. Aggregates are kept for the groups of one morsel only; the ordered side
//! adds them to the large table through a remembered translation of numbers. Sums therefore meet in the order of
//! morsels, whatever worker made them, and groups stand in order of first appearance.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, UInt32Array};

use super::budget::{Budget, Reservation};
use super::held::compacted;
use super::keys::KeyTable;
use super::pipeline::{Commit, Part, Prepare, Sink};
use super::tally::Work;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::aggregates::{Accumulator, Maker};
use crate::expr::{Batch, Bound, Event, Type};
use crate::plan::StepId;

/// Keys that a worker's table may hold before it starts anew.
///
/// Far above this number morsels share few keys, and remembering them costs more than it saves.
const LOCAL_KEYS: usize = 1 << 16;

/// An aggregate, placed.
#[derive(Clone)]
pub(crate) struct Call {
    pub(crate) args: Vec<Bound>,
    pub(crate) only: Option<Bound>,
    pub(crate) make: Maker,
}

/// What groups are made of and by.
pub(crate) struct Grouping {
    pub(crate) keys: Vec<Bound>,
    pub(crate) kinds: Vec<Type>,
    pub(crate) calls: Vec<Call>,
    pub(crate) step: StepId,
    pub(crate) text: String,
    /// Whether the rows stay, each with its group's aggregates beside it.
    pub(crate) beside: bool,
}

/// A worker's table.
struct Local {
    keys: KeyTable,
    /// For each key of the table its number in the large one, once that is known.
    global: Vec<u32>,
    /// For each key the morsel that it was last seen in, and its place among that morsel's groups.
    seen: Vec<(u64, u32)>,
    morsel: u64,
    /// The keys of this morsel's groups.
    groups: Vec<u32>,
    accumulators: Vec<Box<dyn Accumulator>>,
    /// The rows and the group of each, where they are needed.
    rows: Option<(Batch, Vec<u32>)>,
}

impl Local {
    fn new(grouping: &Grouping) -> Result<Local> {
        Ok(Local {
            keys: KeyTable::new(grouping.kinds.clone())?,
            global: Vec::new(),
            seen: Vec::new(),
            morsel: 0,
            groups: Vec::new(),
            accumulators: grouping.calls.iter().map(|c| (c.make)()).collect(),
            rows: None,
        })
    }

    /// The place of each row's group among this morsel's groups.
    fn places(&mut self, keys: &[ArrayRef], rows: usize) -> Result<Vec<u32>> {
        let mut numbers = Vec::with_capacity(rows);
        self.keys.numbers(keys, rows, &mut numbers)?;
        self.morsel += 1;
        self.groups.clear();
        self.seen.resize(self.keys.len(), (0, 0));
        self.global.resize(self.keys.len(), u32::MAX);
        for number in &mut numbers {
            let Some((morsel, place)) = self.seen.get_mut(*number as usize) else { continue };
            if *morsel != self.morsel {
                *morsel = self.morsel;
                *place = self.groups.len() as u32;
                self.groups.push(*number);
            }
            *number = *place;
        }
        Ok(numbers)
    }
}

/// Tables that no morsel is using; boxed, since they go to and fro as parts.
#[allow(clippy::vec_box)]
type Free = Arc<Mutex<Vec<Box<Local>>>>;

struct Workers {
    grouping: Arc<Grouping>,
    /// Tables that no morsel is using.
    free: Free,
}

impl Prepare for Workers {
    fn prepare(&self, batch: Batch, work: &mut Work) -> Result<Part> {
        let grouping = &self.grouping;
        let free = self.free.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut local = match free {
            Some(local) => local,
            None => Box::new(Local::new(grouping)?),
        };
        let step = grouping.step;
        let named = |e: Error| e.in_step(&grouping.text);
        let evaluate = |bound: &Bound, batch: &Batch, work: &mut Work| {
            work.with_events(step, |events| bound.evaluate_array(batch, events)).map_err(named)
        };
        let keys = grouping.keys.iter().map(|k| evaluate(k, &batch, work)).collect::<Result<Vec<_>>>()?;
        let places = local.places(&keys, batch.rows)?;
        let groups = local.groups.len();
        for (call, accumulator) in grouping.calls.iter().zip(&mut local.accumulators) {
            accumulator.clear();
            accumulator.grow(groups);
            match &call.only {
                None => {
                    let args =
                        call.args.iter().map(|a| evaluate(a, &batch, work)).collect::<Result<Vec<_>>>()?;
                    accumulator.update(&places, &args).map_err(named)?;
                }
                Some(only) => {
                    let keep =
                        work.with_events(step, |events| only.evaluate(&batch, events)).map_err(named)?;
                    let keep = keep.bools(batch.rows);
                    let part = batch.filter(&keep)?;
                    let kept: Vec<u32> = places
                        .iter()
                        .zip(keep.iter())
                        .filter(|(_, k)| *k == Some(true))
                        .map(|(p, _)| *p)
                        .collect();
                    let args =
                        call.args.iter().map(|a| evaluate(a, &part, work)).collect::<Result<Vec<_>>>()?;
                    accumulator.update(&kept, &args).map_err(named)?;
                }
            }
        }
        local.rows = grouping.beside.then(|| (compacted(batch), places));
        Ok(local)
    }
}

/// The large table.
struct Groups {
    grouping: Arc<Grouping>,
    free: Free,
    keys: KeyTable,
    accumulators: Vec<Box<dyn Accumulator>>,
    rows: Vec<(Batch, Vec<u32>)>,
    rows_memory: usize,
    states_memory: usize,
    morsels: usize,
    weigh_at: usize,
    held: Reservation,
}

/// The sink of `group`, `total` and `per`.
pub(crate) fn sink(grouping: Grouping, budget: &Budget) -> Result<Sink> {
    let grouping = Arc::new(grouping);
    let free = Arc::new(Mutex::new(Vec::new()));
    let commit = Groups {
        keys: KeyTable::new(grouping.kinds.clone())?,
        accumulators: grouping.calls.iter().map(|c| (c.make)()).collect(),
        grouping: grouping.clone(),
        free: free.clone(),
        rows: Vec::new(),
        rows_memory: 0,
        states_memory: 0,
        morsels: 0,
        weigh_at: 1,
        held: budget.reservation(),
    };
    Ok(Sink { prepare: Arc::new(Workers { grouping, free }), commit: Box::new(commit) })
}

impl Groups {
    /// Reserves what is held. What aggregates hold is found by a walk over all groups, so that is done only when
    /// a quarter more morsels have come in.
    fn weigh(&mut self) -> Result<()> {
        self.morsels += 1;
        if self.morsels >= self.weigh_at {
            self.states_memory = self.accumulators.iter().map(|a| a.memory()).sum();
            self.weigh_at = self.morsels + self.morsels.div_ceil(4);
        }
        self.held.hold(self.keys.memory() + self.rows_memory + self.states_memory)
    }

    /// The large table's number of each of the morsel's groups.
    fn numbers(&mut self, local: &mut Local) -> Result<Vec<u32>> {
        let at = |global: &[u32], group: u32| global.get(group as usize).copied().unwrap_or(u32::MAX);
        let new: Vec<u32> =
            local.groups.iter().copied().filter(|g| at(&local.global, *g) == u32::MAX).collect();
        if !new.is_empty() {
            let keys = local.keys.arrays(&new)?;
            let mut numbers = Vec::new();
            self.keys.numbers(&keys, new.len(), &mut numbers)?;
            for (group, number) in new.iter().zip(numbers) {
                if let Some(slot) = local.global.get_mut(*group as usize) {
                    *slot = number;
                }
            }
        }
        Ok(local.groups.iter().map(|g| at(&local.global, *g)).collect())
    }
}

impl Commit for Groups {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let Ok(mut local) = part.downcast::<Local>() else {
            return Err(Error::new(ErrorKind::Internal, "A group table was handed something else."));
        };
        let numbers = self.numbers(&mut local)?;
        let groups = self.keys.len();
        let pairs: Vec<(u32, u32)> = (0u32..).zip(numbers.iter().copied()).collect();
        for (ours, theirs) in self.accumulators.iter_mut().zip(&mut local.accumulators) {
            ours.grow(groups);
            ours.merge(theirs.as_mut(), &pairs)?;
        }
        if let Some((batch, mut places)) = local.rows.take() {
            for place in &mut places {
                *place = numbers.get(*place as usize).copied().unwrap_or(0);
            }
            self.rows_memory += batch.memory() + places.len() * 4;
            self.rows.push((batch, places));
        }
        if local.keys.len() <= LOCAL_KEYS {
            self.free.lock().unwrap_or_else(PoisonError::into_inner).push(local);
        }
        self.weigh()?;
        Ok(true)
    }

    fn finish(mut self: Box<Self>, work: &mut Work) -> Result<Vec<Batch>> {
        let grouping = self.grouping.clone();
        let groups = if grouping.keys.is_empty() { 1 } else { self.keys.len() };
        self.weigh_at = 0;
        self.weigh()?;
        let mut results = Vec::new();
        for accumulator in &mut self.accumulators {
            accumulator.grow(groups);
            results.push(accumulator.finish().map_err(|e| e.in_step(&grouping.text))?);
        }
        if grouping.beside {
            return self.rows.into_iter().map(|(batch, numbers)| beside(batch, numbers, &results)).collect();
        }
        let all: Vec<u32> = (0..groups as u32).collect();
        let mut columns = self.keys.arrays(&all)?;
        let with_null = columns
            .iter()
            .filter_map(|c| c.logical_nulls())
            .fold(None, |all, nulls| arrow_buffer::NullBuffer::union(all.as_ref(), Some(&nulls)));
        work.tally.event(grouping.step, Event::NullGroup, with_null.map_or(0, |n| n.null_count()));
        work.tally.rows(grouping.step, groups);
        columns.extend(results);
        Ok(slices(Batch { columns, rows: groups }))
    }
}

/// The rows with their groups' results at their right.
fn beside(batch: Batch, numbers: Vec<u32>, results: &[ArrayRef]) -> Result<Batch> {
    let numbers = UInt32Array::from(numbers);
    let mut columns = batch.columns;
    for result in results {
        columns.push(arrow_select::take::take(result, &numbers, None).map_err(crate::expr::arrow_error)?);
    }
    Ok(Batch { columns, rows: batch.rows })
}

/// Parts of a large batch that workers can share.
pub(crate) fn slices(batch: Batch) -> Vec<Batch> {
    const ROWS: usize = 1 << 14;
    if batch.rows <= ROWS {
        return vec![batch];
    }
    let starts = (0..batch.rows).step_by(ROWS);
    starts.map(|from| batch.slice(from, ROWS.min(batch.rows - from))).collect()
}
