//! A worker's table: filled from the rows of a morsel, closed when it has grown past the cache, and dealt.

use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::atomic::{AtomicBool, AtomicUsize};

use arrow_array::ArrayRef;

use super::partition::PARTITIONS;
use crate::error::{Error, Result};
use crate::exec::keys::{KeyList, KeyTable};
use crate::exec::pipeline::{Gather, Part, Prepare};
use crate::exec::tally::Work;
use crate::expr::aggregates::{Accumulator, Maker};
use crate::expr::{Batch, Bound, Events, Type};
use crate::plan::StepId;

/// Groups of a worker's table before it is closed: it then still fits in the second-level cache.
const LOCAL_GROUPS: usize = 1 << 14;

/// Bytes that states of a worker's table hold before it is closed, weighed after so many rows.
const LOCAL_BYTES: usize = 1 << 19;
const WEIGHED: usize = 1 << 14;

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
    /// Whether there are so many groups that tables are dealt.
    pub(crate) are_many: AtomicBool,
    /// The groups that the last table had: a hint for the next.
    pub(crate) expected: AtomicUsize,
}

impl Grouping {
    pub(super) fn accumulators(&self) -> Vec<Box<dyn Accumulator>> {
        self.calls.iter().map(|c| (c.make)()).collect()
    }

    /// The keys of rows that stay: columns, so that nothing is to be counted.
    pub(super) fn key_columns(&self, batch: &Batch) -> Result<Vec<ArrayRef>> {
        self.keys.iter().map(|key| key.evaluate_array(batch, &mut Events::default())).collect()
    }

    /// Whether the large table may be cut into partitions: not where there is one group, or where rows keep the
    /// numbers of their groups.
    pub(super) fn may_part(&self) -> bool {
        !(self.keys.is_empty() || self.beside)
    }
}

/// A worker's table.
pub(super) struct Local<'a> {
    pub(super) grouping: &'a Grouping,
    pub(super) keys: KeyTable,
    pub(super) accumulators: Vec<Box<dyn Accumulator>>,
    pub(super) numbers: Vec<u32>,
    pub(super) rows: Vec<(Batch, Vec<u32>)>,
    /// Rows that came since the states were weighed.
    unweighed: usize,
}

/// A worker's table, closed and dealt: for each partition its groups; as a whole while there are few groups.
pub(super) struct Dealt {
    pub(super) shards: Vec<Option<Shard>>,
    pub(super) groups: usize,
    /// Bytes that its states hold, about.
    pub(super) bytes: usize,
    pub(super) rows: Vec<(Batch, Vec<u32>)>,
}

/// Some groups of a worker's table.
pub(super) struct Shard {
    pub(super) keys: KeyList,
    /// Their numbers in the worker's table.
    pub(super) numbers: Vec<u32>,
    pub(super) accumulators: Vec<Box<dyn Accumulator>>,
}

impl<'a> Local<'a> {
    pub(super) fn new(grouping: &'a Grouping) -> Result<Local<'a>> {
        let mut keys = KeyTable::new(grouping.kinds.clone())?;
        keys.reserve(grouping.expected.load(Relaxed));
        Ok(Local {
            grouping,
            keys,
            accumulators: grouping.accumulators(),
            numbers: Vec::new(),
            rows: Vec::new(),
            unweighed: 0,
        })
    }

    pub(super) fn update(&mut self, batch: Batch, work: &mut Work) -> Result<()> {
        let grouping = self.grouping;
        let step = grouping.step;
        let named = |e: Error| e.in_step(&grouping.text);
        let evaluate = |bound: &Bound, batch: &Batch, work: &mut Work| {
            work.with_events(step, |events| bound.evaluate_array(batch, events)).map_err(named)
        };
        let key = |bound: &Bound| {
            work.with_events(step, |events| bound.evaluate_key(&batch, events)).map_err(named)
        };
        let keys = grouping.keys.iter().map(key).collect::<Result<Vec<_>>>()?;
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
        if grouping.beside {
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
    pub(super) fn dealt(self) -> Result<Dealt> {
        let parts = if self.grouping.are_many.load(Relaxed) { PARTITIONS } else { 1 };
        let groups = self.keys.len();
        self.grouping.expected.store(groups, Relaxed);
        let bytes = self.keys.memory() + self.accumulators.iter().map(|a| a.memory()).sum::<usize>();
        Ok(Dealt { shards: shards(self.keys, self.accumulators, parts)?, groups, bytes, rows: self.rows })
    }
}

/// Deals the groups of a table to so many shards.
pub(super) fn shards(
    keys: KeyTable,
    accumulators: Vec<Box<dyn Accumulator>>,
    parts: usize,
) -> Result<Vec<Option<Shard>>> {
    let (keys, numbers): (Vec<KeyList>, Vec<Vec<u32>>) = keys.deal(parts)?.into_iter().unzip();
    let empty = |(keys, numbers): (KeyList, Vec<u32>)| {
        (keys.len() > 0).then(|| Shard { keys, numbers, accumulators: Vec::new() })
    };
    let mut shards: Vec<Option<Shard>> = keys.into_iter().zip(numbers.iter().cloned()).map(empty).collect();
    for mut accumulator in accumulators {
        for (shard, dealt) in shards.iter_mut().zip(accumulator.deal(&numbers)) {
            if let Some(shard) = shard {
                shard.accumulators.push(dealt);
            }
        }
    }
    Ok(shards)
}

impl Gather for Local<'_> {
    fn add(&mut self, batch: Batch, work: &mut Work) -> Result<Option<Part>> {
        self.unweighed += batch.rows;
        self.update(batch, work)?;
        if self.keys.len() < LOCAL_GROUPS && !self.is_heavy() {
            return Ok(None);
        }
        let full = std::mem::replace(self, Local::new(self.grouping)?);
        Ok(Some(Box::new(full.dealt()?)))
    }

    fn finish(self: Box<Self>) -> Result<Part> {
        Ok(Box::new(self.dealt()?))
    }
}

pub(super) struct Workers(pub(super) Arc<Grouping>);

impl Prepare for Workers {
    fn prepare(&self, batch: Batch, work: &mut Work) -> Result<Part> {
        let mut local = Local::new(&self.0)?;
        local.update(batch, work)?;
        Ok(Box::new(local.dealt()?))
    }

    fn gather(&self) -> Option<Result<Box<dyn Gather + '_>>> {
        Some(Local::new(&self.0).map(|local| Box::new(local) as Box<dyn Gather + '_>))
    }
}
