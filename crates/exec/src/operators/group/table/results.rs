//! The results of all groups, by first appearance.

use std::ops::Range;

use churn_core::parallel::Threads;
use churn_core::{Batch, Event, OrFault, Result};
use churn_kernels::gather::Place;
use churn_kernels::memory;

use super::{Groups, PoisonError};
use crate::operators::group::local::Grouping;
use crate::operators::group::partition::PartitionTable;
use crate::runtime::gathered::GatheredScan;
use crate::runtime::materialized::{Materialized, slices};
use crate::runtime::morsel_output::MorselOutput;
use crate::spill::merge::Merge;
use crate::spill::{Run, partitioned};

impl Groups {
    /// The result of groups that are all in memory.
    pub(super) fn finish_in_memory(mut self, work: &mut MorselOutput) -> Result<Materialized> {
        let grouping = self.grouping.clone();
        let partitions: Vec<PartitionTable> = self
            .partitions
            .drain(..)
            .map(|p| p.into_inner().unwrap_or_else(PoisonError::into_inner))
            .collect();
        let finish = |mut partition: PartitionTable| {
            let groups = if grouping.keys.is_empty() { 1 } else { partition.keys.len() };
            let nulls = if grouping.is_broadcast() { 0 } else { partition.keys.null_keys() };
            Ok((
                Batch { columns: partition.results(groups, &grouping)?, rows: groups },
                partition.first,
                nulls,
            ))
        };
        let mut made = self.threads.each(partitions.into_iter(), finish)?;
        if grouping.is_broadcast() {
            let (results, ..) = made.pop().or_fault("partition of the groups")?;
            return self.rows.materialized(results.columns);
        }
        let (mut batches, mut firsts) = (Vec::with_capacity(made.len()), Vec::with_capacity(made.len()));
        for (batch, first, nulls) in made {
            tell(batch.rows, nulls, &grouping, work);
            batches.push(batch);
            firsts.push(first);
        }
        if batches.len() == 1 {
            return Ok(Materialized::Batches(batches.pop().map(slices).or_fault("partition of the groups")?));
        }
        let places = in_order(&firsts, &self.threads)?;
        drop(firsts);
        memory::give_back();
        let bytes = batches.iter().map(Batch::memory).sum::<usize>() + places.len() * size_of::<Place>();
        // They are there already, whether the budget has room for them or not.
        let _is_held = self.reservation.try_hold(bytes);
        let rows = GatheredScan::new(&batches, places, self.reservation)?;
        Ok(Materialized::Scan(Box::new(rows)))
    }

    /// The result of groups that are on disk: a partition at a time, each a run by first appearance.
    pub(super) fn finish_on_disk(mut self, work: &mut MorselOutput) -> Result<Materialized> {
        let grouping = self.grouping.clone();
        let mut runs: Vec<Run> = Vec::new();
        memory::give_back();
        for file in self.files.take().unwrap_or_default() {
            let file = file.finish()?;
            let mut partition = PartitionTable::new(&grouping);
            for batch in file.reader()?.into_iter().flatten() {
                partition.load(&batch?, &grouping)?;
                if !self.reservation.try_hold(partition.wanted()) {
                    partition.spill_states(&self.spill, &mut self.reservation, &self.threads)?;
                    self.reservation.hold_whole(partition.memory())?;
                }
            }
            let groups = partition.keys.len();
            tell(groups, partition.keys.null_keys(), &grouping, work);
            let mut columns = vec![partitioned::position_column(partition.first.iter().copied())];
            columns.extend(partition.results(groups, &grouping)?);
            let mut run = self.spill.writer()?;
            run.write(Batch { columns, rows: groups })?;
            runs.push(run.finish()?);
        }
        self.reservation.hold(0)?;
        Ok(Materialized::Scan(Box::new(Merge::new(runs, None, &self.disk())?)))
    }
}

/// Counts groups that come out, and those of them that have a null key.
fn tell(groups: usize, nulls: usize, grouping: &Grouping, work: &mut MorselOutput) {
    work.counters.event(grouping.step, Event::NullGroup, nulls);
    work.counters.rows(grouping.step, groups);
}

/// The partition and the place in it of each group, by first appearance; those of each partition rise.
fn in_order(firsts: &[Vec<u64>], threads: &Threads) -> Result<Vec<Place>> {
    let tables = firsts.iter().filter_map(|first| first.last()).max().map_or(0, |last| (last >> 32) + 1);
    let step = tables.div_ceil(threads.count() as u64 * 4).max(1);
    let starts: Vec<u64> = (0..).map(|part| part * step).take_while(|start| *start < tables).collect();
    let made =
        threads.each(starts.into_iter(), |start| Ok(of_tables(firsts, start..(start + step).min(tables))))?;
    Ok(made.concat())
}

/// The groups that were first seen in some of the workers' tables. Those of one table are put where their numbers say, of
/// which a table has no more than it had groups or rows: some ten thousand.
fn of_tables(firsts: &[Vec<u64>], tables: Range<u64>) -> Vec<Place> {
    const NONE: Place = (u32::MAX, u32::MAX);
    let mut next: Vec<usize> =
        firsts.iter().map(|first| first.partition_point(|first| first >> 32 < tables.start)).collect();
    let (mut places, mut slots) = (Vec::new(), Vec::new());
    for table in tables {
        slots.clear();
        for ((partition, first), next) in (0u32..).zip(firsts).zip(&mut next) {
            while let Some(first) = first.get(*next).filter(|first| *first >> 32 == table) {
                let number = *first as u32 as usize;
                if slots.len() <= number {
                    slots.resize(number + 1, NONE);
                }
                if let Some(slot) = slots.get_mut(number) {
                    *slot = (partition, *next as u32);
                }
                *next += 1;
            }
        }
        places.extend(slots.iter().filter(|place| **place != NONE));
    }
    places
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// However groups are spread over partitions, they come in the order of their first appearance.
        #[test]
        fn groups_come_by_first_appearance(
            seen in prop::collection::btree_map((0u64..9, 0u64..40), 0usize..4, 0..80),
            threads in 1usize..4,
        ) {
            let mut firsts = vec![Vec::new(); 4];
            for ((table, number), partition) in &seen {
                firsts[*partition].push(table << 32 | number);
            }
            let places = in_order(&firsts, &Threads::new(threads))?;
            let found = places.iter().map(|(partition, place)| firsts[*partition as usize][*place as usize]);
            prop_assert!(found.eq(seen.keys().map(|(table, number)| table << 32 | number)));
        }
    }
}
