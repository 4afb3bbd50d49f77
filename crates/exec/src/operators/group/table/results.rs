//! The results of all groups, by first appearance.

use arrow_buffer::NullBuffer;
use churn_core::{Batch, Event, OrFault, Result};
use churn_kernels::known::{known, known_part};
use churn_kernels::memory;

use super::{Groups, PoisonError};
use crate::operators::group::local::Grouping;
use crate::operators::group::partition::PartitionTable;
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
            Ok((partition.results(groups, &grouping.text)?, partition.first, groups))
        };
        let mut made = self.threads.each(partitions.into_iter(), finish)?;
        if grouping.is_broadcast {
            let (mut results, ..) = made.pop().or_fault("partition of the groups")?;
            return self.rows.materialized(results.split_off(grouping.kinds.len().min(results.len())));
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
                _ => arrow_select::interleave::interleave(&parts, &places).map_err(churn_core::arrow_error),
            }
        };
        let columns = self.threads.each(0..width, gather)?;
        let batch = Batch { columns, rows: groups };
        tell(&batch, &grouping, work);
        Ok(Materialized::Batches(slices(batch)))
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
            let batch = Batch { columns: partition.results(groups, &grouping.text)?, rows: groups };
            tell(&batch, &grouping, work);
            let mut columns = vec![partitioned::encode_positions(partition.first.iter().copied())];
            columns.extend(batch.columns);
            let mut run = self.spill.writer()?;
            run.write(Batch { columns, rows: groups })?;
            runs.push(run.finish()?);
        }
        self.reservation.hold(0)?;
        Ok(Materialized::Scan(Box::new(Merge::new(runs, None, &self.disk())?)))
    }
}

/// Counts the groups that come out.
fn tell(batch: &Batch, grouping: &Grouping, work: &mut MorselOutput) {
    let keys = known_part(&batch.columns, ..grouping.kinds.len());
    let nulls = keys
        .iter()
        .filter_map(|c| c.logical_nulls())
        .fold(None, |all, nulls| NullBuffer::union(all.as_ref(), Some(&nulls)));
    work.counters.event(grouping.step, Event::NullGroup, nulls.map_or(0, |n| n.null_count()));
    work.counters.rows(grouping.step, batch.rows);
}

/// The partition and the place in it of each group, by first appearance; each partition's are rising.
fn in_order(firsts: &[&[u64]]) -> Vec<(usize, usize)> {
    // Groups of one worker's table stand together: they are partitioned to its bucket and sorted there.
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
        let before = known(&ends, i - 1);
        if let Some(end) = ends.get_mut(i) {
            *end += before;
        }
    }
    let starts = ends.clone();
    let mut buckets = vec![(0u64, 0usize, 0usize); firsts.iter().map(|f| f.len()).sum()];
    for group in each() {
        if let Some(next) = ends.get_mut((group.0 >> 32) as usize) {
            if let Some(place) = buckets.get_mut(*next) {
                *place = group;
            }
            *next += 1;
        }
    }
    for (start, end) in starts.iter().zip(&ends) {
        if let Some(bucket) = buckets.get_mut(*start..*end) {
            bucket.sort_unstable_by_key(|(first, ..)| *first);
        }
    }
    buckets.into_iter().map(|(_, partition, place)| (partition, place)).collect()
}
