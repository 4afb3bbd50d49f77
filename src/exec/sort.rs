//! `sort`: stable, on all threads, by keys that are packed into one number wherever they fit.
//!
//! Workers gather the rows of a morsel into a part with its keys. At the end each row becomes one number of 128
//! bits: as much of its key as there is room for, in the highest bits, and its place. The numbers are dealt to
//! ranges by a sample of them, and each range is sorted on its own; what the bits of the key do not settle is
//! looked up. Rows are gathered in their new order only when they are taken.
//!
//! When the budget is used up, what is held goes to disk as sorted runs; at the end the runs are merged.

use std::cmp::Ordering;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::builder::LargeBinaryBuilder;
use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, LargeBinaryArray, downcast_primitive};
use arrow_buffer::{Buffer, NullBuffer, OffsetBuffer};
use arrow_row::{RowConverter, Rows, SortField};
use arrow_schema::{DataType, SortOptions};
use churn_kernels::gather;

use super::budget::Reservation;
use super::context::Context;
use super::held::{Held, compacted};
use super::keys::normal;
use super::merge::Merge;
use super::pipeline::{Commit, Gather, Part, Prepare, Sink};
use super::spill::{Run, Spill};
use super::tally::Work;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, Bound, Type};
use crate::io::format::{Encoder, Lines};
use crate::io::source::{Decoded, Morsel, RowTest, Scan};
use crate::parallel;
use crate::plan::StepId;

/// Rows that are gathered together.
const ROWS: usize = 1 << 13;

/// Rows that one thread sorts at once, about.
const RANGE: usize = 1 << 16;

/// What is sorted by, placed.
pub(crate) struct Order {
    pub(crate) keys: Vec<OrderKey>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

/// One key.
pub(crate) struct OrderKey {
    pub(crate) by: Bound,
    pub(crate) kind: Type,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

impl Order {
    /// The key columns of a batch, as they are compared.
    pub(crate) fn columns(&self, batch: &Batch, work: &mut Work) -> Result<Vec<ArrayRef>> {
        let column = |key: &OrderKey| {
            let array = work
                .with_events(self.step, |events| key.by.evaluate_array(batch, events))
                .map_err(|e| e.in_step(&self.text))?;
            normal(&array)
        };
        self.keys.iter().map(column).collect()
    }

    /// What makes bytes of keys that compare as rows are ordered.
    pub(crate) fn converter(&self) -> Result<RowConverter> {
        let field = |key: &OrderKey| {
            let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
            SortField::new_with_options(key.kind.arrow(), options)
        };
        RowConverter::new(self.keys.iter().map(field).collect()).map_err(crate::expr::arrow_error)
    }

    /// Whether all keys are numbers, days, times or truth, each of which 64 bits hold.
    fn is_of_words(&self) -> bool {
        self.keys.iter().all(|key| {
            matches!(
                key.kind,
                Type::Int | Type::Float | Type::Date | Type::Time | Type::Timestamp | Type::Bool
            )
        })
    }
}

/// The keys of a part's rows.
enum Keys {
    Words(Vec<Words>),
    Rows(Rows),
}

/// One key of each row, as a number that compares as the rows are ordered.
#[derive(Default)]
struct Words {
    values: Vec<u64>,
    nulls: Option<NullBuffer>,
    nulls_first: bool,
    low: u64,
    high: u64,
}

impl Words {
    fn new(column: &ArrayRef, key: &OrderKey) -> Words {
        const SIGN: u64 = 1 << 63;
        let signed = |x: i64| x.cast_unsigned() ^ SIGN;
        let mut values: Vec<u64> = if let Some(a) = column.as_primitive_opt::<Int64Type>() {
            a.values().iter().map(|x| signed(*x)).collect()
        } else if let Some(a) = column.as_primitive_opt::<Float64Type>() {
            // Negative floats compare from their bits turned over; NaN, of which there is one, is the largest.
            let ordered = |bits: u64| if bits & SIGN == 0 { bits | SIGN } else { !bits };
            a.values().iter().map(|x| ordered(x.to_bits())).collect()
        } else if let Some(a) = column.as_primitive_opt::<Date32Type>() {
            a.values().iter().map(|x| signed(i64::from(*x))).collect()
        } else if let Some(a) = column.as_primitive_opt::<Time64MicrosecondType>() {
            a.values().iter().map(|x| signed(*x)).collect()
        } else if let Some(a) = column.as_primitive_opt::<TimestampMicrosecondType>() {
            a.values().iter().map(|x| signed(*x)).collect()
        } else if let Some(a) = column.as_boolean_opt() {
            a.values().iter().map(u64::from).collect()
        } else {
            vec![0; column.len()]
        };
        if key.descending {
            values.iter_mut().for_each(|x| *x = !*x);
        }
        let nulls = column.nulls().filter(|n| n.null_count() > 0).cloned();
        let (mut low, mut high) = (u64::MAX, 0);
        for (row, value) in values.iter().enumerate() {
            if nulls.as_ref().is_none_or(|n| n.is_valid(row)) {
                (low, high) = (low.min(*value), high.max(*value));
            }
        }
        Words { values, nulls, nulls_first: key.nulls_first, low, high }
    }

