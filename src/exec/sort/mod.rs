//! `sort`: stable, on all threads, by keys that are packed into one number wherever they fit.
//!
//! Workers gather the rows of a morsel into a part with its keys, and put them in order. At the end each row becomes
//! one number of 128 bits: as much of its key as there is room for, in the highest bits, and its place. A sample of
//! the numbers cuts all parts into ranges, and the pieces of each range are merged on their own; what the bits of the
//! key do not settle is looked up. Rows are gathered in their new order only when they are taken.
//!
//! When the budget is used up, what is held goes to disk as sorted runs; at the end the runs are merged.

mod changes;
mod order;
mod sorter;
mod table;

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::LargeBinaryArray;
use arrow_array::cast::AsArray;
use arrow_buffer::{Buffer, OffsetBuffer};
use arrow_row::RowConverter;
use arrow_schema::DataType;

use super::budget::{Budget, Reservation};
use super::context::Context;
use super::held::{Held, compacted};
use super::merge::Merge;
use super::pipeline::{Commit, Gather, Part, Prepare, Sink};
use super::spill::{Run, Spill};
use super::tally::Work;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, widen};
use crate::io::format::{Encoder, Lines};
use crate::io::source::{Decoded, Morsel, RowTest, Scan};

pub(super) use changes::Changes;
pub(super) use order::{Order, OrderKey, is_word, words_of};
pub(super) use sorter::{Sorter, batches};
pub(super) use table::gathered;

use order::{Keys, Words};
use table::{Keyed, ROWS, Table};

/// What is written of sorted rows, where nothing else becomes of them: rows are then carried as lines of text.
pub(crate) struct Written {
    pub(crate) encoder: Box<dyn Encoder>,
    pub(crate) columns: Vec<usize>,
    /// The column of rows that are such lines already, if there is one.
    pub(crate) ready: Option<usize>,
}

impl Written {
    /// The rows of a batch as a column of lines.
    fn lines(&self, batch: &Batch) -> Result<Batch> {
        let columns = self.columns.iter().filter_map(|c| batch.columns.get(*c).cloned()).collect();
        let ready = self.ready.and_then(|place| batch.columns.get(place)?.as_binary_view_opt());
        let encoded = self.encoder.lines(&Batch { columns, rows: batch.rows }, ready)?;
        let Lines { text, mut ends } = encoded.unwrap_or_default();
        ends.insert(0, 0);
        let lines = LargeBinaryArray::new(OffsetBuffer::new(ends.into()), Buffer::from_vec(text), None);
        Ok(Batch { columns: vec![Arc::new(lines)], rows: batch.rows })
    }
}

/// Bytes of a morsel at most, of which rows are put in order: what is made meanwhile stays near.
const MORSEL: u64 = 8 << 20;

/// A worker's side.
struct Workers {
    order: Arc<Order>,
    converter: Option<Arc<RowConverter>>,
    written: Option<Written>,
    /// Bytes of a morsel at most: a part is as large.
    most: u64,
}

/// The rows of a morsel, so far.
struct Local<'a> {
    workers: &'a Workers,
    batches: Vec<Batch>,
    keys: Option<Keys>,
}

impl Gather for Local<'_> {
    fn add(&mut self, batch: Batch, work: &mut Work) -> Result<Option<Part>> {
        let columns = self.workers.order.columns(&batch, work)?;
        if let Some(converter) = &self.workers.converter {
            match &mut self.keys {
                Some(Keys::Rows(rows)) => {
                    converter.append(rows, &columns).map_err(crate::expr::arrow_error)?
                }
                keys => {
                    let rows = converter.convert_columns(&columns).map_err(crate::expr::arrow_error)?;
                    *keys = Some(Keys::Rows(rows));
                }
            }
        } else {
            let words = columns.iter().zip(&self.workers.order.keys).map(|(c, key)| Words::new(c, key));
            match &mut self.keys {
                Some(Keys::Words(own)) => {
                    own.iter_mut().zip(words).for_each(|(own, later)| own.append(later))
                }
                keys => *keys = Some(Keys::Words(words.collect())),
            }
        }
        if batch.rows > 0 {
            self.batches.push(match &self.workers.written {
                Some(written) => written.lines(&batch)?,
                None => compacted(without_dictionaries(batch)?),
            });
        }
        Ok(None)
    }

    fn finish(self: Box<Self>) -> Result<Part> {
        let keys = self.keys.unwrap_or(Keys::Words(Vec::new()));
        let rows = self.batches.iter().map(|b| b.rows).sum();
        // The rows are put in order among themselves: those that come to stand together in the end are then near
        // each other in every part, and gathering them goes through each part once from front to back.
        let table = Table::new(vec![Keyed { batch: Batch { columns: Vec::new(), rows }, keys }]);
        let order: Vec<u32> = table.in_order().iter().map(|number| table.place(*number).1).collect();
        let starts: Vec<usize> = self
            .batches
            .iter()
            .scan(0, |at, b| {
                *at += b.rows;
                Some(*at - b.rows)
            })
            .collect();
        let place = |row: &u32| {
            let batch = starts.partition_point(|start| *start <= *row as usize) - 1;
            (batch as u32, *row - starts.get(batch).map_or(0, |start| *start as u32))
        };
        let places: Vec<(u32, u32)> = order.iter().map(place).collect();
        let batch = gathered(&self.batches.iter().collect::<Vec<_>>(), &places)?;
        let keys = table.parts.into_iter().next().map(|p| p.keys);
        let keys = match (keys, &self.workers.converter) {
            (Some(Keys::Words(words)), _) => Keys::Words(words.iter().map(|w| w.taken(&order)).collect()),
            (Some(Keys::Rows(keys)), Some(converter)) => {
                let mut sorted = converter.empty_rows(keys.num_rows(), keys.size());
                order.iter().for_each(|row| sorted.push(keys.row(*row as usize)));
                Keys::Rows(sorted)
            }
            _ => return Err(Error::new(ErrorKind::Internal, "A sort has keys that nobody made.")),
        };
        Ok(Box::new(Keyed { batch, keys }))
    }
}

