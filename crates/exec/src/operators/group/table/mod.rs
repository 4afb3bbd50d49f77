//! The large table: the workers' tables merged in order, in partitions, in memory or on disk.

mod results;

use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::parallel::Threads;
use churn_core::{Batch, Result};
use churn_kernels::known::known;

use super::broadcast::{Broadcast, BroadcastRows};
use super::local::{Content, GroupPartition, GroupWorkers, Grouping, PartitionedGroups, partitions_of};
use super::partition::{PARTITIONS, PartitionTable};
use super::passed;
use crate::keys::KeyTable;
use crate::runtime::budget::{Budget, Reservation};
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, Sink};
use crate::spill::merge::Merge;
use crate::spill::partitioned::{PartitionWriter, Partitions};
use crate::spill::{Disk, RunWriter, Spill};

/// Groups past which the table is cut into partitions.
const MANY_GROUPS: usize = 1 << 15;

/// Groups that wait to be merged before all threads merge them.
const WAITING_GROUPS: usize = 1 << 17;

/// Bytes of keys and states that wait to be merged; of a small budget an eighth.
const WAITING_BYTES: usize = 1 << 24;

/// The large table.
pub(crate) struct Groups {
    grouping: Arc<Grouping>,
    partitions: Vec<Mutex<PartitionTable>>,
    /// Tables that are not merged yet, with their numbers.
    waiting: Vec<(u64, PartitionedGroups)>,
    waiting_groups: usize,
    waiting_bytes: usize,
    /// The number of the next table.
    next: u64,
    /// The files of the partitions, once the budget was used up.
    files: Option<Vec<RunWriter>>,
    spill: Spill,
    threads: Threads,
    /// Rows that stay.
    rows: BroadcastRows,
    /// Rows that stay, partitioned by their keys, once there was no room for their groups.
    row_partitions: Option<PartitionWriter>,
    reservation: Reservation,
}

