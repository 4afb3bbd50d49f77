//! Rows with their keys, the numbers they are sorted by, and rows gathered in any order.

use std::ops::Range;
use std::sync::{Arc, OnceLock};

use arrow_array::ArrayRef;
use arrow_array::builder::LargeBinaryBuilder;
use arrow_array::cast::AsArray;
use arrow_buffer::Buffer;
use churn_core::{Batch, Result};
use churn_kernels::{prefetch, sorting};

use super::bounds::RangeBounds;
use super::sort_keys::SortKeys;
use super::ties::{self, Round};
use crate::runtime::gathered::GatherSources;

/// Rows that are gathered together.
pub(super) const ROWS: usize = 1 << 13;

/// Cells of such rows at most, and bytes of such lines.
const CELLS: usize = 1 << 19;

const LINES: usize = 4 << 20;

/// Bytes of rows that are written to disk together, about: as much of every run is held while runs are merged.
const SPILLED: usize = 1 << 16;

/// Some rows with their keys.
pub(crate) struct Keyed {
    pub(super) batch: Batch,
    pub(super) keys: SortKeys,
    pub(super) layout: Layout,
}

/// How the rows of a part stand.
pub(super) enum Layout {
    /// In order.
    Sorted,
    /// By ranges, each of which starts where the one before it ends; within one as they came.
    Partitioned { bounds: Arc<RangeBounds>, starts: Vec<usize> },
}

impl Keyed {
    pub(super) fn memory(&self) -> usize {
        // And the numbers that rows are sorted by, and what is gathered on its way to disk.
        (self.batch.memory() + self.keys.memory() + self.batch.rows * size_of::<u128>()) / 4 * 5
    }
}

/// All rows, and how the numbers are made that they are sorted by.
pub(super) struct SortTable {
    pub(super) parts: Vec<Keyed>,
    /// Of each key of words.
    pub(super) fields: Vec<Field>,
    /// The words that numbers hold, and those that settle the order of rows whose numbers are alike in them.
    pub(super) rounds: Vec<Round>,
    /// Bits of a place: of the row in its part, and of both.
    pub(super) row_bits: u32,
    pub(super) place_bits: u32,
    /// What rows are gathered from, once some were.
    sources: OnceLock<GatherSources>,
}

/// The words of a key in all parts.
pub(super) struct Field {
    /// The least one.
    pub(super) low: u64,
    /// The bits that they take above that, null included.
    pub(super) bits: u32,
}

impl SortTable {
    pub(super) fn new(parts: Vec<Keyed>) -> SortTable {
        let bits = |most: usize| usize::BITS - most.leading_zeros();
        let row_bits = bits(parts.iter().map(|p| p.batch.rows).max().unwrap_or(0));
        let place_bits = row_bits + bits(parts.len());
        let mut fields: Vec<(u64, u64)> = Vec::new();
        for part in &parts {
            if let SortKeys::Words(words) = &part.keys {
                fields.resize(words.len(), (u64::MAX, 0));
                for ((low, high), words) in fields.iter_mut().zip(words) {
                    (*low, *high) = ((*low).min(words.low), (*high).max(words.high));
                }
            }
        }
        // Null takes the number below all values or above them.
        let field = |(low, high): (u64, u64)| {
            let most = u128::from(high.saturating_sub(low)) + 2;
            Field { low, bits: u128::BITS - most.leading_zeros() }
        };
        let fields: Vec<Field> = fields.into_iter().map(field).collect();
        let is_long = |field| parts.iter().any(|part| part.keys.is_long(field));
        let rounds = ties::rounds(&fields, is_long, u128::BITS - place_bits);
        SortTable { parts, fields, rounds, row_bits, place_bits, sources: OnceLock::new() }
    }

    pub(super) fn rows(&self) -> usize {
        self.parts.iter().map(|p| p.batch.rows).sum()
    }

    /// Appends the numbers of a part's rows.
    pub(super) fn append_numbers(&self, part: usize, rows: Range<usize>, into: &mut Vec<u128>) {
        let Some(keyed) = self.parts.get(part) else { return };
        let before = into.len();
        into.resize(before + rows.len(), 0);
        let numbers = into.get_mut(before..).unwrap_or_default();
        let mut left = u128::BITS - self.place_bits;
        match &keyed.keys {
            SortKeys::Words(words) => {
                let held =
                    |round: &Round| round.whole.clone().map(|field| (field, u32::MAX)).chain(round.part);
                for (field, most) in self.rounds.first().into_iter().flat_map(held) {
                    let (Some(words), Some(field)) = (words.get(field), self.fields.get(field)) else {
                        continue;
                    };
                    let taken = field.bits.min(most);
                    words.append_bits(field, taken, rows.clone(), numbers);
                    left -= taken;
                }
            }
            SortKeys::Rows(keys) => {
                let bytes = left as usize / 8;
                for (number, row) in numbers.iter_mut().zip(rows.clone()) {
                    let key = keys.row(row);
                    let key = key.as_ref().iter().take(bytes);
                    let missing = bytes - key.len();
                    *number = key.fold(0, |number, byte| number << 8 | u128::from(*byte));
                    // In two steps, since all may be missing.
                    *number = *number << (4 * missing) << (4 * missing);
                }
                left -= bytes as u32 * 8;
            }
        }
        let place = (part as u128) << self.row_bits;
        let free = left + self.place_bits;
        for (number, row) in numbers.iter_mut().zip(rows) {
            // All bits may be free.
            *number = number.unbounded_shl(free) | place | row as u128;
        }
    }

