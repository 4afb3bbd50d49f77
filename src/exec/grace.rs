//! Rows that do not fit in memory, dealt to files by their keys: equal keys meet in one file, in the order they
//! came, and one file after the other fits.
//!
//! Each row takes the number of its place with it, so that what becomes of the rows can be put back in order.

use std::sync::Arc;

use arrow_array::{ArrayRef, BooleanArray, LargeBinaryArray, UInt32Array};

use super::budget::{Budget, Reservation};
use super::held::{Held, batch_of, concat, slices_of};
use super::keys::KeyTable;
use super::merge::Merge;
use super::pipeline::{Commit, Part, Sink};
use super::spill::{Run, Spill, Writer};
use super::tally::Work;
use crate::error::Result;
use crate::expr::{Batch, Type};

/// Files that rows are dealt to.
pub(crate) const FILES: usize = 64;

/// Rows that wait for a file until they are written together.
const WAITING: usize = 1 << 11;

/// Numbers of places as bytes that compare alike.
pub(crate) fn numbered(numbers: impl Iterator<Item = u64>) -> ArrayRef {
    Arc::new(LargeBinaryArray::from_iter_values(numbers.map(u64::to_be_bytes)))
}

/// Rows on their way to files.
pub(crate) struct Dealt {
    kinds: Vec<Type>,
    files: Vec<(Writer, Vec<Batch>, usize)>,
}

impl Dealt {
    pub(crate) fn new(kinds: Vec<Type>, spill: &Spill) -> Result<Dealt> {
        let file = |_| Ok((spill.writer()?, Vec::new(), 0));
        Ok(Dealt { kinds, files: (0..FILES).map(file).collect::<Result<_>>()? })
    }

    /// Deals rows by these keys; `numbers` has the place of each.
    pub(crate) fn push(&mut self, batch: &Batch, keys: &[ArrayRef], numbers: &[u64]) -> Result<()> {
        let mut table = KeyTable::new(self.kinds.clone())?;
        let mut groups = Vec::new();
        table.numbers(keys, batch.rows, &mut groups)?;
        let mut file_of = vec![0usize; table.len()];
        for (file, (_, groups)) in table.deal(FILES)?.into_iter().enumerate() {
            for group in groups {
                if let Some(slot) = file_of.get_mut(group as usize) {
                    *slot = file;
                }
            }
        }
        let mut rows: Vec<Vec<u32>> = vec![Vec::new(); FILES];
        for (row, group) in (0u32..).zip(&groups) {
            if let Some(rows) = file_of.get(*group as usize).and_then(|file| rows.get_mut(*file)) {
                rows.push(row);
            }
        }
        for (file, rows) in self.files.iter_mut().zip(rows) {
            if rows.is_empty() {
                continue;
            }
            let places = numbered(rows.iter().map(|row| numbers.get(*row as usize).copied().unwrap_or(0)));
            let mut part = batch.take(&UInt32Array::from(rows))?;
            part.columns.insert(0, places);
            file.2 += part.rows;
            file.1.push(part);
            if file.2 >= WAITING {
                flush(file)?;
            }
        }
        Ok(())
    }

    /// Ends the files: for each its rows, the first column their places.
    pub(crate) fn finish(self) -> Result<Vec<Run>> {
        let end = |mut file: (Writer, Vec<Batch>, usize)| {
            flush(&mut file)?;
            file.0.finish()
        };
        self.files.into_iter().map(end).collect()
    }
}

fn flush((file, waiting, rows): &mut (Writer, Vec<Batch>, usize)) -> Result<()> {
    *rows = 0;
    for batch in concat(std::mem::take(waiting))? {
        file.write(batch)?;
    }
    Ok(())
}

/// What becomes of rows that meet by their keys: for each batch the rows that it is now, and which of its own rows
/// they stand in the places of, if not of all.
pub(crate) type Process = Arc<dyn Fn(&[Batch]) -> Result<Vec<(Batch, Option<BooleanArray>)>> + Send + Sync>;

/// Works on the rows of one file after the other, and puts them back in order.
pub(crate) fn processed(
    runs: Vec<Run>,
    process: &Process,
    bytes_a_row: usize,
    spill: &Spill,
    held: &mut Reservation,
) -> Result<Vec<Run>> {
    let mut results = Vec::new();
    for run in runs {
        let mut batches: Vec<Batch> = run.reader()?.into_iter().flatten().collect::<Result<_>>()?;
        held.hold_whole(batches.iter().map(|b| b.memory() + b.rows * bytes_a_row).sum())?;
        let places: Vec<ArrayRef> = batches.iter_mut().map(|b| b.columns.remove(0)).collect();
        let mut writer = spill.writer()?;
        for ((mut batch, keep), mut places) in process(&batches)?.into_iter().zip(places) {
            if let Some(keep) = keep {
                places = arrow_select::filter::filter(&places, &keep).map_err(crate::expr::arrow_error)?;
            }
            batch.columns.insert(0, places);
            for part in slices_of(batch, 1 << 12) {
                writer.write(part)?;
            }
        }
        results.push(writer.finish()?);
    }
    held.hold(0)?;
    Ok(results)
}

