//! The keys of a part's rows.

use std::cmp::Ordering;

use arrow_array::ArrayRef;
use arrow_row::{RowConverter, Rows};
use churn_core::Result;

use super::order::Order;
use super::text_words;
use super::words::{Holds, Words};

/// The keys of some rows.
pub(super) enum SortKeys {
    Words(Vec<Words>),
    Rows(Rows),
}

impl SortKeys {
    /// The keys of so many rows, from the key columns of some batches; `converter` is that of keys that are not words.
    pub(super) fn new(
        batches: &[Vec<ArrayRef>],
        order: &Order,
        converter: Option<&RowConverter>,
        rows: usize,
    ) -> Result<SortKeys> {
        let Some(converter) = converter else {
            let mut words = Vec::with_capacity(order.keys.len());
            for (place, key) in order.keys.iter().enumerate() {
                words.append(&mut Words::of_key(batches.iter().filter_map(|b| b.get(place)), key, rows)?);
            }
            return Ok(SortKeys::Words(words));
        };
        let mut keys = converter.empty_rows(rows, 0);
        for columns in batches {
            converter.append(&mut keys, columns).map_err(churn_core::arrow_error)?;
        }
        Ok(SortKeys::Rows(keys))
    }

    /// Calls `f` with the code of each row.
    pub(super) fn each_code(&self, rows: usize, mut f: impl FnMut(u128)) {
        match self {
            SortKeys::Words(words) => match words.as_slice() {
                [Words { values, nulls: None, holds: Holds::Key, .. }] => {
                    values.iter().for_each(|value| f(code_of(*value, 0)));
                }
                [
                    Words { values: a, nulls: None, holds: Holds::Key, .. },
                    Words { values: b, nulls: None, .. },
                    ..,
                ] => {
                    a.iter().zip(b).for_each(|(a, b)| f(code_of(*a, *b)));
                }
                _ => (0..rows).for_each(|row| f(self.code(row))),
            },
            SortKeys::Rows(keys) => keys.iter().for_each(|key| f(leading(key.as_ref()))),
        }
    }

    /// The code of a row, a number that is less only where its key is less: the first two words of it, a text and what follows it, or
    /// the first bytes.
    pub(super) fn code(&self, row: usize) -> u128 {
        match self {
            SortKeys::Rows(keys) => leading(keys.row(row).as_ref()),
            SortKeys::Words(words) => {
                // A key of one word has no second one.
                let word = |place: usize| words.get(place).map_or(0, |words| words.whole(row));
                match words.first() {
                    Some(Words { holds: Holds::TextStart, descending, nulls, nulls_first, .. }) => {
                        let is_null = nulls.as_ref().is_some_and(|nulls| nulls.is_null(row));
                        let text = (!is_null).then(|| (word(0), word(1)));
                        text_words::code(text, word(2), (*descending, *nulls_first))
                    }
                    _ => code_of(word(0), word(1)),
                }
            }
        }
    }

    /// Whether rows with equal codes have equal keys.
    pub(super) fn codes_are_whole(&self) -> bool {
        let is_whole = |words: &Words| words.nulls.is_none() && matches!(words.holds, Holds::Key);
        matches!(self, SortKeys::Words(words) if words.len() <= 2 && words.iter().all(is_whole))
    }

    /// Bytes in use, about.
    pub(super) fn memory(&self) -> usize {
        match self {
            SortKeys::Words(words) => words.iter().map(Words::memory).sum(),
            SortKeys::Rows(rows) => rows.size(),
        }
    }

    /// The words of a field.
    pub(super) fn words(&self, field: usize) -> Option<&Words> {
        match self {
            SortKeys::Words(words) => words.get(field),
            SortKeys::Rows(_) => None,
        }
    }

    /// Whether these words are those of texts some of which are longer.
    pub(super) fn is_long(&self, field: usize) -> bool {
        self.words(field).is_some_and(|words| words.long().is_some())
    }

    /// The order of a row of these keys and one of others.
    pub(super) fn compare(&self, row: usize, other: &SortKeys, other_row: usize) -> Ordering {
        match (self, other) {
            (SortKeys::Words(left), SortKeys::Words(right)) => {
                let mut pairs = left.iter().zip(right).map(|(a, b)| a.compare(row, b, other_row));
                pairs.find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
            }
            (SortKeys::Rows(left), SortKeys::Rows(right)) => left.row(row).cmp(&right.row(other_row)),
            _ => Ordering::Equal,
        }
    }

    /// Appends a row's key as bytes that compare as the rows are ordered, alike in every run.
    pub(super) fn append_bytes(&self, row: usize, to: &mut Vec<u8>) {
        match self {
            SortKeys::Words(words) => words.iter().for_each(|words| words.append_bytes(row, to)),
            SortKeys::Rows(rows) => to.extend_from_slice(rows.row(row).as_ref()),
        }
    }

    /// The keys of the rows in this order.
    pub(super) fn taken(&self, order: &[u32], converter: Option<&RowConverter>) -> Result<SortKeys> {
        Ok(match (self, converter) {
            (SortKeys::Rows(keys), Some(converter)) => {
                let mut taken = converter.empty_rows(keys.num_rows(), keys.size());
                order.iter().for_each(|row| taken.push(keys.row(*row as usize)));
                SortKeys::Rows(taken)
            }
            (SortKeys::Rows(_), None) => SortKeys::Words(Vec::new()),
            (SortKeys::Words(words), _) => {
                SortKeys::Words(words.iter().map(|words| words.taken(order)).collect::<Result<_>>()?)
            }
        })
    }
}

fn code_of(first: u64, second: u64) -> u128 {
    u128::from(first) << u64::BITS | u128::from(second)
}

/// The first bytes as a number.
fn leading(key: &[u8]) -> u128 {
    let mut code = [0; size_of::<u128>()];
    code.iter_mut().zip(key).for_each(|(to, from)| *to = *from);
    u128::from_be_bytes(code)
}
