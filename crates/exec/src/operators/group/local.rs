//! A worker's table: filled from the rows of a morsel, closed when it has grown past the cache, and partitioned.

use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::atomic::{AtomicBool, AtomicUsize};

use arrow_array::ArrayRef;
use churn_core::{Batch, Error, Events, Result, StepId, Type};
use churn_expr::Bound;
use churn_expr::aggregates::{Accumulator, Maker};

use super::partition::PARTITIONS;
use super::passed::{PASSED_ROWS, PassedRows};
use crate::keys::{KeyList, KeyTable};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Local, Worker};

/// Groups of a worker's table before it is closed: it then still fits in the second-level cache.
const LOCAL_GROUPS: usize = 1 << 14;

/// Bytes that states of a worker's table hold before it is closed, weighed after so many rows.
const LOCAL_BYTES: usize = 1 << 19;

const WEIGHED: usize = 1 << 14;

/// Rows at the start of a morsel by which it is seen whether a table of it is much smaller than its rows.
const TRIED_ROWS: usize = 1 << 10;

/// An aggregate, placed.
#[derive(Clone)]
pub struct GroupCall {
    pub(crate) args: Vec<Bound>,
    pub(crate) only: Option<Bound>,
    pub(crate) make: Maker,
}

/// What groups are made of and by.
pub(crate) struct Grouping {
    pub(crate) keys: Vec<Bound>,
    pub(crate) kinds: Vec<Type>,
    pub(crate) calls: Vec<GroupCall>,
    pub(crate) step: StepId,
    pub(crate) text: String,
    pub(crate) output: Output,
    /// Whether rows may be passed on in place of states: all of them count, and their values have a fixed width.
    pub(crate) may_pass_rows: bool,
    /// Whether there are so many groups that tables are partitioned.
    pub(crate) are_many: AtomicBool,
    /// The groups that the last table had: a hint for the next.
    pub(crate) expected: AtomicUsize,
}

/// What comes out of a grouping.
pub(crate) enum Output {
    /// A row for each group: those of its keys that are at these places, and its aggregates.
    Groups(Vec<usize>),
    /// The rows, each with its group's aggregates beside it.
    Rows,
}

impl Grouping {
    /// Whether the rows stay.
    pub(super) fn is_broadcast(&self) -> bool {
        matches!(self.output, Output::Rows)
    }

    pub(super) fn accumulators(&self) -> Vec<Box<dyn Accumulator>> {
        self.calls.iter().map(|c| (c.make)()).collect()
    }

    /// The keys of rows that stay: columns, so that nothing is to be counted.
    pub(super) fn key_columns(&self, batch: &Batch) -> Result<Vec<ArrayRef>> {
        self.keys.iter().map(|key| key.evaluate_array(batch, &mut Events::default())).collect()
    }

    /// Whether a morsel that begins with these keys has about as many groups as rows, so that rows are better passed on than
    /// aggregated twice: whether 19 of 20 keys at its start are new. Depends on the rows of the morsel alone.
    fn reduces_little(&self, keys: &[ArrayRef], rows: usize) -> Result<bool> {
        if rows < TRIED_ROWS || !self.may_pass_rows || !self.may_partition() {
            return Ok(false);
        }
        let tried: Vec<ArrayRef> = keys.iter().map(|key| key.slice(0, TRIED_ROWS)).collect();
        let mut table = KeyTable::of_many(self.kinds.clone());
        table.numbers(&tried, TRIED_ROWS, &mut Vec::with_capacity(TRIED_ROWS))?;
        Ok(table.len() * 20 > TRIED_ROWS * 19)
    }

    /// Whether the large table may be cut into partitions: not where there is one group, or where rows keep the
    /// numbers of their groups.
    pub(super) fn may_partition(&self) -> bool {
        !(self.keys.is_empty() || self.is_broadcast())
    }
}

/// A worker's table.
pub(crate) struct LocalTable<'a> {
    pub(super) grouping: &'a Grouping,
    pub(super) keys: KeyTable,
    pub(super) accumulators: Vec<Box<dyn Accumulator>>,
    pub(super) numbers: Vec<u32>,
    pub(super) rows: Vec<(Batch, Vec<u32>)>,
    /// Rows that came since the states were weighed.
    unweighed: usize,
    /// Rows that are passed on, if the morsel has about as many groups as rows.
    passed: Option<PassedRows>,
}

/// A worker's table, closed and partitioned: for each partition its groups; as a whole while there are few groups.
pub(crate) struct PartitionedGroups {
    pub(super) parts: Vec<Option<GroupPartition>>,
    pub(super) groups: usize,
    /// Bytes that its states hold, about.
    pub(super) bytes: usize,
    pub(super) rows: Vec<(Batch, Vec<u32>)>,
}

/// Some groups of a worker's table, or rows that it passes on.
pub(super) struct GroupPartition {
    /// Of groups different ones, of rows one a row.
    pub(super) keys: KeyList,
    /// Their numbers in the worker's table; of rows their places.
    pub(super) numbers: Vec<u32>,
    pub(super) content: Content,
}

/// What groups or rows have beside their keys.
pub(super) enum Content {
    /// States of groups.
    States(Vec<Box<dyn Accumulator>>),
    /// Values of rows: the arguments of each aggregate.
    Values(Vec<Vec<ArrayRef>>),
}

