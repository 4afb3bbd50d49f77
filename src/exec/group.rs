//! `group`, `total` and `per`: small tables made by the workers, merged in order into a large one.
//!
//! A worker fills a table from the rows of a morsel and closes it when it has grown past the cache, so that what
//! is in which table depends on the data alone. It deals the table's groups to partitions by their keys' hashes.
//! The ordered side takes the tables in the order of morsels and merges them, partition by partition on all
//! threads: sums meet in the same order whatever worker made them, and the first place that a group was seen at
//! gives its place in the result.
//!
//! When the budget is used up, what is merged goes to a file for each partition, and the tables that follow
//! behind it, unmerged. At the end one partition after the other is merged, in the same order as in memory, and
//! its groups go to a run; the runs are merged by first appearance.

use std::sync::atomic::Ordering::Relaxed;
use std::sync::atomic::{AtomicBool, AtomicUsize};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::cast::AsArray;
use arrow_array::{ArrayRef, LargeBinaryArray, UInt32Array};

use super::budget::{Budget, Reservation};
use super::grace;
use super::held::{Held, compacted, slices};
use super::keys::{KeyList, KeyTable};
use super::merge::Merge;
use super::pipeline::{Commit, Gather, Part, Prepare, Sink};
use super::spill::{Run, Spill, Writer};
use super::tally::Work;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::aggregates::{Accumulator, Maker};
use crate::expr::{Batch, Bound, Event, Events, Type};
use crate::plan::StepId;

/// Groups of a worker's table before it is closed: it then still fits in the second-level cache.
const LOCAL_GROUPS: usize = 1 << 14;

/// Partitions of the large table, once it has this many groups.
const PARTITIONS: usize = 64;
const MANY_GROUPS: usize = 1 << 15;

/// Groups that wait to be merged before all threads merge them.
const WAITING_GROUPS: usize = 1 << 17;

/// Rows that are written to a partition's file together.
const SPILLED_ROWS: usize = 1 << 12;

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
    fn accumulators(&self) -> Vec<Box<dyn Accumulator>> {
        self.calls.iter().map(|c| (c.make)()).collect()
    }

    /// Whether the large table may be cut into partitions: not where there is one group, or where rows keep the
    /// numbers of their groups.
    fn may_part(&self) -> bool {
        !(self.keys.is_empty() || self.beside)
    }
}

/// A worker's table.
struct Local<'a> {
    grouping: &'a Grouping,
    keys: KeyTable,
    accumulators: Vec<Box<dyn Accumulator>>,
    numbers: Vec<u32>,
    rows: Vec<(Batch, Vec<u32>)>,
}

/// A worker's table, closed and dealt: for each partition its groups; as a whole while there are few groups.
struct Dealt {
    shards: Vec<Option<Shard>>,
    groups: usize,
    rows: Vec<(Batch, Vec<u32>)>,
}

/// Some groups of a worker's table.
struct Shard {
    keys: KeyList,
    /// Their numbers in the worker's table.
    numbers: Vec<u32>,
    accumulators: Vec<Box<dyn Accumulator>>,
}

impl<'a> Local<'a> {
    fn new(grouping: &'a Grouping) -> Result<Local<'a>> {
        let mut keys = KeyTable::new(grouping.kinds.clone())?;
        keys.reserve(grouping.expected.load(Relaxed));
        Ok(Local {
            grouping,
            keys,
            accumulators: grouping.accumulators(),
            numbers: Vec::new(),
            rows: Vec::new(),
        })
    }

    fn update(&mut self, batch: Batch, work: &mut Work) -> Result<()> {
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
            self.rows.push((compacted(batch), self.numbers.clone()));
        }
        Ok(())
    }

    /// Closes the table.
    fn dealt(self) -> Result<Dealt> {
        let parts = if self.grouping.are_many.load(Relaxed) { PARTITIONS } else { 1 };
        let groups = self.keys.len();
        self.grouping.expected.store(groups, Relaxed);
        Ok(Dealt { shards: shards(self.keys, self.accumulators, parts)?, groups, rows: self.rows })
    }
}

/// Deals the groups of a table to so many shards.
fn shards(
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
        self.update(batch, work)?;
        if self.keys.len() < LOCAL_GROUPS {
            return Ok(None);
        }
        let full = std::mem::replace(self, Local::new(self.grouping)?);
        Ok(Some(Box::new(full.dealt()?)))
    }

    fn finish(self: Box<Self>) -> Result<Part> {
        Ok(Box::new(self.dealt()?))
    }
}

