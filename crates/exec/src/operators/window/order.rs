//! The order of a partition's rows, and which of them are equal in it.

use arrow_array::{Array, ArrayRef, UInt32Array};
use arrow_row::{RowConverter, Rows, SortField};
use arrow_schema::SortOptions;
use churn_core::{Result, Type, taken};
use churn_kernels::known::{known, known_part};
use churn_kernels::sorting;

use super::frames::turned;
use crate::keys::normal;
use crate::operators::sort::{is_word, words_of};

/// A key of a window's order.
pub(crate) struct PlacedKey {
    pub(super) place: usize,
    pub(super) kind: Type,
    pub(super) descending: bool,
    pub(super) nulls_first: bool,
}

/// Some rows by their order; they are known by their places among each other.
pub(super) struct Ordered<'a> {
    by: By,
    rows: usize,
    /// The first key, as it is measured by ranges.
    pub(super) first: Option<(&'a PlacedKey, ArrayRef)>,
}

enum By {
    /// The rows' own order.
    None,
    /// Keys that are words, packed into one of so many bits.
    Words(Vec<u128>, u32),
    Rows(Rows),
}

/// Bits of a packed key, so that a row's place fits below it.
const PACKED: u32 = 96;

/// The keys of each row in one word, the first one highest, each in as many bits as its values need; and how many bits that
/// are. None if they are more than [`PACKED`], or a key is no word.
fn packed(keys: &[PlacedKey], columns: &[ArrayRef]) -> Option<(Vec<u128>, u32)> {
    let mut packed = vec![0u128; columns.first()?.len()];
    let mut bits = 0;
    for (key, column) in keys.iter().zip(columns) {
        if !is_word(&key.kind) {
            return None;
        }
        let nulls = column.nulls().filter(|nulls| nulls.null_count() > 0);
        let words = turned(key, words_of(column));
        let is_valid = |row: usize| nulls.is_none_or(|nulls| nulls.is_valid(row));
        let valid = || words.iter().enumerate().filter(|(row, _)| is_valid(*row)).map(|(_, word)| *word);
        let least = valid().min().unwrap_or(0);
        let range = valid().max().unwrap_or(0) - least;
        // With nulls there is one value more, below or above all others.
        let (below, null) = match (nulls.is_some(), key.nulls_first) {
            (true, true) => (1, 0),
            _ => (0, u128::from(range) + 1),
        };
        let own = u128::BITS - (u128::from(range) + u128::from(nulls.is_some())).leading_zeros();
        bits += own;
        if bits > PACKED {
            return None;
        }
        for (row, (packed, word)) in packed.iter_mut().zip(&words).enumerate() {
            let value = if is_valid(row) { u128::from(word - least) + below } else { null };
            *packed = *packed << own | value;
        }
    }
    Some((packed, bits))
}

/// Sorts rows by their words; equal ones stay in order. `packed` makes one word of a row's word and its place.
fn sort_by_words<W: Ord + Copy>(
    words: &[u128],
    rows: &mut [u32],
    packed: impl Fn(u128, u32) -> W,
    row: impl Fn(&W) -> u32,
) {
    let mut keyed: Vec<W> = words.iter().zip(&*rows).map(|(word, row)| packed(*word, *row)).collect();
    if !sorting::insert(&mut keyed) {
        keyed.sort_unstable();
    }
    rows.iter_mut().zip(&keyed).for_each(|(to, keyed)| *to = row(keyed));
}