/// A sink whose rows meet by their keys: in memory, or file by file.
pub(crate) struct Meeting {
    /// Places of the keys among the columns.
    keys: Vec<usize>,
    kinds: Vec<Type>,
    process: Process,
    /// What the process holds beside the rows.
    bytes_a_row: usize,
    spill: Spill,
    held: Reservation,
    batches: Vec<Batch>,
    dealt: Option<Dealt>,
    row: u64,
}

impl Meeting {
    pub(crate) fn sink(
        keys: Vec<usize>,
        kinds: Vec<Type>,
        (process, bytes_a_row): (Process, usize),
        spill: &Spill,
        budget: &Budget,
    ) -> Sink {
        let commit = Meeting {
            keys,
            kinds,
            process,
            bytes_a_row,
            spill: spill.clone(),
            held: budget.reservation(),
            batches: Vec::new(),
            dealt: None,
            row: 0,
        };
        Sink { prepare: Arc::new(super::held::Compacted), commit: Box::new(commit) }
    }

    fn deal(&mut self, batch: &Batch) -> Result<()> {
        let keys: Vec<ArrayRef> = self.keys.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
        let numbers: Vec<u64> = (self.row..self.row + batch.rows as u64).collect();
        self.row += batch.rows as u64;
        if self.dealt.is_none() {
            self.dealt = Some(Dealt::new(self.kinds.clone(), &self.spill)?);
        }
        match &mut self.dealt {
            Some(dealt) => dealt.push(batch, &keys, &numbers),
            None => Ok(()),
        }
    }
}

impl Commit for Meeting {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let batch = batch_of(part)?;
        if batch.rows == 0 {
            return Ok(true);
        }
        if self.dealt.is_some() {
            return self.deal(&batch).map(|()| true);
        }
        let fits = self.held.try_add(batch.memory() + batch.rows * self.bytes_a_row);
        self.batches.push(batch);
        if !fits {
            for batch in std::mem::take(&mut self.batches) {
                self.deal(&batch)?;
            }
            self.held.hold(0)?;
        }
        Ok(true)
    }

    fn finish(mut self: Box<Self>, _: &mut Work) -> Result<Held> {
        let Some(dealt) = self.dealt.take() else {
            let made = (self.process)(&self.batches)?;
            return Ok(Held::Batches(made.into_iter().map(|(batch, _)| batch).collect()));
        };
        let runs = processed(dealt.finish()?, &self.process, self.bytes_a_row, &self.spill, &mut self.held)?;
        Ok(Held::Scan(Box::new(Merge::new(runs, None)?)))
    }
}

/// Keeps the first rows of each key.
pub(crate) fn first_rows(keys: Vec<usize>, kinds: Vec<Type>, count: usize) -> Process {
    Arc::new(move |batches| {
        let mut table = KeyTable::new(kinds.clone())?;
        let mut seen: Vec<usize> = Vec::new();
        let mut keep = |batch: &Batch| {
            let numbers = numbers_of(&mut table, batch, &keys)?;
            seen.resize(table.len(), 0);
            let keep: BooleanArray = within(&numbers, &mut seen, count).into();
            Ok((batch.filter(&keep)?, Some(keep)))
        };
        batches.iter().map(&mut keep).collect()
    })
}

/// Keeps the last rows of each key: the first ones from the other end.
pub(crate) fn last_rows(keys: Vec<usize>, kinds: Vec<Type>, count: usize) -> Process {
    Arc::new(move |batches| {
        let mut table = KeyTable::new(kinds.clone())?;
        let mut seen: Vec<usize> = Vec::new();
        let mut kept = Vec::with_capacity(batches.len());
        for batch in batches.iter().rev() {
            let mut numbers = numbers_of(&mut table, batch, &keys)?;
            seen.resize(table.len(), 0);
            numbers.reverse();
            let mut keep = within(&numbers, &mut seen, count);
            keep.reverse();
            let keep: BooleanArray = keep.into();
            kept.push((batch.filter(&keep)?, Some(keep)));
        }
        kept.reverse();
        Ok(kept)
    })
}

/// Which rows are among the first `count` of their group.
pub(crate) fn within(numbers: &[u32], seen: &mut [usize], count: usize) -> Vec<bool> {
    let is_within = |number: &u32| {
        let Some(seen) = seen.get_mut(*number as usize) else { return false };
        *seen += 1;
        *seen <= count
    };
    numbers.iter().map(is_within).collect()
}

/// The number of each row's key.
pub(crate) fn numbers_of(table: &mut KeyTable, batch: &Batch, keys: &[usize]) -> Result<Vec<u32>> {
    let columns: Vec<_> = keys.iter().filter_map(|i| batch.columns.get(*i).cloned()).collect();
    let mut numbers = Vec::new();
    table.numbers(&columns, batch.rows, &mut numbers)?;
    Ok(numbers)
}