struct Workers(Arc<Grouping>);

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

/// A part of the large table.
struct Partition {
    keys: KeyTable,
    /// Where each group was first seen: the number of the worker's table, and its number in there.
    first: Vec<u64>,
    accumulators: Vec<Box<dyn Accumulator>>,
    weighed: Weighed,
}

/// What states were found to hold, and how many groups there were then.
#[derive(Clone, Copy, Default)]
struct Weighed {
    bytes: usize,
    groups: usize,
    asked: usize,
}

impl Partition {
    fn new(grouping: &Grouping) -> Result<Partition> {
        Ok(Partition {
            keys: KeyTable::new(grouping.kinds.clone())?,
            first: Vec::new(),
            accumulators: grouping.accumulators(),
            weighed: Weighed::default(),
        })
    }

    /// Bytes in use. What states hold is found by a walk over all groups, so that of many groups it is taken
    /// from the last walk most times.
    fn memory(&mut self) -> usize {
        let groups = self.keys.len();
        let Weighed { bytes, groups: then, asked } = self.weighed;
        self.weighed.asked += 1;
        if groups <= 1 << 12 || groups / 5 > then / 4 || asked % 16 == 0 {
            let bytes = self.accumulators.iter().map(|a| a.memory()).sum();
            self.weighed = Weighed { bytes, groups, asked: asked + 1 };
            return self.keys.memory() + self.first.capacity() * 8 + bytes;
        }
        self.keys.memory() + self.first.capacity() * 8 + bytes / then.max(1) * groups
    }

    /// Adds the groups of a later table; gives their numbers here.
    fn merge(&mut self, shard: Shard, firsts: impl Iterator<Item = u64>) -> Result<Vec<u32>> {
        let mut numbers = Vec::with_capacity(shard.keys.len());
        self.keys.absorb(&shard.keys, &mut numbers)?;
        self.add(&numbers, firsts, shard.accumulators)?;
        Ok(numbers)
    }

    /// Adds the states of groups whose numbers here are known.
    fn add(
        &mut self,
        numbers: &[u32],
        firsts: impl Iterator<Item = u64>,
        accumulators: Vec<Box<dyn Accumulator>>,
    ) -> Result<()> {
        for (number, first) in numbers.iter().zip(firsts) {
            if *number as usize == self.first.len() {
                self.first.push(first);
            }
        }
        let groups = self.keys.len();
        let pairs: Vec<(u32, u32)> = (0u32..).zip(numbers.iter().copied()).collect();
        for (ours, mut theirs) in self.accumulators.iter_mut().zip(accumulators) {
            ours.grow(groups);
            ours.merge(theirs.as_mut(), &pairs)?;
        }
        Ok(())
    }

    /// The keys of all groups and their results.
    fn results(&mut self, groups: usize, text: &str) -> Result<Vec<ArrayRef>> {
        let all: Vec<u32> = (0..groups as u32).collect();
        let mut columns = self.keys.arrays(&all)?;
        for accumulator in &mut self.accumulators {
            accumulator.grow(groups);
            columns.push(accumulator.finish().map_err(|e| e.in_step(text))?);
        }
        Ok(columns)
    }

    /// The groups with their states, as they are kept on disk.
    fn saved(&mut self) -> Result<Batch> {
        let groups = self.keys.len();
        let all: Vec<u32> = (0..groups as u32).collect();
        let mut columns = vec![Arc::new(orders(&self.first)) as ArrayRef];
        columns.extend(self.keys.arrays(&all)?);
        for accumulator in &mut self.accumulators {
            columns.push(Arc::new(accumulator.save()?));
        }
        Ok(Batch { columns, rows: groups })
    }

