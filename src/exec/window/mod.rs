//! `window`: partitions, each in its order; results go back to where the rows stand.
//!
//! All rows of a partition meet in memory, in one file after the other if not all partitions fit (`grace`). Of the
//! rows only the columns that the window uses are put together; partitions are sorted and worked out on all threads.

mod frames;
mod large;
mod order;
mod tasks;

use arrow_array::{Array, ArrayRef, UInt32Array};

use super::grace::{Became, Disk, Large, Process};
use super::held::concat;
use super::keys::KeyTable;
use super::spill::Run;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::windows::{Frame, Task};
use crate::expr::{Batch, Type, taken};
use crate::parallel;

use order::{Key, Ordered};

/// Rows of partitions that one thread works on together, about.
const TOGETHER: usize = 1 << 16;

/// A window, its columns placed.
pub(crate) struct Window {
    pub(crate) by: Vec<usize>,
    pub(crate) kinds: Vec<Type>,
    pub(crate) order: Vec<Key>,
    pub(crate) calls: Vec<Call>,
    pub(crate) text: String,
    pub(crate) threads: usize,
}

/// A call, its columns placed.
pub(crate) struct Call {
    pub(crate) task: Task,
    pub(crate) args: Vec<usize>,
    pub(crate) only: Option<usize>,
    pub(crate) frame: Frame,
    pub(crate) kind: Type,
}

/// A key of the order, placed.
pub(crate) fn key(place: usize, kind: Type, descending: bool, nulls_first: bool) -> Key {
    Key { place, kind, descending, nulls_first }
}

impl Process for Window {
    /// Each batch with the results behind its columns.
    fn rows(&self, batches: &[Batch]) -> Result<Vec<Became>> {
        let rows: usize = batches.iter().map(|b| b.rows).sum();
        if u32::try_from(rows).is_err() {
            let what = "More than 4 billion rows meet in one window.";
            return Err(Error::new(ErrorKind::Memory, what).in_step(&self.text));
        }
        let results = self.results(batches, rows)?;
        let mut from = 0;
        let with_results = batches.iter().map(|batch| {
            let start = from;
            from += batch.rows;
            let own = results.iter().map(|column| column.slice(start, batch.rows));
            let columns = batch.columns.iter().cloned().chain(own).collect();
            (Batch { columns, rows: batch.rows }, None)
        });
        Ok(with_results.collect())
    }

    fn large(&self) -> Option<&dyn Large> {
        Some(self)
    }
}

impl Large for Window {
    fn worked_out(&self, run: &Run, disk: &Disk) -> Result<Run> {
        large::worked_out(self, run, disk).map_err(|e| e.in_step(&self.text))
    }
}

impl Window {
    /// Bytes that it holds for each row beside the row, about.
    pub(crate) fn bytes_a_row(&self) -> usize {
        let used: usize = self.calls.iter().map(|call| 24 + call.args.len() * 16).sum();
        16 + self.order.len() * 24 + used
    }

