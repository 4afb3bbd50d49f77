//! The order of a partition's rows, and which of them are equal in it.

use arrow_array::{Array, ArrayRef};
use arrow_row::{RowConverter, Rows, SortField};
use arrow_schema::SortOptions;

use crate::error::Result;
use crate::exec::keys::normal;
use crate::exec::sort::{is_word, words_of};
use crate::expr::Type;

/// A key of a window's order.
pub(crate) struct Key {
    pub(super) place: usize,
    pub(super) kind: Type,
    pub(super) descending: bool,
    pub(super) nulls_first: bool,
}

/// All rows by their order.
pub(super) struct Ordered<'a> {
    by: By,
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
    pub(super) fn new(keys: &'a [Key], columns: &[Option<ArrayRef>]) -> Result<Ordered<'a>> {
        let column = |key: &Key| columns.get(key.place).and_then(Option::as_ref).map(normal);
        let arrays = keys.iter().filter_map(column).collect::<Result<Vec<ArrayRef>>>()?;
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
                    RowConverter::new(keys.iter().map(field).collect()).map_err(crate::expr::arrow_error)?;
                By::Rows(converter.convert_columns(&arrays).map_err(crate::expr::arrow_error)?)
            }
        };
        Ok(Ordered { by, first })
    }

    /// Sorts the rows of each partition; equal ones stay in order.
    pub(super) fn sort(&self, rows: &mut [u32], ends: &[u32]) {
        let mut from = 0;
        for to in ends.iter().map(|end| *end as usize) {
            let rows = rows.get_mut(from..to).unwrap_or_default();
            from = to;
            match &self.by {
                By::None => {}
                By::Word(words) => {
                    let word = |row: u32| words.get(row as usize).copied().unwrap_or(0);
                    if rows.is_sorted_by_key(|row| word(*row)) {
                        continue;
                    }
                    let mut keyed: Vec<u128> =
                        rows.iter().map(|row| word(*row) << 32 | u128::from(*row)).collect();
                    keyed.sort_unstable();
                    rows.iter_mut().zip(keyed).for_each(|(row, keyed)| *row = keyed as u32);
                }
                By::Rows(keys) => rows.sort_by(|a, b| keys.row(*a as usize).cmp(&keys.row(*b as usize))),
            }
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