/// The sink of `group`, `total` and `per`.
pub(crate) fn sink(
    grouping: Grouping,
    budget: &Budget,
    spill: Spill,
    threads: Threads,
) -> Result<Sink<GroupWorkers, Groups>> {
    let grouping = Arc::new(grouping);
    let commit = Groups {
        partitions: vec![Mutex::new(PartitionTable::new(&grouping))],
        grouping: grouping.clone(),
        waiting: Vec::new(),
        waiting_groups: 0,
        waiting_bytes: 0,
        next: 0,
        files: None,
        spill,
        threads,
        rows: BroadcastRows::default(),
        row_partitions: None,
        reservation: budget.reservation(),
    };
    Ok(Sink { worker: Arc::new(GroupWorkers(grouping)), commit })
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
        if self.grouping.is_broadcast() {
            return self.merge_broadcast(waiting);
        }
        if self.files.is_some() {
            return self.write(waiting);
        }
        self.merge(waiting)?;
        if self.grouping.may_partition() && self.partitions.len() == 1 && self.groups() > MANY_GROUPS {
            self.partition()?;
        }
        let partitions = self.partitions.iter_mut();
        let partitions = partitions.map(|p| p.get_mut().unwrap_or_else(PoisonError::into_inner));
        if !self.grouping.may_partition() {
            let wanted = partitions.map(PartitionTable::wanted).sum();
            return if self.reservation.try_hold(wanted) { Ok(()) } else { self.spill_states() };
        }
        let memory: usize = partitions.map(PartitionTable::memory).sum();
        // Tables that grow leave gaps behind that are too small for them.
        if self.reservation.try_hold(memory + memory / 8) {
            return Ok(());
        }
        if self.partitions.len() == 1 {
            self.partition()?;
        }
        self.spill()
    }

    fn disk(&self) -> Disk<'_> {
        Disk { spill: &self.spill, budget: self.reservation.budget(), threads: &self.threads }
    }

    fn groups(&mut self) -> usize {
        let groups =
            |p: &mut Mutex<PartitionTable>| p.get_mut().unwrap_or_else(PoisonError::into_inner).keys.len();
        self.partitions.iter_mut().map(groups).sum()
    }

    /// Splits the one partition into [`PARTITIONS`] by the hashes of the keys.
    fn partition(&mut self) -> Result<()> {
        self.grouping.are_many.store(true, Relaxed);
        let Some(whole) = self.partitions.pop() else { return Ok(()) };
        let PartitionTable { keys, first, accumulators, .. } =
            whole.into_inner().unwrap_or_else(PoisonError::into_inner);
        for part in partitions_of(keys, accumulators, PARTITIONS)? {
            let mut partition = PartitionTable::new(&self.grouping);
            if let Some(part) = part {
                partition.merge(part, |n| known(&first, n as usize))?;
            }
            self.partitions.push(Mutex::new(partition));
        }
        Ok(())
    }

    /// For each partition the parts of some tables, in order, with the tables' numbers.
    fn by_partition(
        &self,
        waiting: Vec<(u64, PartitionedGroups)>,
    ) -> Result<Vec<Vec<(u64, GroupPartition)>>> {
        let mut columns: Vec<Vec<(u64, GroupPartition)>> =
            self.partitions.iter().map(|_| Vec::new()).collect();
        for (table, mut closed) in waiting {
            if closed.parts.len() < columns.len()
                && let Some(whole) = closed.parts.pop().flatten()
            {
                // It was closed before it was known that groups are many.
                closed.parts = match whole.content {
                    Content::Values(_) => passed::partitioned(
                        &KeyTable::of_many(self.grouping.kinds.clone()),
                        whole,
                        columns.len(),
                    )?,
                    Content::States(_) => {
                        let mut partition = PartitionTable::new(&self.grouping);
                        partition.merge(whole, |_| 0)?;
                        partitions_of(partition.keys, partition.accumulators, columns.len())?
                    }
                };
            }
            for (column, part) in columns.iter_mut().zip(closed.parts) {
                column.extend(part.map(|part| (table, part)));
            }
        }
        Ok(columns)
    }

    /// Merges tables into the partitions, on all threads.
    fn merge(&self, waiting: Vec<(u64, PartitionedGroups)>) -> Result<()> {
        let columns = self.by_partition(waiting)?;
        let merge = |(partition, parts): (&Mutex<PartitionTable>, Vec<(u64, GroupPartition)>)| {
            let mut partition = partition.lock().unwrap_or_else(PoisonError::into_inner);
            for (table, part) in parts {
                partition.merge(part, |n| first(table, n))?;
            }
            Ok(())
        };
        self.threads.each(self.partitions.iter().zip(columns), merge).map(drop)
    }

    /// Merges tables whose rows stay: each row gets its group's number.
    fn merge_broadcast(&mut self, waiting: Vec<(u64, PartitionedGroups)>) -> Result<()> {
        if self.row_partitions.is_some() {
            for (batch, _) in waiting.into_iter().flat_map(|(_, closed)| closed.rows) {
                self.partition_rows(&batch)?;
            }
            return Ok(());
        }
        let Some(partition) = self.partitions.first_mut() else { return Ok(()) };
        let partition = partition.get_mut().unwrap_or_else(PoisonError::into_inner);
        for (table, closed) in waiting {
            let mut numbers = Vec::new();
            for part in closed.parts.into_iter().flatten() {
                numbers = partition.merge(part, |n| first(table, n))?;
            }
            for (batch, mut groups) in closed.rows {
                for group in &mut groups {
                    *group = known(&numbers, *group as usize);
                }
                self.rows.push(batch, groups)?;
            }
        }
        let memory = partition.wanted();
        if self.reservation.try_hold(self.rows.memory() + memory) {
            return Ok(());
        }
        if !self.rows.is_on_disk() {
            self.rows.spill(&self.spill)?;
        }
        if self.reservation.try_hold(memory) {
            return Ok(());
        }
        if self.grouping.keys.is_empty() {
            // One group has all rows: there is nothing to partition them by.
            return self.spill_states();
        }
        self.partitions = vec![Mutex::new(PartitionTable::new(&self.grouping))];
        let mut rows = std::mem::take(&mut self.rows);
        rows.drained(|batch| self.partition_rows(&batch))?;
        self.reservation.hold(0)
    }

    /// Deals rows that stay to files by their keys.
    fn partition_rows(&mut self, batch: &Batch) -> Result<()> {
        let keys = self.grouping.key_columns(batch)?;
        if self.row_partitions.is_none() {
            self.row_partitions =
                Some(PartitionWriter::new(self.grouping.kinds.clone(), &self.spill, &self.threads)?);
        }
        match &mut self.row_partitions {
            Some(writer) => writer.push_next(batch, &keys),
            None => Ok(()),
        }
    }

    /// The rows that stay, a file at a time, each beside its group.
    fn broadcast_on_disk(mut self, writer: PartitionWriter) -> Result<Materialized> {
        let process = Broadcast(self.grouping.clone());
        let files = Partitions {
            kinds: &self.grouping.kinds,
            keys: &|batch| self.grouping.key_columns(batch),
            process: &process,
            bytes_a_row: 8,
            spill: &self.spill,
            threads: self.threads.clone(),
        };
        let runs = files.processed(writer.finish()?, &mut self.reservation)?;
        Ok(Materialized::Scan(Box::new(Merge::new(runs, None, &self.disk())?)))
    }

    /// Takes the values of the one partition's states out of memory.
    fn spill_states(&mut self) -> Result<()> {
        let Some(partition) = self.partitions.first_mut() else { return Ok(()) };
        let partition = partition.get_mut().unwrap_or_else(PoisonError::into_inner);
        partition.spill_states(&self.spill, &mut self.reservation, &self.threads)?;
        self.reservation.hold_whole(self.rows.memory() + partition.memory())
    }

    /// Puts all partitions on disk.
    fn spill(&mut self) -> Result<()> {
        let mut files = Vec::new();
        for partition in &mut self.partitions {
            let partition = partition.get_mut().unwrap_or_else(PoisonError::into_inner);
            let mut full = std::mem::replace(partition, PartitionTable::new(&self.grouping));
            let mut file = self.spill.writer_alone()?;
            full.save(&self.grouping, &mut file)?;
            files.push(file);
        }
        self.files = Some(files);
        self.reservation.hold(0)
    }

    /// Writes tables behind what is on disk; a few tables' groups of a partition together.
    fn write(&mut self, waiting: Vec<(u64, PartitionedGroups)>) -> Result<()> {
        let columns = self.by_partition(waiting)?;
        let Some(files) = &mut self.files else { return Ok(()) };
        let grouping = self.grouping.clone();
        let write = |(file, parts): (&mut RunWriter, Vec<(u64, GroupPartition)>)| {
            for (table, part) in parts {
                // A table of its own keeps equal groups of two tables apart: they are merged when read, in order.
                let mut alone = PartitionTable::new(&grouping);
                alone.merge(part, |n| first(table, n))?;
                alone.save(&grouping, file)?;
            }
            Ok(())
        };
        self.threads.each(files.iter_mut().zip(columns), write).map(drop)
    }
}

impl Commit for Groups {
    type Part = PartitionedGroups;
    type Output = Materialized;

    fn commit(&mut self, closed: PartitionedGroups, _: &mut MorselOutput) -> Result<bool> {
        let number = self.next;
        self.next += 1;
        if closed.groups > 0 || !closed.rows.is_empty() {
            self.waiting_groups += closed.groups;
            self.waiting_bytes += closed.bytes;
            self.waiting.push((number, closed));
        }
        let few = self.partitions.len() == 1;
        let most =
            WAITING_BYTES.min(usize::try_from(self.reservation.budget().share() * 4).unwrap_or(usize::MAX));
        let many = self.waiting_groups >= WAITING_GROUPS || self.waiting_bytes >= most;
        if few || many || self.waiting.len() >= 256 {
            self.settle()?;
        }
        Ok(true)
    }

    fn finish(mut self, work: &mut MorselOutput) -> Result<Materialized> {
        self.settle()?;
        if let Some(writer) = self.row_partitions.take() {
            return self.broadcast_on_disk(writer);
        }
        if self.files.is_some() { self.finish_on_disk(work) } else { self.finish_in_memory(work) }
    }
}
