//! The order of a partition's rows, and which of them are equal in it.

use arrow_array::{Array, ArrayRef, UInt32Array};
use arrow_row::{RowConverter, Rows, SortField};
use arrow_schema::SortOptions;
use churn_core::{Result, Type, taken};
use churn_kernels::known::known;

use crate::keys::normal;
use crate::sort::{is_word, words_of};

/// A key of a window's order.
pub(crate) struct Key {
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
    pub(super) first: Option<(&'a Key, ArrayRef)>,
}

enum By {
    /// The rows' own order.
    None,
    /// One key of at most 64 bits, with its null in the bit above or below.
    Word(Vec<u128>),
    Rows(Rows),
}

impl<'a> Ordered<'a> {
    /// The order of these rows of some columns.
    pub(super) fn new(keys: &'a [Key], columns: &[Option<ArrayRef>], rows: &[u32]) -> Result<Ordered<'a>> {
        let places = UInt32Array::from(rows.to_vec());
        let column = |key: &Key| columns.get(key.place).and_then(Option::as_ref);
        let own = keys.iter().filter_map(column).map(|column| normal(&taken(column, &places)?));
        let arrays = own.collect::<Result<Vec<ArrayRef>>>()?;
        let first = keys.first().zip(arrays.first().cloned());
        let by = match (keys, arrays.as_slice()) {
            ([], _) => By::None,
            ([key], [column]) if is_word(&key.kind) => {
                let words = words_of(column);
                let word = |(row, word): (usize, &u64)| {
                    let word = if key.descending { !*word } else { *word };
                    match (column.is_null(row), key.nulls_first) {
                        (false, _) => 1 << 64 | u128::from(word),
                        (true, true) => 0,
                        (true, false) => 2 << 64,
                    }
                };
                By::Word(words.iter().enumerate().map(word).collect())
            }
            _ => {
                let field = |key: &Key| {
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
        let mut keyed: Vec<u128> = Vec::new();
        let mut from = 0;
        for to in ends.iter().map(|end| *end as usize) {
            let rows = sorted.get_mut(from..to).unwrap_or_default();
            match &self.by {
                By::None => {}
                By::Word(words) => {
                    let words = words.get(from..to).unwrap_or_default();
                    if !words.is_sorted() {
                        keyed.clear();
                        keyed.extend(
                            words.iter().zip(&*rows).map(|(word, row)| word << 32 | u128::from(*row)),
                        );
                        keyed.sort_unstable();
                        rows.iter_mut().zip(&keyed).for_each(|(row, keyed)| *row = *keyed as u32);
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
            By::Word(words) => words.get(a as usize) == words.get(b as usize),
            By::Rows(rows) => rows.row(a as usize) == rows.row(b as usize),
        }
    }
}
