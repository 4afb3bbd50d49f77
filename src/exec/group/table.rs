//! The large table: the workers' tables merged in order, in partitions, in memory or on disk.

use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, Mutex, PoisonError};

use churn_kernels::memory;

use super::beside::{Beside, Staying};
use super::local::{Dealt, Grouping, Shard, Workers, shards};
use super::partition::{PARTITIONS, Partition};
use crate::error::{Error, ErrorKind, Result};
use crate::exec::budget::{Budget, Reservation};
use crate::exec::grace;
use crate::exec::held::{Held, slices};
use crate::exec::merge::Merge;
use crate::exec::pipeline::{Commit, Part, Sink};
use crate::exec::spill::{Disk, Run, Spill, Writer};
use crate::exec::tally::Work;
use crate::expr::{Batch, Event};

/// Groups past which the table is cut into partitions.
const MANY_GROUPS: usize = 1 << 15;

/// Groups that wait to be merged before all threads merge them.
const WAITING_GROUPS: usize = 1 << 17;

/// Bytes of keys and states that wait to be merged; of a small budget an eighth.
const WAITING_BYTES: usize = 1 << 24;

/// The large table.
struct Groups {
    grouping: Arc<Grouping>,
    partitions: Vec<Mutex<Partition>>,
    /// Tables that are not merged yet, with their numbers.
    waiting: Vec<(u64, Dealt)>,
    waiting_groups: usize,
    waiting_bytes: usize,
    /// The number of the next table.
    next: u64,
    /// The files of the partitions, once the budget was used up.
    files: Option<Vec<Writer>>,
    spill: Spill,
    threads: usize,
    /// Rows that stay.
    rows: Staying,
    /// Rows that stay, dealt by their keys, once there was no room for their groups; and the place of the next.
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
        waiting_bytes: 0,
        next: 0,
        files: None,
        spill,
        threads,
        rows: Staying::default(),
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
        (self.waiting_groups, self.waiting_bytes) = (0, 0);
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
        let partitions = self.partitions.iter_mut();
        let partitions = partitions.map(|p| p.get_mut().unwrap_or_else(PoisonError::into_inner));
        if !self.grouping.may_part() {
            let wanted = partitions.map(Partition::wanted).sum();
            return if self.held.try_hold(wanted) { Ok(()) } else { self.take_outside() };
        }
        let memory = partitions.map(Partition::memory).sum();
        if self.held.try_hold(memory) {
            return Ok(());
        }
        if self.partitions.len() == 1 {
            self.part()?;
        }
        self.leave_memory()
    }

    fn disk(&self) -> Disk<'_> {
        Disk { spill: &self.spill, budget: self.held.budget(), threads: self.threads }
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
                partition.merge(shard, |n| first.get(n as usize).copied().unwrap_or(0))?;
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
                partition.merge(whole, |_| 0)?;
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
                partition.merge(shard, |n| first(table, n))?;
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
                numbers = partition.merge(shard, |n| first(table, n))?;
            }
            for (batch, mut groups) in dealt.rows {
                for group in &mut groups {
                    *group = numbers.get(*group as usize).copied().unwrap_or(0);
                }
                self.rows.push(batch, groups)?;
            }
        }
        let memory = partition.wanted();
        if self.held.try_hold(self.rows.memory() + memory) {
            return Ok(());
        }
        if !self.rows.is_on_disk() {
            self.rows.leave_memory(&self.spill)?;
        }
        if self.held.try_hold(memory) {
            return Ok(());
        }
        if self.grouping.keys.is_empty() {
            // One group has all rows: there is nothing to deal them by.
            return self.take_outside();
        }
        self.partitions = vec![Mutex::new(Partition::new(&self.grouping)?)];
        let mut rows = std::mem::take(&mut self.rows);
        rows.drained(|batch| self.deal(&batch))?;
        self.held.hold(0)
    }

    /// Deals rows that stay to files by their keys.
    fn deal(&mut self, batch: &Batch) -> Result<()> {
        let keys = self.grouping.key_columns(batch)?;
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
        let process = Beside(self.grouping.clone());
        let files = grace::Files {
            kinds: &self.grouping.kinds,
            keys: &|batch| self.grouping.key_columns(batch),
            process: &process,
            bytes_a_row: 8,
            spill: &self.spill,
            threads: self.threads,
        };
        let runs = files.processed(dealt.finish()?, &mut self.held)?;
        Ok(Held::Scan(Box::new(Merge::new(runs, None, &self.disk())?)))
    }

    /// Takes the values of the one partition's states out of memory.
    fn take_outside(&mut self) -> Result<()> {
        let Some(partition) = self.partitions.first_mut() else { return Ok(()) };
        let partition = partition.get_mut().unwrap_or_else(PoisonError::into_inner);
        partition.take_outside(&self.spill, &mut self.held, self.threads)?;
        self.held.hold_whole(self.rows.memory() + partition.memory())
    }

    /// Puts all partitions on disk.
    fn leave_memory(&mut self) -> Result<()> {
        let mut files = Vec::new();
        for partition in &mut self.partitions {
            let partition = partition.get_mut().unwrap_or_else(PoisonError::into_inner);
            let mut full = std::mem::replace(partition, Partition::new(&self.grouping)?);
            let mut file = self.spill.writer_alone()?;
            full.save(&self.grouping, &mut file)?;
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
                alone.merge(shard, |n| first(table, n))?;
                alone.save(&grouping, file)?;
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
            let mut results = made.pop().map(|(columns, ..)| columns).unwrap_or_default();
            return self.rows.held(results.split_off(grouping.kinds.len().min(results.len())));
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
        memory::give_back();
        for file in self.files.take().unwrap_or_default() {
            let file = file.finish()?;
            let mut partition = Partition::new(&grouping)?;
            for batch in file.reader()?.into_iter().flatten() {
                partition.load(&batch?, &grouping)?;
                if !self.held.try_hold(partition.wanted()) {
                    partition.take_outside(&self.spill, &mut self.held, self.threads)?;
                    self.held.hold_whole(partition.memory())?;
                }
            }
            let groups = partition.keys.len();
            let batch = Batch { columns: partition.results(groups, &grouping.text)?, rows: groups };
            tell(&batch, &grouping, work);
            let mut columns = vec![grace::numbered(partition.first.iter().copied())];
            columns.extend(batch.columns);
            let mut run = self.spill.writer()?;
            run.write(Batch { columns, rows: groups })?;
            runs.push(run.finish()?);
        }
        self.held.hold(0)?;
        Ok(Held::Scan(Box::new(Merge::new(runs, None, &self.disk())?)))
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
            self.waiting_bytes += dealt.bytes;
            self.waiting.push((number, *dealt));
        }
        let few = self.partitions.len() == 1;
        let most = WAITING_BYTES.min(usize::try_from(self.held.budget().share() * 4).unwrap_or(usize::MAX));
        let many = self.waiting_groups >= WAITING_GROUPS || self.waiting_bytes >= most;
        if few || many || self.waiting.len() >= 256 {
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