    /// Adds groups that were kept on disk.
    fn load(&mut self, batch: &Batch, grouping: &Grouping) -> Result<()> {
        let lost = || Error::new(ErrorKind::Internal, "Groups on disk lack a column.");
        let bytes = |i: usize| batch.columns.get(i).and_then(|c| c.as_binary_opt::<i64>()).ok_or_else(lost);
        let keys = grouping.kinds.len();
        let mut numbers = Vec::new();
        self.keys.numbers(batch.columns.get(1..=keys).ok_or_else(lost)?, batch.rows, &mut numbers)?;
        let mut accumulators = grouping.accumulators();
        for (i, accumulator) in accumulators.iter_mut().enumerate() {
            accumulator.load(bytes(1 + keys + i)?)?;
        }
        let firsts = bytes(0)?.iter().flatten().filter_map(|b| Some(u64::from_be_bytes(b.try_into().ok()?)));
        self.add(&numbers, firsts, accumulators)
    }
}

/// Places of first appearance as bytes that compare alike.
fn orders(first: &[u64]) -> LargeBinaryArray {
    LargeBinaryArray::from_iter_values(first.iter().map(|f| f.to_be_bytes()))
}

/// The large table.
struct Groups {
    grouping: Arc<Grouping>,
    partitions: Vec<Mutex<Partition>>,
    /// Tables that are not merged yet, with their numbers.
    waiting: Vec<(u64, Dealt)>,
    waiting_groups: usize,
    /// The number of the next table.
    next: u64,
    /// The files of the partitions, once the budget was used up.
    files: Option<Vec<Writer>>,
    spill: Spill,
    threads: usize,
    rows: Vec<(Batch, Vec<u32>)>,
    rows_memory: usize,
    /// Rows that stay, dealt by their keys, once the budget was used up; and the place of the next.
    dealt: Option<grace::Dealt>,
    row: u64,
    held: Reservation,
}

/// The sink of `group`, `total` and `per`.
pub(crate) fn sink(grouping: Grouping, budget: &Budget, spill: Spill, threads: usize) -> Result<Sink> {
    let grouping = Arc::new(grouping);
    let commit = Groups {
        partitions: vec![Mutex::new(Partition::new(&grouping)?)],
        grouping: grouping.clone(),
        waiting: Vec::new(),
        waiting_groups: 0,
        next: 0,
        files: None,
        spill,
        threads,
        rows: Vec::new(),
        rows_memory: 0,
        dealt: None,
        row: 0,
        held: budget.reservation(),
    };
    Ok(Sink { prepare: Arc::new(Workers(grouping)), commit: Box::new(commit) })
}

/// Where a group of a worker's table was first seen.
fn first(table: u64, number: u32) -> u64 {
    table << 32 | u64::from(number)
}

impl Groups {
    /// Merges the tables that wait, or writes them behind what is on disk already.
    fn settle(&mut self) -> Result<()> {
        let waiting = std::mem::take(&mut self.waiting);
        self.waiting_groups = 0;
        if self.grouping.beside {
            return self.merge_beside(waiting);
        }
        if self.files.is_some() {
            return self.write(waiting);
        }
        self.merge(waiting)?;
        if self.grouping.may_part() && self.partitions.len() == 1 && self.groups() > MANY_GROUPS {
            self.part()?;
        }
        let memory: usize = self
            .partitions
            .iter_mut()
            .map(|p| p.get_mut().unwrap_or_else(PoisonError::into_inner).memory())
            .sum();
        if self.held.try_hold(memory) {
            return Ok(());
        }
        if !self.grouping.may_part() {
            return self.held.hold_whole(memory);
        }
        if self.partitions.len() == 1 {
            self.part()?;
        }
        self.leave_memory()
    }

    fn groups(&mut self) -> usize {
        let groups =
            |p: &mut Mutex<Partition>| p.get_mut().unwrap_or_else(PoisonError::into_inner).keys.len();
        self.partitions.iter_mut().map(groups).sum()
    }

    /// Deals the one partition to many.
    fn part(&mut self) -> Result<()> {
        self.grouping.are_many.store(true, Relaxed);
        let Some(whole) = self.partitions.pop() else { return Ok(()) };
        let Partition { keys, first, accumulators, .. } =
            whole.into_inner().unwrap_or_else(PoisonError::into_inner);
        for shard in shards(keys, accumulators, PARTITIONS)? {
            let mut partition = Partition::new(&self.grouping)?;
            if let Some(shard) = shard {
                let firsts: Vec<u64> =
                    shard.numbers.iter().map(|n| first.get(*n as usize).copied().unwrap_or(0)).collect();
                partition.merge(shard, firsts.into_iter())?;
            }
            self.partitions.push(Mutex::new(partition));
        }
        Ok(())
    }

