//! The order of a partition's rows, and which of them are equal in it.

use std::ops::{Add, BitOr, Shl};

use arrow_array::{Array, ArrayRef, UInt32Array};
use arrow_buffer::NullBuffer;
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
    pub(crate) place: usize,
    pub(crate) kind: Type,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
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
    Words(Vec<u64>, u32),
    /// As these, of more bits.
    Wide(Vec<u128>),
    Rows(Rows),
}

/// Bits of a packed key, so that a row's place fits below it.
const PACKED: u32 = 96;

/// A key of each row as a rising word, and in how many bits these are told apart.
struct KeyWords {
    words: Vec<u64>,
    nulls: Option<NullBuffer>,
    /// The least word of a row that is not null, and how far the others reach.
    least: u64,
    range: u64,
    nulls_first: bool,
    bits: u32,
}

impl KeyWords {
    fn new(key: &PlacedKey, column: &ArrayRef) -> KeyWords {
        let nulls = column.nulls().filter(|nulls| nulls.null_count() > 0).cloned();
        let words = turned(key, words_of(column));
        let bounds = |(least, most): (u64, u64), word: u64| (least.min(word), most.max(word));
        let none = (u64::MAX, 0);
        let (least, most) = match &nulls {
            None => words.iter().copied().fold(none, bounds),
            Some(nulls) => nulls.valid_indices().map(|row| known(&words, row)).fold(none, bounds),
        };
        let range = most.saturating_sub(least);
        // With nulls there is one value more, below or above all others.
        let values = u128::from(range) + u128::from(nulls.is_some());
        let bits = u128::BITS - values.leading_zeros();
        KeyWords { words, nulls, least, range, nulls_first: key.nulls_first, bits }
    }

    /// Puts the key of each row below what was packed before.
    fn pack<W>(&self, packed: &mut [W])
    where
        W: Copy + From<u64> + Add<Output = W> + BitOr<Output = W> + Shl<u32, Output = W>,
    {
        let one = W::from(1);
        let Some(nulls) = &self.nulls else {
            for (packed, word) in packed.iter_mut().zip(&self.words) {
                *packed = *packed << self.bits | W::from(word - self.least);
            }
            return;
        };
        let (below, null) =
            if self.nulls_first { (one, W::from(0)) } else { (W::from(0), W::from(self.range) + one) };
        for ((row, packed), word) in packed.iter_mut().enumerate().zip(&self.words) {
            let value = if nulls.is_valid(row) { W::from(word - self.least) + below } else { null };
            *packed = *packed << self.bits | value;
        }
    }
}

/// The keys of each row in one word, the first one highest, each in as many bits as its values need. None if they are more
/// than [`PACKED`], or a key is no word.
fn packed(keys: &[PlacedKey], columns: &[ArrayRef]) -> Option<By> {
    if !keys.iter().all(|key| is_word(&key.kind)) {
        return None;
    }
    let rows = columns.first()?.len();
    let mut words: Vec<KeyWords> =
        keys.iter().zip(columns).map(|(key, column)| KeyWords::new(key, column)).collect();
    // What is the same in all rows has no bits, and orders nothing.
    words.retain(|key| key.bits > 0);
    match words.iter().map(|key| key.bits).sum() {
        // A word that fills all bits is not moved up by as many.
        bits if bits < u64::BITS => {
            let mut packed = vec![0u64; rows];
            words.iter().for_each(|key| key.pack(&mut packed));
            Some(By::Words(packed, bits))
        }
        bits if bits <= PACKED => {
            let mut packed = vec![0u128; rows];
            words.iter().for_each(|key| key.pack(&mut packed));
            Some(By::Wide(packed))
        }
        _ => None,
    }
}

/// Sorts rows by their words; equal ones stay in order. `packed` makes one word of a row's word and its place.
fn sort_by_words<W: Ord + Copy, K: Ord + Copy>(
    words: &[W],
    rows: &mut [u32],
    packed: impl Fn(W, u32) -> K,
    row: impl Fn(&K) -> u32,
) {
    // Rows mostly come in order of time.
    if words.is_sorted() {
        return;
    }
    let mut keyed: Vec<K> = words.iter().zip(&*rows).map(|(word, row)| packed(*word, *row)).collect();
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
            Some(by) => by,
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
        // Bits of a place.
        let below = usize::BITS - self.rows.leading_zeros();
        let mut from = 0;
        for to in ends.iter().map(|end| *end as usize) {
            let rows = sorted.get_mut(from..to).unwrap_or_default();
            match &self.by {
                By::None => {}
                By::Words(words, bits) if bits + below <= u64::BITS => {
                    let packed = |word: u64, row: u32| word << below | u64::from(row);
                    let row = |keyed: &u64| (keyed & ((1 << below) - 1)) as u32;
                    sort_by_words(known_part(words, from..to), rows, packed, row);
                }
                By::Words(words, _) => {
                    let packed = |word: u64, row: u32| u128::from(word) << u32::BITS | u128::from(row);
                    sort_by_words(known_part(words, from..to), rows, packed, |keyed| *keyed as u32);
                }
                By::Wide(words) => {
                    let packed = |word: u128, row: u32| word << u32::BITS | u128::from(row);
                    sort_by_words(known_part(words, from..to), rows, packed, |keyed| *keyed as u32);
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
            By::Wide(words) => words.get(a as usize) == words.get(b as usize),
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
