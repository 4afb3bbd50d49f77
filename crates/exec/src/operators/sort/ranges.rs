//! The rows of a table in ranges of their keys, each put in order on its own: by any thread, when it is wanted.

use std::sync::Arc;

use churn_core::Result;
use churn_core::parallel::Threads;
use churn_kernels::known::known;

use super::bounds::RangeBounds;
use super::table::{Keyed, Layout, SortTable};
use crate::spill::{Run, Spill};

/// Rows of a range of parts that are in order already, about.
const RANGE: usize = 1 << 15;

/// Ranges of such parts, at most.
const MOST: usize = 512;

/// Codes of keys for each of them that bounds are told from.
const SAMPLED: usize = 32;

/// Parts ahead whose keys are brought near: each has but few rows of a range.
const NEXT: usize = 2;

/// A table, cut into ranges.
pub(super) struct Ranges {
    pub(super) table: SortTable,
    pieces: Vec<Pieces>,
    /// The rows of each range.
    pub(super) sizes: Vec<usize>,
}

/// Where the rows of each range stand in a part.
struct Pieces {
    /// Where each range starts, and where the last one ends.
    starts: Vec<usize>,
    /// The rows in order, where they do not stand so.
    numbers: Option<Vec<u128>>,
}

impl Ranges {
    /// Cuts all parts at the same bounds.
    pub(super) fn new(table: SortTable, threads: &Threads) -> Result<Ranges> {
        let bounds = bounds(&table);
        let pieces = threads.each(0..table.parts.len(), |part| Ok(cut(&table, part, &bounds)))?;
        let mut sizes = vec![0; bounds.ranges()];
        for Pieces { starts, .. } in &pieces {
            for (size, ends) in sizes.iter_mut().zip(starts.windows(2)) {
                *size += ends.last().zip(ends.first()).map_or(0, |(end, start)| end - start);
            }
        }
        Ok(Ranges { table, pieces, sizes })
    }

    /// The numbers of a range's rows, in order.
    pub(super) fn in_order(&self, range: usize) -> Vec<u128> {
        let mut numbers = Vec::with_capacity(known(&self.sizes, range));
        let rows = |pieces: &Pieces| Some(*pieces.starts.get(range)?..*pieces.starts.get(range + 1)?);
        for (part, pieces) in self.pieces.iter().enumerate() {
            if let Some(rows) = self.pieces.get(part + NEXT).and_then(rows) {
                self.table.bring_near(part + NEXT, rows);
            }
            let Some(rows) = rows(pieces) else { continue };
            match &pieces.numbers {
                Some(own) => numbers.extend_from_slice(own.get(rows).unwrap_or_default()),
                None => self.table.append_numbers(part, rows, &mut numbers),
            }
        }
        self.table.put_in_order(numbers)
    }

    /// Writes all rows in order to files, one for each thread.
    pub(super) fn spilled(self, spill: &Spill, threads: &Threads) -> Result<Vec<Run>> {
        let most = self.table.rows_to_disk();
        let ranges: Vec<usize> = (0..self.sizes.len()).collect();
        let share = ranges.len().div_ceil(threads.count()).max(1);
        threads.each(ranges.chunks(share), |ranges| {
            let mut writer = spill.writer()?;
            let mut waiting: Vec<u128> = Vec::new();
            for range in ranges {
                waiting.append(&mut self.in_order(*range));
                let mut whole = waiting.chunks_exact(most);
                whole.by_ref().try_for_each(|some| writer.write(self.table.with_keys(some)?))?;
                waiting = whole.remainder().to_vec();
            }
            if !waiting.is_empty() {
                writer.write(self.table.with_keys(&waiting)?)?;
            }
            writer.finish()
        })
    }
}

/// Those that most rows were partitioned by; where most are in order, bounds of ranges of about as many rows.
fn bounds(table: &SortTable) -> Arc<RangeBounds> {
    let partitioned = |part: &Keyed| match &part.layout {
        Layout::Partitioned { bounds, .. } => Some((part.batch.rows, bounds.clone())),
        Layout::Sorted => None,
    };
    let rows: usize = table.parts.iter().filter_map(partitioned).map(|(rows, _)| rows).sum();
    if let Some((_, bounds)) = table.parts.iter().find_map(partitioned).filter(|_| rows * 2 >= table.rows()) {
        return bounds;
    }
    let ranges = (table.rows() / RANGE).clamp(1, MOST);
    let mut sample: Vec<u128> = Vec::new();
    for part in &table.parts {
        let rows = (0..part.batch.rows).step_by(table.rows().div_ceil(ranges * SAMPLED).max(1));
        sample.extend(rows.map(|row| part.keys.code(row)));
    }
    sample.sort_unstable();
    Arc::new(RangeBounds::between(&sample, ranges))
}

/// Where a part is cut.
fn cut(table: &SortTable, number: usize, bounds: &Arc<RangeBounds>) -> Pieces {
    let Some(part) = table.parts.get(number) else { return Pieces { starts: Vec::new(), numbers: None } };
    let rows = part.batch.rows;
    let starts = |row_at: &dyn Fn(usize) -> usize| {
        let is_below = |at: usize, bound: u128| part.keys.code(row_at(at)) < bound;
        let inner = bounds.iter().map(|bound| partition_point(rows, |at| is_below(at, bound)));
        std::iter::once(0).chain(inner).chain([rows]).collect()
    };
    match &part.layout {
        Layout::Partitioned { bounds: own, starts } if Arc::ptr_eq(own, bounds) => {
            Pieces { starts: starts.clone(), numbers: None }
        }
        Layout::Partitioned { .. } => {
            let numbers = table.in_order(number);
            let row_at = |at: usize| table.place(known(&numbers, at)).1 as usize;
            Pieces { starts: starts(&row_at), numbers: Some(numbers) }
        }
        Layout::Sorted => Pieces { starts: starts(&|at| at), numbers: None },
    }
}

/// The first of so many rows for which `is_below` does not hold; it holds for all before.
fn partition_point(rows: usize, is_below: impl Fn(usize) -> bool) -> usize {
    let (mut from, mut to) = (0, rows);
    while from < to {
        let middle = from.midpoint(to);
        if is_below(middle) { from = middle + 1 } else { to = middle }
    }
    from
}