    /// For each partition the shards of some tables, in order, with the tables' numbers.
    fn by_partition(&self, waiting: Vec<(u64, Dealt)>) -> Result<Vec<Vec<(u64, Shard)>>> {
        let mut columns: Vec<Vec<(u64, Shard)>> = self.partitions.iter().map(|_| Vec::new()).collect();
        for (table, mut dealt) in waiting {
            if dealt.shards.len() < columns.len()
                && let Some(whole) = dealt.shards.pop().flatten()
            {
                // It was closed before it was known that groups are many.
                let mut partition = Partition::new(&self.grouping)?;
                partition.merge(whole, std::iter::repeat(0))?;
                dealt.shards = shards(partition.keys, partition.accumulators, columns.len())?;
            }
            for (column, shard) in columns.iter_mut().zip(dealt.shards) {
                column.extend(shard.map(|shard| (table, shard)));
            }
        }
        Ok(columns)
    }

    /// Merges tables into the partitions, on all threads.
    fn merge(&self, waiting: Vec<(u64, Dealt)>) -> Result<()> {
        let columns = self.by_partition(waiting)?;
        let merge = |(partition, shards): (&Mutex<Partition>, Vec<(u64, Shard)>)| {
            let mut partition = partition.lock().unwrap_or_else(PoisonError::into_inner);
            for (table, shard) in shards {
                let numbers = shard.numbers.clone();
                partition.merge(shard, numbers.into_iter().map(|n| first(table, n)))?;
            }
            Ok(())
        };
        crate::parallel::each(self.threads, self.partitions.iter().zip(columns), merge).map(drop)
    }

    /// Merges tables whose rows stay: each row gets its group's number.
    fn merge_beside(&mut self, waiting: Vec<(u64, Dealt)>) -> Result<()> {
        if self.dealt.is_some() {
            for (batch, _) in waiting.into_iter().flat_map(|(_, dealt)| dealt.rows) {
                self.deal(&batch)?;
            }
            return Ok(());
        }
        let Some(partition) = self.partitions.first_mut() else { return Ok(()) };
        let partition = partition.get_mut().unwrap_or_else(PoisonError::into_inner);
        for (table, dealt) in waiting {
            let mut numbers = Vec::new();
            for shard in dealt.shards.into_iter().flatten() {
                numbers = partition.merge(shard, (0..).map(|n| first(table, n)))?;
            }
            for (batch, mut groups) in dealt.rows {
                for group in &mut groups {
                    *group = numbers.get(*group as usize).copied().unwrap_or(0);
                }
                self.rows_memory += batch.memory() + groups.len() * 4;
                self.rows.push((batch, groups));
            }
        }
        let memory = self.rows_memory + partition.memory();
        if self.held.try_hold(memory) {
            return Ok(());
        }
        if self.grouping.keys.is_empty() {
            // One group has all rows: there is nothing to deal them by.
            return self.held.hold_whole(memory);
        }
        self.partitions = vec![Mutex::new(Partition::new(&self.grouping)?)];
        self.rows_memory = 0;
        for (batch, _) in std::mem::take(&mut self.rows) {
            self.deal(&batch)?;
        }
        self.held.hold(0)
    }

    /// Deals rows that stay to files by their keys.
    fn deal(&mut self, batch: &Batch) -> Result<()> {
        let keys = self.grouping.keys.iter().map(|k| k.evaluate_array(batch, &mut Events::default()));
        let keys = keys.collect::<Result<Vec<_>>>()?;
        let numbers: Vec<u64> = (self.row..self.row + batch.rows as u64).collect();
        self.row += batch.rows as u64;
        if self.dealt.is_none() {
            self.dealt = Some(grace::Dealt::new(self.grouping.kinds.clone(), &self.spill)?);
        }
        match &mut self.dealt {
            Some(dealt) => dealt.push(batch, &keys, &numbers),
            None => Ok(()),
        }
    }