    /// Appends the words of later rows.
    fn append(&mut self, mut later: Words) {
        let rows = self.values.len();
        if self.nulls.is_some() || later.nulls.is_some() {
            let own = self.nulls.take().unwrap_or_else(|| NullBuffer::new_valid(rows));
            let theirs = later.nulls.take().unwrap_or_else(|| NullBuffer::new_valid(later.values.len()));
            self.nulls = Some(own.iter().chain(theirs.iter()).collect());
        }
        self.values.append(&mut later.values);
        (self.low, self.high) = (self.low.min(later.low), self.high.max(later.high));
    }

    /// The words of these rows.
    fn taken(&self, rows: &[u32]) -> Words {
        let value = |row: &u32| self.values.get(*row as usize).copied().unwrap_or(0);
        Words {
            values: rows.iter().map(value).collect(),
            nulls: self
                .nulls
                .as_ref()
                .map(|nulls| rows.iter().map(|row| nulls.is_valid(*row as usize)).collect()),
            ..*self
        }
    }

    /// The order of a row's key: below or above all values where it is null.
    fn at(&self, row: usize) -> (i8, u64) {
        match &self.nulls {
            Some(nulls) if nulls.is_null(row) => (if self.nulls_first { -1 } else { 1 }, 0),
            _ => (0, self.values.get(row).copied().unwrap_or(0)),
        }
    }
}

/// Some rows with their keys.
struct Keyed {
    batch: Batch,
    keys: Keys,
}

impl Keyed {
    fn memory(&self) -> usize {
        let keys = match &self.keys {
            Keys::Words(words) => words.iter().map(|w| w.values.capacity() * 8).sum(),
            Keys::Rows(rows) => rows.size(),
        };
        // And the numbers that rows are sorted by, dealt once, and what is gathered on its way to disk.
        (self.batch.memory() + keys + self.batch.rows * 32) / 4 * 5
    }
}

/// What is written of sorted rows, where nothing else becomes of them: rows are then carried as lines of text.
pub(crate) struct Written {
    pub(crate) encoder: Box<dyn Encoder>,
    pub(crate) columns: Vec<usize>,
}

impl Written {
    /// The rows of a batch as a column of lines.
    fn lines(&self, batch: &Batch) -> Result<Batch> {
        let columns = self.columns.iter().filter_map(|c| batch.columns.get(*c).cloned()).collect();
        let encoded = self.encoder.lines(&Batch { columns, rows: batch.rows })?;
        let Lines { text, mut ends } = encoded.unwrap_or_default();
        ends.insert(0, 0);
        let lines = LargeBinaryArray::new(OffsetBuffer::new(ends.into()), Buffer::from_vec(text), None);
        Ok(Batch { columns: vec![Arc::new(lines)], rows: batch.rows })
    }
}

/// A worker's side.
struct Workers {
    order: Arc<Order>,
    converter: Option<Arc<RowConverter>>,
    written: Option<Written>,
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
                None => compacted(batch),
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
        let order: Vec<u32> = table.sorted(1)?.concat().iter().map(|number| table.place(*number).1).collect();
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

impl Prepare for Workers {
    fn prepare(&self, batch: Batch, work: &mut Work) -> Result<Part> {
        let mut local = Local { workers: self, batches: Vec::new(), keys: None };
        local.add(batch, work)?;
        Box::new(local).finish()
    }

    fn gather(&self) -> Option<Result<Box<dyn Gather + '_>>> {
        Some(Ok(Box::new(Local { workers: self, batches: Vec::new(), keys: None })))
    }
}

/// All rows, and how the numbers are made that they are sorted by.
struct Table {
    parts: Vec<Keyed>,
    /// Of each key of words the least value, and the bits that its values take above that, null included.
    fields: Vec<(u64, u32)>,
    /// Bits of a place: of the row in its part, and of both.
    row_bits: u32,
    place_bits: u32,
    /// Whether the bits of the key settle the order.
    exact: bool,
}

impl Table {
    fn new(parts: Vec<Keyed>) -> Table {
        let bits = |most: usize| usize::BITS - most.leading_zeros();
        let row_bits = bits(parts.iter().map(|p| p.batch.rows).max().unwrap_or(0));
        let place_bits = row_bits + bits(parts.len());
        let mut fields: Vec<(u64, u64)> = Vec::new();
        for part in &parts {
            if let Keys::Words(words) = &part.keys {
                fields.resize(words.len(), (u64::MAX, 0));
                for ((low, high), words) in fields.iter_mut().zip(words) {
                    (*low, *high) = ((*low).min(words.low), (*high).max(words.high));
                }
            }
        }
        // Null takes the number below all values or above them.
        let width = |(low, high): (u64, u64)| {
            let most = u128::from(high.saturating_sub(low)) + 2;
            (low, u128::BITS - most.leading_zeros())
        };
        let fields: Vec<(u64, u32)> = fields.into_iter().map(width).collect();
        let wanted: u32 = fields.iter().map(|(_, bits)| bits).sum();
        let exact = !fields.is_empty() && wanted + place_bits <= u128::BITS;
        Table { parts, fields, row_bits, place_bits, exact }
    }