/// The batch with texts in place of numbers into dictionaries: rows of many parts are gathered, each with its own.
fn without_dictionaries(batch: Batch) -> Result<Batch> {
    let columns = batch.columns.iter().map(|column| match column.data_type() {
        DataType::Dictionary(..) => widen(column),
        _ => Ok(column.clone()),
    });
    Ok(Batch { columns: columns.collect::<Result<_>>()?, rows: batch.rows })
}

impl Prepare for Workers {
    fn prepare(&self, batch: Batch, work: &mut Work) -> Result<Part> {
        let mut local = Local { workers: self, batches: Vec::new(), keys: None };
        local.add(batch, work)?;
        Box::new(local).finish()
    }

    fn gather(&self) -> Option<Result<Box<dyn Gather + '_>>> {
        Some(Ok(Box::new(Local { workers: self, batches: Vec::new(), keys: None })))
    }

    fn most(&self) -> u64 {
        self.most
    }
}

/// The ordered side.
struct Sort {
    /// The most rows that are wanted.
    keep: Option<usize>,
    held: Reservation,
    spill: Spill,
    threads: usize,
    parts: Vec<Keyed>,
    runs: Vec<Run>,
}

/// The sink of `sort`.
pub(crate) fn sink(
    order: Order,
    keep: Option<usize>,
    written: Option<Written>,
    context: &Context,
) -> Result<Sink> {
    let commit = Sort::new(keep, context.budget.reservation(), &context.spill, context.threads());
    let workers = Workers::new(order, written, &context.budget)?;
    Ok(Sink { prepare: Arc::new(workers), commit: Box::new(commit) })
}

impl Workers {
    fn new(order: Order, written: Option<Written>, budget: &Budget) -> Result<Workers> {
        let converter = if order.is_of_words() { None } else { Some(Arc::new(order.converter()?)) };
        let most = budget.share().min(MORSEL);
        Ok(Workers { order: Arc::new(order), converter, written, most })
    }
}

impl Sort {
    fn new(keep: Option<usize>, held: Reservation, spill: &Spill, threads: usize) -> Sort {
        Sort { keep, held, spill: spill.clone(), threads, parts: Vec::new(), runs: Vec::new() }
    }
}

impl Commit for Sort {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let Ok(keyed) = part.downcast::<Keyed>() else {
            return Err(Error::new(ErrorKind::Internal, "A sort was handed something else than rows."));
        };
        if keyed.batch.rows > 0 {
            let memory = keyed.memory();
            self.parts.push(*keyed);
            if !self.held.try_add(memory) {
                let table = Table::new(std::mem::take(&mut self.parts));
                self.runs.extend(table.spilled(&self.spill, self.threads)?);
                self.held.hold(0)?;
            }
        }
        Ok(true)
    }

    fn finish(mut self: Box<Self>, _: &mut Work) -> Result<Held> {
        let table = Table::new(std::mem::take(&mut self.parts));
        if self.runs.is_empty() {
            let mut ranges = table.sorted(self.threads)?;
            let mut left = self.keep.unwrap_or(usize::MAX);
            for range in &mut ranges {
                range.truncate(left);
                left -= range.len();
            }
            let rest = Mutex::new((0, 0));
            return Ok(Held::Scan(Box::new(Sorted {
                rows: Arc::new((table, ranges)),
                rest,
                _held: self.held,
            })));
        }
        self.runs.extend(table.spilled(&self.spill, self.threads)?);
        self.held.hold(0)?;
        Ok(Held::Scan(Box::new(Merge::new(self.runs, self.keep)?)))
    }
}

/// Sorted rows, gathered as they are taken.
struct Sorted {
    rows: Arc<(Table, Vec<Vec<u128>>)>,
    /// The range and the place in it of the next row.
    rest: Mutex<(usize, usize)>,
    _held: Reservation,
}

impl Scan for Sorted {
    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut rest = self.rest.lock().unwrap_or_else(PoisonError::into_inner);
        let (range, from) = &mut *rest;
        while let Some(numbers) = self.rows.1.get(*range) {
            if *from < numbers.len() {
                let to = (*from + ROWS).min(numbers.len());
                let slice = Slice { rows: self.rows.clone(), range: *range, from: *from, to };
                *from = to;
                return Ok(Some(Box::new(Some(slice))));
            }
            (*range, *from) = (*range + 1, 0);
        }
        Ok(None)
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}

/// Some sorted rows, not yet gathered.
struct Slice {
    rows: Arc<(Table, Vec<Vec<u128>>)>,
    range: usize,
    from: usize,
    to: usize,
}

impl Morsel for Option<Slice> {
    fn next(&mut self, _: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let Some(Slice { rows, range, from, to }) = self.take() else { return Ok(None) };
        let (table, ranges) = &*rows;
        let numbers = ranges.get(range).and_then(|r| r.get(from..to)).unwrap_or_default();
        let batch = table.gathered(numbers)?;
        let rows = batch.rows;
        Ok(Some(Decoded::of(batch, rows)))
    }
}