    /// The rows that stay, a file at a time, each beside its group.
    fn beside_on_disk(mut self, dealt: grace::Dealt) -> Result<Held> {
        let grouping = self.grouping.clone();
        let process: grace::Process = Arc::new(move |batches| {
            let mut local = Local::new(&grouping)?;
            // What happens to values was counted when the workers saw the rows first.
            let mut work = Work::new(0);
            for batch in batches {
                local.update(batch.clone(), &mut work)?;
            }
            let groups = local.keys.len();
            let mut results = Vec::new();
            for accumulator in &mut local.accumulators {
                accumulator.grow(groups);
                results.push(accumulator.finish().map_err(|e| e.in_step(&grouping.text))?);
            }
            let rows = local.rows.into_iter();
            rows.map(|(batch, numbers)| Ok((beside(batch, numbers, &results)?, None))).collect()
        });
        let runs = grace::processed(dealt.finish()?, &process, &self.spill, &mut self.held)?;
        Ok(Held::Scan(Box::new(Merge::new(runs, None)?)))
    }

    /// Puts all partitions on disk.
    fn leave_memory(&mut self) -> Result<()> {
        let mut files = Vec::new();
        for partition in &mut self.partitions {
            let partition = partition.get_mut().unwrap_or_else(PoisonError::into_inner);
            let mut full = std::mem::replace(partition, Partition::new(&self.grouping)?);
            let mut file = self.spill.writer()?;
            let batch = full.saved()?;
            for part in slices(batch) {
                file.write(part)?;
            }
            files.push(file);
        }
        self.files = Some(files);
        self.held.hold(0)
    }

    /// Writes tables behind what is on disk; a few tables' groups of a partition together.
    fn write(&mut self, waiting: Vec<(u64, Dealt)>) -> Result<()> {
        let columns = self.by_partition(waiting)?;
        let Some(files) = &mut self.files else { return Ok(()) };
        let grouping = self.grouping.clone();
        let write = |(file, shards): (&mut Writer, Vec<(u64, Shard)>)| {
            for (table, shard) in shards {
                // A table of its own keeps equal groups of two tables apart: they are merged when read, in order.
                let mut alone = Partition::new(&grouping)?;
                let numbers = shard.numbers.clone();
                alone.merge(shard, numbers.into_iter().map(|n| first(table, n)))?;
                file.write(alone.saved()?)?;
            }
            Ok(())
        };
        crate::parallel::each(self.threads, files.iter_mut().zip(columns), write).map(drop)
    }

    /// The result of groups that are all in memory.
    fn held_in_memory(mut self, work: &mut Work) -> Result<Held> {
        let grouping = self.grouping.clone();
        let partitions: Vec<Partition> = self
            .partitions
            .drain(..)
            .map(|p| p.into_inner().unwrap_or_else(PoisonError::into_inner))
            .collect();
        let finish = |mut partition: Partition| {
            let groups = if grouping.keys.is_empty() { 1 } else { partition.keys.len() };
            Ok((partition.results(groups, &grouping.text)?, partition.first, groups))
        };
        let mut made = crate::parallel::each(self.threads, partitions.into_iter(), finish)?;
        if grouping.beside {
            let results = made.pop().map(|(columns, ..)| columns).unwrap_or_default();
            let results = results.get(grouping.kinds.len()..).unwrap_or_default();
            let rows = self.rows.into_iter().map(|(batch, numbers)| beside(batch, numbers, results));
            return Ok(Held::Batches(rows.collect::<Result<_>>()?));
        }
        let groups: usize = made.iter().map(|(.., groups)| groups).sum();
        // One stays, for the columns' sake.
        let mut kept = 0;
        made.retain(|(.., here)| {
            kept += usize::from(*here > 0 || groups == 0);
            *here > 0 || (groups == 0 && kept == 1)
        });
        let firsts: Vec<&[u64]> = made.iter().map(|(_, first, _)| first.as_slice()).collect();
        let places = in_order(&firsts);
        let width = made.first().map_or(0, |(columns, ..)| columns.len());
        let gather = |i: usize| {
            let parts: Vec<&dyn arrow_array::Array> =
                made.iter().filter_map(|(columns, ..)| columns.get(i)).map(AsRef::as_ref).collect();
            match (parts.as_slice(), made.first().and_then(|(columns, ..)| columns.get(i))) {
                ([_], Some(column)) => Ok(column.clone()),
                _ => arrow_select::interleave::interleave(&parts, &places).map_err(crate::expr::arrow_error),
            }
        };
        let columns = crate::parallel::each(self.threads, 0..width, gather)?;
        let batch = Batch { columns, rows: groups };
        tell(&batch, &grouping, work);
        Ok(Held::Batches(slices(batch)))
    }