    /// Starts to bring the keys of some rows near.
    pub(super) fn bring_near(&self, part: usize, rows: Range<usize>) {
        if let Some(SortKeys::Words(words)) = self.parts.get(part).map(|part| &part.keys) {
            words.iter().for_each(|words| prefetch::range(&words.values, rows.clone()));
        }
    }

    pub(super) fn place(&self, number: u128) -> (u32, u32) {
        let place = number as u64 & ((1 << self.place_bits) - 1);
        ((place >> self.row_bits) as u32, (place & ((1 << self.row_bits) - 1)) as u32)
    }

    /// The numbers of a part's rows, in order.
    pub(super) fn in_order(&self, part: usize) -> Vec<u128> {
        debug_assert!(part < self.parts.len(), "part {part} of {}", self.parts.len());
        let rows = self.parts.get(part).map_or(0, |part| part.batch.rows);
        let mut numbers = Vec::with_capacity(rows);
        self.append_numbers(part, 0..rows, &mut numbers);
        self.put_in_order(numbers)
    }

    /// Puts numbers in order; where they are some runs in order already, these are merged. Of equal rows the earlier one comes first:
    /// the sort is stable whatever is done in parallel.
    pub(super) fn put_in_order(&self, numbers: Vec<u128>) -> Vec<u128> {
        let mut numbers = sorting::in_order(numbers);
        if !self.is_exact() {
            self.settle_ties(&mut numbers);
        }
        numbers
    }

    /// The rows with these numbers, in this order.
    pub(super) fn gathered(&self, numbers: &[u128]) -> Result<Batch> {
        let places: Vec<(u32, u32)> = numbers.iter().map(|n| self.place(*n)).collect();
        let sources = match self.sources.get() {
            Some(sources) => sources,
            None => {
                let batches: Vec<&Batch> = self.parts.iter().map(|p| &p.batch).collect();
                let sources = GatherSources::new(&batches)?;
                self.sources.get_or_init(|| sources)
            }
        };
        sources.rows(&places)
    }

    /// The keys of the rows with these numbers, as bytes that compare alike in every run.
    fn bytes(&self, numbers: &[u128]) -> ArrayRef {
        let mut bytes = LargeBinaryBuilder::with_capacity(numbers.len(), numbers.len() * 18);
        let mut key = Vec::new();
        for number in numbers {
            let (part, row) = self.place(*number);
            key.clear();
            self.parts
                .get(part as usize)
                .into_iter()
                .for_each(|part| part.keys.append_bytes(row as usize, &mut key));
            bytes.append_value(&key);
        }
        Arc::new(bytes.finish())
    }

    /// How many rows are handed on together: fewer of many columns, or of long lines.
    pub(super) fn rows_together(&self) -> usize {
        let columns = || self.parts.iter().flat_map(|part| &part.batch.columns);
        let lines = columns().filter_map(|column| column.as_binary_view_opt());
        let bytes: usize = lines.flat_map(|lines| lines.data_buffers().iter()).map(Buffer::len).sum();
        let a_row = bytes / self.rows().max(1);
        let width = self.parts.iter().map(|part| part.batch.columns.len()).max().unwrap_or(0);
        (CELLS / width.max(1)).min(LINES / a_row.max(1)).clamp(ROWS / 32, ROWS)
    }

    /// About how many rows are written to disk together.
    pub(super) fn rows_to_disk(&self) -> usize {
        let bytes: usize = self.parts.iter().map(|part| part.batch.memory()).sum();
        (SPILLED / (bytes / self.rows().max(1)).max(1)).clamp(ROWS / 8, ROWS / 2)
    }

    /// Rows and their keys, as they are written to disk.
    pub(super) fn with_keys(&self, numbers: &[u128]) -> Result<Batch> {
        let mut batch = self.gathered(numbers)?;
        batch.columns.insert(0, self.bytes(numbers));
        Ok(batch)
    }
}