impl<'a> LocalTable<'a> {
    pub(super) fn new(grouping: &'a Grouping) -> LocalTable<'a> {
        let kinds = grouping.kinds.clone();
        let mut keys =
            if grouping.are_many.load(Relaxed) { KeyTable::of_many(kinds) } else { KeyTable::new(kinds) };
        keys.reserve(grouping.expected.load(Relaxed));
        LocalTable {
            grouping,
            keys,
            accumulators: grouping.accumulators(),
            numbers: Vec::new(),
            rows: Vec::new(),
            unweighed: 0,
            passed: None,
        }
    }

    pub(super) fn update(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<()> {
        let grouping = self.grouping;
        let step = grouping.step;
        let named = |e: Error| e.in_step(&grouping.text);
        let evaluate = |bound: &Bound, batch: &Batch, work: &mut MorselOutput| {
            work.with_events(step, |events| bound.evaluate_array(batch, events)).map_err(named)
        };
        let key = |bound: &Bound| {
            work.with_events(step, |events| bound.evaluate_key(&batch, events)).map_err(named)
        };
        let keys = grouping.keys.iter().map(key).collect::<Result<Vec<_>>>()?;
        if self.keys.len() == 0 && self.passed.is_none() && grouping.reduces_little(&keys, batch.rows)? {
            self.passed = Some(PassedRows::new(grouping));
        }
        if let Some(passed) = &mut self.passed {
            let values = grouping.calls.iter().map(|call| {
                call.args.iter().map(|arg| evaluate(arg, &batch, work)).collect::<Result<Vec<_>>>()
            });
            return passed.push(&keys, batch.rows, values.collect::<Result<_>>()?);
        }
        self.numbers.clear();
        self.keys.numbers(&keys, batch.rows, &mut self.numbers)?;
        let groups = self.keys.len();
        for (call, accumulator) in grouping.calls.iter().zip(&mut self.accumulators) {
            accumulator.grow(groups);
            let Some(only) = &call.only else {
                let args = call.args.iter().map(|a| evaluate(a, &batch, work)).collect::<Result<Vec<_>>>()?;
                accumulator.update(&self.numbers, &args).map_err(named)?;
                continue;
            };
            let keep = work.with_events(step, |events| only.evaluate(&batch, events)).map_err(named)?;
            let keep = keep.bools(batch.rows);
            let part = batch.filter(&keep)?;
            let kept = self.numbers.iter().zip(keep.iter()).filter(|(_, k)| *k == Some(true));
            let kept: Vec<u32> = kept.map(|(n, _)| *n).collect();
            let args = call.args.iter().map(|a| evaluate(a, &part, work)).collect::<Result<Vec<_>>>()?;
            accumulator.update(&kept, &args).map_err(named)?;
        }
        if grouping.is_broadcast() {
            self.rows.push((batch.compacted(), self.numbers.clone()));
        }
        Ok(())
    }

    /// Whether its states have grown beyond what a worker may hold.
    fn is_heavy(&mut self) -> bool {
        if self.unweighed < WEIGHED {
            return false;
        }
        self.unweighed = 0;
        self.accumulators.iter().map(|a| a.memory()).sum::<usize>() > LOCAL_BYTES
    }

    /// Closes the table.
    pub(super) fn into_partitions(self) -> Result<PartitionedGroups> {
        let parts = if self.grouping.are_many.load(Relaxed) { PARTITIONS } else { 1 };
        if let Some(passed) = self.passed {
            return passed.into_partitions(parts);
        }
        let groups = self.keys.len();
        self.grouping.expected.store(groups, Relaxed);
        let bytes = self.keys.memory() + self.accumulators.iter().map(|a| a.memory()).sum::<usize>();
        Ok(PartitionedGroups {
            parts: partitions_of(self.keys, self.accumulators, parts)?,
            groups,
            bytes,
            rows: self.rows,
        })
    }
}

/// Partitions the groups of a table to so many parts.
pub(super) fn partitions_of(
    keys: KeyTable,
    accumulators: Vec<Box<dyn Accumulator>>,
    parts: usize,
) -> Result<Vec<Option<GroupPartition>>> {
    let (keys, numbers): (Vec<KeyList>, Vec<Vec<u32>>) = keys.partition(parts)?.into_iter().unzip();
    let empty = |(keys, numbers): (KeyList, Vec<u32>)| {
        (keys.len() > 0).then(|| GroupPartition { keys, numbers, content: Content::States(Vec::new()) })
    };
    let mut parts: Vec<Option<GroupPartition>> =
        keys.into_iter().zip(numbers.iter().cloned()).map(empty).collect();
    for mut accumulator in accumulators {
        for (part, states) in parts.iter_mut().zip(accumulator.partition(&numbers)) {
            if let Some(GroupPartition { content: Content::States(all), .. }) = part {
                all.push(states);
            }
        }
    }
    Ok(parts)
}

impl Local for LocalTable<'_> {
    type Part = PartitionedGroups;

    fn consume(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Option<PartitionedGroups>> {
        self.unweighed += batch.rows;
        self.update(batch, work)?;
        let is_full = match &self.passed {
            Some(passed) => passed.rows >= PASSED_ROWS,
            None => self.keys.len() >= LOCAL_GROUPS || self.is_heavy(),
        };
        if !is_full {
            return Ok(None);
        }
        let mut next = LocalTable::new(self.grouping);
        next.passed = self.passed.is_some().then(|| PassedRows::new(self.grouping));
        std::mem::replace(self, next).into_partitions().map(Some)
    }

    fn seal(self) -> Result<Option<PartitionedGroups>> {
        self.into_partitions().map(Some)
    }
}

pub(crate) struct GroupWorkers(pub(super) Arc<Grouping>);

impl Worker for GroupWorkers {
    type Part = PartitionedGroups;
    type Local<'a> = LocalTable<'a>;

    const GATHERS: bool = true;

    fn local(&self) -> Result<LocalTable<'_>> {
        Ok(LocalTable::new(&self.0))
    }
}