    /// The result of groups that are on disk: a partition at a time, each a run by first appearance.
    fn held_on_disk(mut self, work: &mut Work) -> Result<Held> {
        let grouping = self.grouping.clone();
        let mut runs: Vec<Run> = Vec::new();
        for file in self.files.take().unwrap_or_default() {
            let file = file.finish()?;
            let mut partition = Partition::new(&grouping)?;
            for batch in file.reader()?.into_iter().flatten() {
                partition.load(&batch?, &grouping)?;
                self.held.hold_whole(partition.memory())?;
            }
            let groups = partition.keys.len();
            let batch = Batch { columns: partition.results(groups, &grouping.text)?, rows: groups };
            tell(&batch, &grouping, work);
            let mut columns = vec![Arc::new(orders(&partition.first)) as ArrayRef];
            columns.extend(batch.columns);
            let mut run = self.spill.writer()?;
            for part in super::held::slices_of(Batch { columns, rows: groups }, SPILLED_ROWS) {
                run.write(part)?;
            }
            runs.push(run.finish()?);
        }
        self.held.hold(0)?;
        Ok(Held::Scan(Box::new(Merge::new(runs, None)?)))
    }
}

/// Counts the groups that come out.
fn tell(batch: &Batch, grouping: &Grouping, work: &mut Work) {
    let keys = batch.columns.get(..grouping.kinds.len()).unwrap_or_default();
    let nulls = keys
        .iter()
        .filter_map(|c| c.logical_nulls())
        .fold(None, |all, nulls| arrow_buffer::NullBuffer::union(all.as_ref(), Some(&nulls)));
    work.tally.event(grouping.step, Event::NullGroup, nulls.map_or(0, |n| n.null_count()));
    work.tally.rows(grouping.step, batch.rows);
}

/// The partition and the place in it of each group, by first appearance; each partition's are rising.
fn in_order(firsts: &[&[u64]]) -> Vec<(usize, usize)> {
    // Groups of one worker's table stand together: they are dealt to its bucket and sorted there.
    let tables = firsts.iter().filter_map(|f| f.last()).max().map_or(0, |last| (last >> 32) as usize + 1);
    let mut ends = vec![0usize; tables + 1];
    let each =
        || firsts.iter().enumerate().flat_map(|(p, f)| f.iter().enumerate().map(move |(i, f)| (*f, p, i)));
    for (first, ..) in each() {
        if let Some(end) = ends.get_mut((first >> 32) as usize + 1) {
            *end += 1;
        }
    }
    for i in 1..ends.len() {
        let before = ends.get(i - 1).copied().unwrap_or(0);
        if let Some(end) = ends.get_mut(i) {
            *end += before;
        }
    }
    let starts = ends.clone();
    let mut dealt = vec![(0u64, 0usize, 0usize); firsts.iter().map(|f| f.len()).sum()];
    for group in each() {
        if let Some(next) = ends.get_mut((group.0 >> 32) as usize) {
            if let Some(place) = dealt.get_mut(*next) {
                *place = group;
            }
            *next += 1;
        }
    }
    for (start, end) in starts.iter().zip(&ends) {
        if let Some(bucket) = dealt.get_mut(*start..*end) {
            bucket.sort_unstable_by_key(|(first, ..)| *first);
        }
    }
    dealt.into_iter().map(|(_, partition, place)| (partition, place)).collect()
}

impl Commit for Groups {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let Ok(dealt) = part.downcast::<Dealt>() else {
            return Err(Error::new(ErrorKind::Internal, "A group table was handed something else."));
        };
        let number = self.next;
        self.next += 1;
        if dealt.groups > 0 || !dealt.rows.is_empty() {
            self.waiting_groups += dealt.groups;
            self.waiting.push((number, *dealt));
        }
        let few = self.partitions.len() == 1;
        if few || self.waiting_groups >= WAITING_GROUPS || self.waiting.len() >= 256 {
            self.settle()?;
        }
        Ok(true)
    }

    fn finish(mut self: Box<Self>, work: &mut Work) -> Result<Held> {
        self.settle()?;
        if let Some(dealt) = self.dealt.take() {
            return self.beside_on_disk(dealt);
        }
        if self.files.is_some() { self.held_on_disk(work) } else { self.held_in_memory(work) }
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