    fn rows(&self) -> usize {
        self.parts.iter().map(|p| p.batch.rows).sum()
    }

    /// The number of a row.
    #[inline]
    fn number(&self, part: usize, keyed: &Keyed, row: usize) -> u128 {
        let mut left = u128::BITS - self.place_bits;
        let mut number = 0u128;
        match &keyed.keys {
            Keys::Words(words) => {
                for (words, (low, bits)) in words.iter().zip(&self.fields) {
                    let code = match words.at(row) {
                        (0, value) => u128::from(value - low) + 1,
                        (-1, _) => 0,
                        _ => (1 << bits) - 1,
                    };
                    let taken = left.min(*bits);
                    number = number << taken | code >> (bits - taken);
                    left -= taken;
                }
            }
            Keys::Rows(rows) => {
                for byte in rows.row(row).as_ref().iter().take(left as usize / 8) {
                    number = number << 8 | u128::from(*byte);
                    left -= 8;
                }
            }
        }
        let place = (part as u128) << self.row_bits | row as u128;
        // Shifted in two steps, since all bits may be left.
        number << (left / 2) << (left - left / 2) << self.place_bits | place
    }

    fn place(&self, number: u128) -> (u32, u32) {
        let place = number as u64 & ((1 << self.place_bits) - 1);
        ((place >> self.row_bits) as u32, (place & ((1 << self.row_bits) - 1)) as u32)
    }

    /// Of equal rows the earlier one comes first: the sort is stable whatever is done in parallel.
    fn compare(&self, a: u128, b: u128) -> Ordering {
        if self.exact {
            return a.cmp(&b);
        }
        (a >> self.place_bits)
            .cmp(&(b >> self.place_bits))
            .then_with(|| self.compare_whole(self.place(a), self.place(b)))
            .then_with(|| a.cmp(&b))
    }

    fn compare_whole(&self, (part_a, a): (u32, u32), (part_b, b): (u32, u32)) -> Ordering {
        match (
            self.parts.get(part_a as usize).map(|p| &p.keys),
            self.parts.get(part_b as usize).map(|p| &p.keys),
        ) {
            (Some(Keys::Words(left)), Some(Keys::Words(right))) => {
                let keys = left.iter().zip(right);
                keys.map(|(x, y)| x.at(a as usize).cmp(&y.at(b as usize)))
                    .find(|o| o.is_ne())
                    .unwrap_or(Ordering::Equal)
            }
            (Some(Keys::Rows(left)), Some(Keys::Rows(right))) => {
                left.row(a as usize).cmp(&right.row(b as usize))
            }
            _ => Ordering::Equal,
        }
    }

    /// The numbers of all rows in order, in ranges.
    fn sorted(&self, threads: usize) -> Result<Vec<Vec<u128>>> {
        let ranges = (self.rows() / RANGE).clamp(1, 512);
        let mut sample: Vec<u128> = Vec::new();
        if ranges > 1 {
            for (number, part) in self.parts.iter().enumerate() {
                let rows = (0..part.batch.rows).step_by(self.rows().div_ceil(ranges * 32));
                sample.extend(rows.map(|row| self.number(number, part, row) >> self.place_bits));
            }
            sample.sort_unstable();
        }
        let bounds: Vec<u128> =
            (1..ranges).filter_map(|i| sample.get(i * sample.len() / ranges).copied()).collect();
        let share = self.parts.len().div_ceil(threads.max(1)).max(1);
        let deal = |(chunk, parts): (usize, &[Keyed])| {
            let mut dealt: Vec<Vec<u128>> = vec![Vec::new(); bounds.len() + 1];
            for (number, part) in (chunk * share..).zip(parts) {
                for row in 0..part.batch.rows {
                    let code = self.number(number, part, row);
                    let range = bounds.partition_point(|bound| *bound <= code >> self.place_bits);
                    if let Some(range) = dealt.get_mut(range) {
                        range.push(code);
                    }
                }
            }
            Ok(dealt)
        };
        let mut dealt = parallel::each(threads, self.parts.chunks(share).enumerate(), deal)?;
        let together = (0..bounds.len() + 1).map(|i| {
            let parts = dealt.iter_mut().filter_map(|d| d.get_mut(i).map(std::mem::take));
            parts.collect::<Vec<_>>()
        });
        let together: Vec<Vec<Vec<u128>>> = together.collect();
        parallel::each(threads, together.into_iter(), |parts| {
            let mut range = parts.concat();
            if self.exact {
                range.sort_unstable();
            } else {
                range.sort_unstable_by(|a, b| self.compare(*a, *b));
            }
            Ok(range)
        })
    }