    /// The results of all calls, in the order of the rows.
    fn results(&self, batches: &[Batch], rows: usize) -> Result<Vec<ArrayRef>> {
        if rows == 0 {
            let empty = |call: &Call| arrow_array::new_empty_array(&call.kind.arrow());
            return Ok(self.calls.iter().map(empty).collect());
        }
        let (starts, mut places) = self.partitions(batches, rows)?;
        let columns = self.columns(batches)?;
        let order = Ordered::new(&self.order, &columns)?;
        let mut chunks = Vec::new();
        let mut left = places.as_mut_slice();
        let mut first = 0;
        while first + 1 < starts.len() {
            let at = |i: usize| starts.get(i).copied().unwrap_or(0) as usize;
            let mut next = first + 1;
            while next + 1 < starts.len() && at(next + 1) - at(first) <= TOGETHER {
                next += 1;
            }
            let (own, rest) = left.split_at_mut(at(next) - at(first));
            left = rest;
            let ends: Vec<u32> = (first + 1..=next).map(|i| (at(i) - at(first)) as u32).collect();
            chunks.push((own, ends));
            first = next;
        }
        let worked = parallel::each(self.threads, chunks.into_iter(), |(places, ends)| {
            order.sort(places, &ends);
            let partitions = tasks::Partitions::new(places, &ends, &order, &columns)?;
            let result = |call: &Call| partitions.result(call).map_err(|e| e.in_step(&self.text));
            self.calls.iter().map(result).collect::<Result<Vec<_>>>()
        })?;
        // Where each row stands among the sorted ones.
        let mut back = vec![0u32; rows];
        for (sorted, row) in (0u32..).zip(&places) {
            if let Some(slot) = back.get_mut(*row as usize) {
                *slot = sorted;
            }
        }
        let is_in_place = (0u32..).zip(&back).all(|(row, sorted)| row == *sorted);
        let back = UInt32Array::from(back);
        let calls: Vec<usize> = (0..self.calls.len()).collect();
        parallel::each(self.threads, calls.into_iter(), |call| {
            let parts: Vec<&dyn Array> =
                worked.iter().filter_map(|results| results.get(call)).map(AsRef::as_ref).collect();
            let sorted = arrow_select::concat::concat(&parts).map_err(crate::expr::arrow_error)?;
            if is_in_place {
                return Ok(sorted);
            }
            taken(&sorted, &back)
        })
    }

    /// The rows of each partition, in the order in which they came: where each starts, and the rows.
    fn partitions(&self, batches: &[Batch], rows: usize) -> Result<(Vec<u32>, Vec<u32>)> {
        if self.by.is_empty() {
            return Ok((vec![0, rows as u32], (0..rows as u32).collect()));
        }
        let mut table = KeyTable::new(self.kinds.clone())?;
        let mut numbers = Vec::with_capacity(rows);
        for batch in batches {
            let keys: Vec<ArrayRef> = self.by.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
            table.numbers(&keys, batch.rows, &mut numbers)?;
        }
        let mut starts = vec![0u32; table.len() + 1];
        for number in &numbers {
            if let Some(count) = starts.get_mut(*number as usize + 1) {
                *count += 1;
            }
        }
        let mut sum = 0;
        for start in &mut starts {
            sum += *start;
            *start = sum;
        }
        let mut next = starts.clone();
        let mut places = vec![0u32; rows];
        for (row, number) in (0u32..).zip(&numbers) {
            if let Some(at) = next.get_mut(*number as usize) {
                if let Some(slot) = places.get_mut(*at as usize) {
                    *slot = row;
                }
                *at += 1;
            }
        }
        Ok((starts, places))
    }

    /// The columns that the window uses, each in one piece, at their places.
    fn columns(&self, batches: &[Batch]) -> Result<Vec<Option<ArrayRef>>> {
        let width = batches.first().map_or(0, |b| b.columns.len());
        let mut used = vec![false; width];
        let of_calls = self.calls.iter().flat_map(|call| call.args.iter().chain(&call.only));
        for place in self.order.iter().map(|key| &key.place).chain(of_calls) {
            if let Some(used) = used.get_mut(*place) {
                *used = true;
            }
        }
        let column = |place: usize| {
            let parts = batches.iter().filter_map(|batch| {
                let column = crate::expr::widen(batch.columns.get(place)?);
                Some(column.map(|column| Batch { columns: vec![column], rows: batch.rows }))
            });
            Ok(concat(parts.collect::<Result<_>>()?)?.pop().and_then(|mut whole| whole.columns.pop()))
        };
        let columns = used.into_iter().enumerate();
        let columns: Vec<(usize, bool)> = columns.collect();
        parallel::each(
            self.threads,
            columns.into_iter(),
            |(place, used)| {
                if used { column(place) } else { Ok(None) }
            },
        )
    }
}
