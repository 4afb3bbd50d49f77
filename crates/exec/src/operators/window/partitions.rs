//! Rows by their partitions.

use std::sync::atomic::{AtomicU32, Ordering};

use arrow_array::ArrayRef;
use churn_core::{Batch, Result};
use churn_kernels::known::known;

use super::Window;
use crate::keys::KeyTable;

/// Rows of partitions that one thread works on together, about.
const TOGETHER: usize = 1 << 16;

impl Window {
    /// The rows of each partition, in the order in which they came: where each starts, and the rows.
    pub(super) fn partitions(&self, batches: &[Batch], rows: usize) -> Result<(Vec<u32>, Vec<u32>)> {
        if self.by.is_empty() {
            return Ok((vec![0, rows as u32], (0..rows as u32).collect()));
        }
        let mut shares = self.numbered(batches)?;
        let groups = shares.iter().map(|share| share.counts.len()).max().unwrap_or(0);
        let mut starts = Vec::with_capacity(groups + 1);
        let mut sum = 0;
        for group in 0..groups {
            starts.push(sum);
            // Each share's rows of a group stand behind those of the shares before it.
            for count in shares.iter_mut().filter_map(|share| share.counts.get_mut(group)) {
                sum += std::mem::replace(count, sum);
            }
        }
        starts.push(sum);
        let places: Vec<AtomicU32> = std::iter::repeat_with(AtomicU32::default).take(rows).collect();
        self.threads.each(shares.into_iter(), |share| {
            let mut next = share.counts;
            for (row, number) in (share.first..).zip(&share.numbers) {
                let Some(at) = next.get_mut(*number as usize) else { continue };
                places.get(*at as usize).into_iter().for_each(|place| place.store(row, Ordering::Relaxed));
                *at += 1;
            }
            Ok(())
        })?;
        Ok((starts, places.into_iter().map(AtomicU32::into_inner).collect()))
    }

    /// The partition of each row, numbered by first appearance, and how many rows of each a share has.
    fn numbered(&self, batches: &[Batch]) -> Result<Vec<Share>> {
        let shares = batches.chunks(batches.len().div_ceil(self.threads.count()).max(1));
        let made = self.threads.each(shares, |share| {
            let mut table = KeyTable::new(self.kinds.clone());
            let mut numbers = Vec::with_capacity(share.iter().map(|batch| batch.rows).sum());
            for batch in share {
                let keys: Vec<ArrayRef> =
                    self.by.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
                table.numbers(&keys, batch.rows, &mut numbers)?;
            }
            Ok((table, numbers))
        })?;
        let mut all = KeyTable::new(self.kinds.clone());
        let (mut first, mut shares) = (0, Vec::new());
        for (table, numbers) in made {
            let mut known = Vec::with_capacity(table.len());
            for (keys, _) in table.partition(1)? {
                all.absorb(&keys, &mut known)?;
            }
            let rows = numbers.len() as u32;
            shares.push((known, Share { first, numbers, counts: vec![0; all.len()] }));
            first += rows;
        }
        self.threads.each(shares.into_iter(), |(numbers, mut share)| {
            for number in &mut share.numbers {
                *number = known(&numbers, *number as usize);
                share.counts.get_mut(*number as usize).into_iter().for_each(|count| *count += 1);
            }
            Ok(share)
        })
    }
}

/// Rows that one thread numbers by their partitions.
struct Share {
    /// How many rows are before them.
    first: u32,
    numbers: Vec<u32>,
    /// Rows of each partition.
    counts: Vec<u32>,
}

/// Partitions that one thread works on together.
pub(super) struct PartitionChunk<'a> {
    /// How many rows are before them.
    pub(super) from: u32,
    pub(super) places: &'a mut [u32],
    pub(super) ends: Vec<u32>,
}

/// The rows of partitions that start there, in chunks.
pub(super) fn chunks<'a>(starts: &[u32], mut places: &'a mut [u32]) -> Vec<PartitionChunk<'a>> {
    let mut chunks = Vec::new();
    let mut first = 0;
    while first + 1 < starts.len() {
        let at = |i: usize| known(starts, i);
        let mut next = first + 1;
        while next + 1 < starts.len() && (at(next + 1) - at(first)) as usize <= TOGETHER {
            next += 1;
        }
        let (own, rest) = places.split_at_mut((at(next) - at(first)) as usize);
        let ends = (first + 1..=next).map(|i| at(i) - at(first)).collect();
        chunks.push(PartitionChunk { from: at(first), places: own, ends });
        (places, first) = (rest, next);
    }
    chunks
}