    /// The rows with these numbers, in this order.
    fn gathered(&self, numbers: &[u128]) -> Result<Batch> {
        let places: Vec<(u32, u32)> = numbers.iter().map(|n| self.place(*n)).collect();
        let batches: Vec<&Batch> = self.parts.iter().map(|p| &p.batch).collect();
        gathered(&batches, &places)
    }

    /// The keys of the rows with these numbers, as bytes that compare alike in every run.
    fn bytes(&self, numbers: &[u128]) -> ArrayRef {
        let mut bytes = LargeBinaryBuilder::with_capacity(numbers.len(), numbers.len() * 18);
        let mut key = Vec::new();
        for number in numbers {
            let (part, row) = self.place(*number);
            match self.parts.get(part as usize).map(|p| &p.keys) {
                Some(Keys::Words(words)) => {
                    key.clear();
                    for words in words {
                        let (null, value) = words.at(row as usize);
                        key.push((null + 1).cast_unsigned());
                        key.extend_from_slice(&value.to_be_bytes());
                    }
                    bytes.append_value(&key);
                }
                Some(Keys::Rows(rows)) => bytes.append_value(rows.row(row as usize).as_ref()),
                None => bytes.append_null(),
            }
        }
        Arc::new(bytes.finish())
    }

    /// Writes all rows in order to files, one for each thread.
    fn spilled(self, spill: &Spill, threads: usize) -> Result<Vec<Run>> {
        let ranges = self.sorted(threads)?;
        let share = ranges.len().div_ceil(threads.max(1)).max(1);
        parallel::each(threads, ranges.chunks(share), |ranges| {
            let mut writer = spill.writer()?;
            for numbers in ranges.iter().flat_map(|range| range.chunks(ROWS / 2)) {
                let mut batch = self.gathered(numbers)?;
                batch.columns.insert(0, self.bytes(numbers));
                writer.write(batch)?;
            }
            writer.finish()
        })
    }
}

/// The rows of some batches at some places.
pub(crate) fn gathered(batches: &[&Batch], places: &[(u32, u32)]) -> Result<Batch> {
    let width = batches.iter().map(|b| b.columns.len()).max().unwrap_or(0);
    let column = |i: usize| -> Result<ArrayRef> {
        let empty = || Error::new(ErrorKind::Internal, "A part of a sort lacks a column.");
        let parts: Vec<&ArrayRef> = batches.iter().filter_map(|b| b.columns.get(i)).collect();
        let kind = parts.first().ok_or_else(empty)?.data_type();
        macro_rules! primitive {
            ($t:ty) => {{
                let parts: Vec<_> = parts.iter().map(|p| p.as_primitive::<$t>()).collect();
                Ok(Arc::new(gather::primitives(&parts, places)))
            }};
        }
        downcast_primitive! {
            kind => (primitive),
            DataType::LargeBinary if parts.iter().all(|p| p.null_count() == 0) => {
                let parts: Vec<_> = parts.iter().map(|p| p.as_binary::<i64>()).collect();
                Ok(Arc::new(gather::bytes(&parts, places)))
            }
            DataType::Utf8View => {
                let parts: Vec<_> = parts.iter().map(|p| p.as_string_view()).collect();
                Ok(Arc::new(gather::texts(&parts, places)))
            }
            _ => {
                let parts: Vec<&dyn Array> = parts.iter().map(|p| p.as_ref()).collect();
                let places: Vec<(usize, usize)> = places.iter().map(|(p, r)| (*p as usize, *r as usize)).collect();
                arrow_select::interleave::interleave(&parts, &places).map_err(crate::expr::arrow_error)
            }
        }
    };
    Ok(Batch { columns: (0..width).map(column).collect::<Result<_>>()?, rows: places.len() })
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
    let converter = if order.is_of_words() { None } else { Some(Arc::new(order.converter()?)) };
    let commit = Sort {
        keep,
        held: context.budget.reservation(),
        spill: context.spill.clone(),
        threads: context.threads(),
        parts: Vec::new(),
        runs: Vec::new(),
    };
    Ok(Sink {
        prepare: Arc::new(Workers { order: Arc::new(order), converter, written }),
        commit: Box::new(commit),
    })
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
