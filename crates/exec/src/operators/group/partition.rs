//! A part of the large table: in memory, and as it is kept on disk.

use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::cast::AsArray;
use churn_core::parallel::Threads;
use churn_core::{Batch, Error, ErrorKind, Result};
use churn_expr::aggregates::Accumulator;
use churn_kernels::known::known;

use super::external::ExternalStates;
use super::local::{Content, GroupPartition, Grouping, Output};
use crate::keys::KeyTable;
use crate::runtime::budget::Reservation;
use crate::spill::{Disk, RunWriter, Spill, partitioned};

/// Partitions of the large table, once it has many groups.
pub(super) const PARTITIONS: usize = 64;

/// Values of a state that are kept on disk together.
const PART: usize = 1 << 16;

/// A part of the large table.
pub(super) struct PartitionTable {
    pub(super) keys: KeyTable,
    /// Where each group was first seen: the number of the worker's table, and its number in there.
    pub(super) first: Vec<u64>,
    pub(super) accumulators: Vec<Box<dyn Accumulator>>,
    pub(super) weighed: Weighed,
    /// Values of states that did not fit.
    pub(super) external: ExternalStates,
}

/// What states were found to hold, and how many groups there were then.
#[derive(Clone, Copy, Default)]
pub(super) struct Weighed {
    pub(super) bytes: usize,
    pub(super) groups: usize,
    pub(super) asked: usize,
}

impl PartitionTable {
    pub(super) fn new(grouping: &Grouping) -> PartitionTable {
        PartitionTable {
            keys: KeyTable::of_many(grouping.kinds.clone()),
            first: Vec::new(),
            accumulators: grouping.accumulators(),
            weighed: Weighed::default(),
            external: ExternalStates::default(),
        }
    }

    /// Bytes in use. What states hold is found by a walk over all groups, so that of many groups it is taken
    /// from the last walk most times.
    pub(super) fn memory(&mut self) -> usize {
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

    /// Bytes to ask for: while values leave memory, they are there twice.
    pub(super) fn wanted(&mut self) -> usize {
        let leave = self.accumulators.iter().any(|a| a.external().is_some());
        self.memory() * if leave { 2 } else { 1 }
    }

    /// Adds the groups of a later table, whose numbers `first` turns into the places that they were first seen at, or rows;
    /// gives their numbers here.
    pub(super) fn merge(&mut self, part: GroupPartition, first: impl Fn(u32) -> u64) -> Result<Vec<u32>> {
        let mut numbers = Vec::with_capacity(part.keys.len());
        self.keys.absorb(&part.keys, &mut numbers)?;
        let firsts = part.numbers.iter().map(|n| first(*n));
        match part.content {
            Content::States(accumulators) => self.add(&numbers, firsts, accumulators)?,
            Content::Values(values) => {
                self.add_first(&numbers, firsts);
                let groups = self.keys.len();
                for (accumulator, values) in self.accumulators.iter_mut().zip(&values) {
                    accumulator.grow(groups);
                    accumulator.update(&numbers, values)?;
                }
            }
        }
        Ok(numbers)
    }

    /// Notes where groups that are new were first seen.
    fn add_first(&mut self, numbers: &[u32], firsts: impl Iterator<Item = u64>) {
        for (number, first) in numbers.iter().zip(firsts) {
            if *number as usize == self.first.len() {
                self.first.push(first);
            }
        }
    }

    /// Adds the states of groups whose numbers here are known.
    pub(super) fn add(
        &mut self,
        numbers: &[u32],
        firsts: impl Iterator<Item = u64>,
        accumulators: Vec<Box<dyn Accumulator>>,
    ) -> Result<()> {
        self.add_first(numbers, firsts);
        let groups = self.keys.len();
        let pairs: Vec<(u32, u32)> = (0u32..).zip(numbers.iter().copied()).collect();
        for (ours, mut theirs) in self.accumulators.iter_mut().zip(accumulators) {
            ours.grow(groups);
            ours.merge(theirs.as_mut(), &pairs)?;
        }
        Ok(())
    }

    /// The keys of all groups that come out, and their results.
    pub(super) fn results(&mut self, groups: usize, grouping: &Grouping) -> Result<Vec<ArrayRef>> {
        let mut columns = match &grouping.output {
            Output::Groups(read) if !read.is_empty() => {
                let keys = self.keys.arrays(&(0..groups as u32).collect::<Vec<u32>>())?;
                read.iter().filter_map(|key| keys.get(*key).cloned()).collect()
            }
            _ => Vec::new(),
        };
        let results = self.external.results(&mut self.accumulators, groups);
        columns.extend(results.map_err(|e| e.in_step(&grouping.text))?);
        Ok(columns)
    }

    /// Takes the values of states out of memory.
    pub(super) fn spill_states(
        &mut self,
        spill: &Spill,
        reservation: &mut Reservation,
        threads: &Threads,
    ) -> Result<()> {
        let budget = reservation.budget().clone();
        let bytes = self.memory();
        self.weighed = Weighed::default();
        self.external.take(
            &mut self.accumulators,
            bytes,
            reservation,
            &Disk { spill, budget: &budget, threads },
        )
    }

    /// The groups with their states, as they are kept on disk; large states in parts, each as a group of its own.
    pub(super) fn save(&mut self, grouping: &Grouping, file: &mut RunWriter) -> Result<()> {
        for i in 0..self.accumulators.len() {
            while let Some(accumulator) = self.accumulators.get_mut(i) {
                let (groups, part) = accumulator.part(PART);
                if groups.is_empty() {
                    break;
                }
                let mut accumulators = grouping.accumulators();
                accumulators.iter_mut().for_each(|a| a.grow(groups.len()));
                accumulators.get_mut(i).into_iter().zip([part]).for_each(|(a, part)| *a = part);
                self.write(&groups, &mut accumulators, file)?;
            }
        }
        let all: Vec<u32> = (0..self.keys.len() as u32).collect();
        let mut accumulators = std::mem::take(&mut self.accumulators);
        self.write(&all, &mut accumulators, file)
    }

    /// Writes some groups with these states.
    fn write(
        &self,
        groups: &[u32],
        accumulators: &mut [Box<dyn Accumulator>],
        file: &mut RunWriter,
    ) -> Result<()> {
        let first = |group: &u32| known(&self.first, *group as usize);
        let mut columns = vec![partitioned::position_column(groups.iter().map(first))];
        columns.extend(self.keys.arrays(groups)?);
        for accumulator in accumulators {
            columns.push(Arc::new(accumulator.save()?));
        }
        let batch = Batch { columns, rows: groups.len() };
        file.write(batch)
    }

    /// Adds groups that were kept on disk.
    pub(super) fn load(&mut self, batch: &Batch, grouping: &Grouping) -> Result<()> {
        let lost = || Error::new(ErrorKind::Internal, "Groups on disk lack a column.");
        let bytes = |i: usize| batch.columns.get(i).and_then(|c| c.as_binary_opt::<i64>()).ok_or_else(lost);
        let keys = grouping.kinds.len();
        let mut numbers = Vec::new();
        self.keys.numbers(batch.columns.get(1..=keys).ok_or_else(lost)?, batch.rows, &mut numbers)?;
        let mut accumulators = grouping.accumulators();
        for (i, accumulator) in accumulators.iter_mut().enumerate() {
            accumulator.load(bytes(1 + keys + i)?)?;
        }
        let firsts = batch.columns.first().map(partitioned::positions).transpose()?.unwrap_or_default();
        let firsts = firsts.iter().map(|first| first.cast_unsigned());
        self.add(&numbers, firsts, accumulators)
    }
}