impl<'a> Ordered<'a> {
    /// The order of these rows of some columns.
    pub(super) fn new(
        keys: &'a [PlacedKey],
        columns: &[Option<ArrayRef>],
        rows: &[u32],
    ) -> Result<Ordered<'a>> {
        let places = UInt32Array::from(rows.to_vec());
        let column = |key: &PlacedKey| columns.get(key.place).and_then(Option::as_ref);
        let own = keys.iter().filter_map(column).map(|column| normal(&taken(column, &places)?));
        let arrays = own.collect::<Result<Vec<ArrayRef>>>()?;
        let first = keys.first().zip(arrays.first().cloned());
        let by = match packed(keys, &arrays) {
            _ if keys.is_empty() => By::None,
            Some((words, bits)) => By::Words(words, bits),
            None => {
                let field = |key: &PlacedKey| {
                    let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
                    SortField::new_with_options(key.kind.arrow(), options)
                };
                let converter =
                    RowConverter::new(keys.iter().map(field).collect()).map_err(churn_core::arrow_error)?;
                By::Rows(converter.convert_columns(&arrays).map_err(churn_core::arrow_error)?)
            }
        };
        Ok(Ordered { by, rows: rows.len(), first })
    }

    /// The places of the rows, each partition sorted; equal ones stay in order.
    pub(super) fn sorted(&self, ends: &[u32]) -> Vec<u32> {
        let mut sorted: Vec<u32> = (0..self.rows as u32).collect();
        let mut from = 0;
        for to in ends.iter().map(|end| *end as usize) {
            let rows = sorted.get_mut(from..to).unwrap_or_default();
            match &self.by {
                By::None => {}
                By::Words(words, bits) => {
                    let words = known_part(words, from..to);
                    if words.is_sorted() {
                        // Rows mostly come in order of time.
                    } else if *bits <= u32::BITS {
                        let packed = |word: u128, row: u32| (word as u64) << 32 | u64::from(row);
                        sort_by_words(words, rows, packed, |keyed| *keyed as u32);
                    } else {
                        let packed = |word: u128, row: u32| word << 32 | u128::from(row);
                        sort_by_words(words, rows, packed, |keyed| *keyed as u32);
                    }
                }
                By::Rows(keys) => rows.sort_by(|a, b| keys.row(*a as usize).cmp(&keys.row(*b as usize))),
            }
            from = to;
        }
        sorted
    }

    /// Puts rows in the order of sorted places.
    pub(super) fn rows(&self, sorted: &[u32], rows: &mut [u32]) {
        if !sorted.is_sorted() {
            let before = rows.to_vec();
            let moved = sorted.iter().map(|place| known(&before, *place as usize));
            rows.iter_mut().zip(moved).for_each(|(row, moved)| *row = moved);
        }
    }

    /// Whether two rows are equal in the order.
    pub(super) fn are_equal(&self, a: u32, b: u32) -> bool {
        match &self.by {
            By::None => true,
            By::Words(words, _) => words.get(a as usize) == words.get(b as usize),
            By::Rows(rows) => rows.row(a as usize) == rows.row(b as usize),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{Date32Array, Float64Array, Int64Array};
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        /// Packed keys have the order that rows of keys have.
        #[test]
        fn packed_keys_are_ordered_as_rows(
            rows in prop::collection::vec(
                (
                    prop::option::of(prop::sample::select(vec![0i64, 1, -1, 70_000, i64::MAX, i64::MIN])),
                    prop::option::of(-3i32..20_000),
                    prop::option::of(prop::sample::select(vec![0.0, -1.5, 2.25, f64::INFINITY, f64::NAN])),
                ),
                0..40,
            ),
            order in prop::collection::vec((0usize..3, any::<bool>(), any::<bool>()), 1..4),
        ) {
            let columns: Vec<ArrayRef> = vec![
                Arc::new(rows.iter().map(|row| row.0).collect::<Int64Array>()),
                Arc::new(rows.iter().map(|row| row.1).collect::<Date32Array>()),
                Arc::new(rows.iter().map(|row| row.2).collect::<Float64Array>()),
            ];
            let kinds = [Type::Int, Type::Date, Type::Float];
            let key = |(place, descending, nulls_first): &(usize, bool, bool)| {
                PlacedKey { place: *place, kind: kinds[*place].clone(), descending: *descending, nulls_first: *nulls_first }
            };
            let keys: Vec<PlacedKey> = order.iter().map(key).collect();
            let field = |key: &PlacedKey| {
                let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
                SortField::new_with_options(key.kind.arrow(), options)
            };
            let own: Vec<ArrayRef> = keys.iter().map(|key| columns[key.place].clone()).collect();
            let converted = RowConverter::new(keys.iter().map(field).collect())
                .and_then(|converter| converter.convert_columns(&own));
            let Ok(converted) = converted else { return Ok(()) };
            let mut expected: Vec<u32> = (0..rows.len() as u32).collect();
            expected.sort_by_key(|row| converted.row(*row as usize));
            let all: Vec<u32> = (0..rows.len() as u32).collect();
            let columns: Vec<Option<ArrayRef>> = columns.into_iter().map(Some).collect();
            let ordered = Ordered::new(&keys, &columns, &all)?;
            prop_assert_eq!(ordered.sorted(&[rows.len() as u32]), expected);
            for (a, b) in all.iter().zip(all.iter().skip(1)) {
                let are_equal = converted.row(*a as usize) == converted.row(*b as usize);
                prop_assert_eq!(ordered.are_equal(*a, *b), are_equal);
            }
        }
    }
}
