//! Cells as texts, some rows at a time and column by column.
//!
//! A loop over one column does the same for each value, and none waits for another. Each text stands in a place of a fixed
//! size, with the separator behind it; cells that have no room there, or stand in quotes, are written when their row is.

use std::ops::Range;

use arrow_buffer::NullBuffer;
use churn_kernels::digits::{self, ShortTexts};
use churn_kernels::known::{known, known_part};

use super::columns::{ColumnValues, WrittenColumn};
use super::{CsvEncoder, is_marked};

/// Bytes for a cell: the longest float has 24, and a separator stands behind it.
const ROOM: usize = 32;

/// Cells that are made together: they stay in the nearest cache.
const TOGETHER: usize = 1 << 9;

/// Rows whose cells are made together, however many columns there are.
const ROWS: usize = 8;

/// The length of a cell that is to be written with its row.
const ALONE: u8 = u8::MAX;

/// The cells of some rows.
pub(super) struct CellTexts<'a> {
    encoder: &'a CsvEncoder,
    columns: &'a [WrittenColumn<'a>],
    /// Of each column the texts of so many rows, and their lengths.
    texts: Vec<[u8; ROOM]>,
    lengths: Vec<u8>,
    together: usize,
    /// The rows whose cells these are, and how many there are in all.
    made: Range<usize>,
    rows: usize,
}

impl<'a> CellTexts<'a> {
    /// Those of columns of so many rows; none is made yet.
    pub(super) fn new(encoder: &'a CsvEncoder, columns: &'a [WrittenColumn<'a>], rows: usize) -> Self {
        let together = (TOGETHER / columns.len().max(1)).max(ROWS).min(rows);
        let cells = together * columns.len();
        let (texts, lengths) = (vec![[0; ROOM]; cells], vec![0; cells]);
        CellTexts { encoder, columns, texts, lengths, together, made: 0..0, rows }
    }

    /// Appends a row without its end; rows come in order.
    #[inline]
    pub(super) fn write_row(&mut self, row: usize, out: &mut Vec<u8>) {
        if !self.made.contains(&row) {
            self.make(row..(row + self.together).min(self.rows));
        }
        let cells = (row - self.made.start..).step_by(self.together);
        for (i, (column, cell)) in self.columns.iter().zip(cells).enumerate() {
            let (Some(text), length) = (self.texts.get(cell), known(&self.lengths, cell)) else { continue };
            if length == ALONE {
                self.encoder.write_cell(column, row, out);
                out.extend(self.behind(i));
                continue;
            }
            // A copy of a fixed length has no loop in it; what is too much is written over.
            let end = out.len() + usize::from(length);
            out.extend_from_slice(text);
            out.truncate(end);
        }
    }

    /// The separator behind a column, if another one follows.
    #[inline]
    fn behind(&self, column: usize) -> Option<u8> {
        (column + 1 < self.columns.len()).then_some(self.encoder.options.separator)
    }

    /// Makes the cells of these rows.
    fn make(&mut self, rows: Range<usize>) {
        let (mut texts, mut lengths) = (std::mem::take(&mut self.texts), std::mem::take(&mut self.lengths));
        let places = texts.chunks_mut(self.together).zip(lengths.chunks_mut(self.together));
        for (i, (column, (texts, lengths))) in self.columns.iter().zip(places).enumerate() {
            let cells = Cells { texts, lengths, behind: self.behind(i) };
            self.encoder.make_cells(column, rows.clone(), cells);
        }
        (self.texts, self.lengths, self.made) = (texts, lengths, rows);
    }
}

/// The cells of a column that are made.
struct Cells<'a> {
    texts: &'a mut [[u8; ROOM]],
    lengths: &'a mut [u8],
    /// The separator, if one follows.
    behind: Option<u8>,
}

impl Cells<'_> {
    /// Makes the cells of nulls.
    fn make_nulls(&mut self, nulls: &NullBuffer, missing: &[u8]) {
        for ((row, room), length) in (0..nulls.len()).zip(&mut *self.texts).zip(&mut *self.lengths) {
            if nulls.is_null(row) {
                let whole = missing.len() + usize::from(self.behind.is_some());
                *length = ALONE;
                if let Some(text) = room.get_mut(..whole) {
                    text.iter_mut()
                        .zip(missing.iter().chain(&self.behind))
                        .for_each(|(to, byte)| *to = *byte);
                    *length = whole as u8;
                }
            }
        }
    }

    /// Makes the cell of each value; `text` writes it to its room and gives its length, or `None` if it is to be written with
    /// its row.
    #[inline]
    fn make<T: Copy>(&mut self, values: &[T], mut text: impl FnMut(T, &mut [u8; ROOM]) -> Option<usize>) {
        let behind = self.behind;
        for ((value, room), length) in values.iter().zip(&mut *self.texts).zip(&mut *self.lengths) {
            *length = ended(text(*value, room), room, behind);
        }
    }

    /// As `make`, of numbers: `short_texts` gives the texts of some that are short, `text` writes that of any other.
    #[inline]
    fn make_numbers<T: Copy>(
        &mut self,
        values: &[T],
        short_texts: impl Fn(&[T]) -> ShortTexts,
        text: impl Fn(T, &mut [u8; ROOM]) -> Option<usize>,
    ) {
        let places = self.texts.chunks_mut(digits::TOGETHER).zip(self.lengths.chunks_mut(digits::TOGETHER));
        for (values, (texts, lengths)) in values.chunks(digits::TOGETHER).zip(places) {
            let short_texts = short_texts(values);
            let places = texts.iter_mut().zip(lengths);
            for ((value, short_text), (room, length)) in values.iter().zip(short_texts.iter()).zip(places) {
                let end = match short_text {
                    (_, 0) => text(*value, room),
                    some => short(Some(some), room),
                };
                *length = ended(end, room, self.behind);
            }
        }
    }
}

/// Puts the separator behind a text that ends there, if one follows; gives the length of both.
#[inline]
fn ended(end: Option<usize>, room: &mut [u8; ROOM], separator: Option<u8>) -> u8 {
    end.map_or(ALONE, |end| {
        let behind = separator.zip(room.get_mut(end));
        end as u8 + u8::from(behind.map(|(separator, byte)| *byte = separator).is_some())
    })
}

/// Puts a short text into its room; gives its length.
#[inline]
fn short(text: Option<(u128, usize)>, room: &mut [u8; ROOM]) -> Option<usize> {
    let (text, length) = text?;
    *room.first_chunk_mut()? = text.to_le_bytes();
    Some(length)
}

impl CsvEncoder {
    /// Makes the cells of some rows of a column.
    fn make_cells(&self, column: &WrittenColumn<'_>, rows: Range<usize>, mut cells: Cells<'_>) {
        let usual = self.options.decimal == b'.' && !self.quotes_all;
        let nulls = column.nulls.map(|nulls| nulls.slice(rows.start, rows.len()));
        match &column.values {
            ColumnValues::Floats(values) if usual => {
                let values = known_part(values, rows);
                cells.make_numbers(values, ShortTexts::of_floats, |value, room| {
                    digits::put_float(value, room)
                });
            }
            ColumnValues::Ints(values) if usual => {
                let values = known_part(values, rows);
                cells.make_numbers(values, ShortTexts::of_ints, |value, room| {
                    short(digits::short_int(value), room)
                });
            }
            ColumnValues::Days(values, table) if usual => {
                cells.make(known_part(values, rows), |day, room| {
                    let text = table.texts.get(day.wrapping_sub(table.first) as usize);
                    short(text.filter(|text| **text != 0).map(|text| (*text, digits::DAY_BYTES)), room)
                });
            }
            ColumnValues::Texts(texts) if self.plain => {
                let special = self.special();
                cells.make(known_part(texts.views(), rows), |view, room| {
                    short(digits::short_text(view, special).filter(|_| !is_marked(view)), room)
                });
            }
            _ => cells.lengths.fill(ALONE),
        }
        if let Some(nulls) = nulls {
            cells.make_nulls(&nulls, &self.missing);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Date32Array, Float64Array, Int64Array, StringViewArray};
    use churn_core::{Field, Type};
    use proptest::prelude::*;

    use super::*;
    use crate::format::WriteOptions;

    fn value() -> impl Strategy<Value = (f64, i64, i32, String)> {
        let float =
            prop_oneof![any::<f64>(), (-99_999i32..99_999).prop_map(|n| f64::from(n) / 100.0), -9.0..9.0];
        let int = prop_oneof![any::<i64>(), -9i64..1_000_000];
        let text = prop_oneof!["[a-z,;\"\n]{0,3}", "[a-zé ]{9,40}", "\u{feff}x?"];
        (float, int, prop_oneof![-700_000i32..900_000, 19_000..19_100], text)
    }

    proptest! {
        /// Cells that are made together are those that are written one by one, whatever stands for null and between cells.
        #[test]
        fn cells_together_are_cells_one_by_one(
            values in prop::collection::vec(prop::option::weighted(0.9, value()), 0..300),
            missing in prop::sample::select(vec!["", "NA", "a text, that takes more room than there is in a cell"]),
            separator in prop::sample::select(vec![b',', b';', b'.']),
            decimal in prop::sample::select(vec![b'.', b',']),
            quote_always: bool,
            copies in 1usize..40,
        ) {
            let some: Vec<ArrayRef> = vec![
                Arc::new(values.iter().map(|v| Some(v.as_ref()?.0)).collect::<Float64Array>()),
                Arc::new(values.iter().map(|v| Some(v.as_ref()?.1)).collect::<Int64Array>()),
                Arc::new(values.iter().map(|v| Some(v.as_ref()?.2)).collect::<Date32Array>()),
                Arc::new(values.iter().map(|v| Some(v.as_ref()?.3.as_str())).collect::<StringViewArray>()),
            ];
            let arrays: Vec<ArrayRef> = some.into_iter().cycle().take(copies).collect();
            let columns: Vec<WrittenColumn<'_>> = arrays.iter().map(WrittenColumn::new).collect();
            let missing = missing.to_owned();
            let options = WriteOptions { missing, separator, decimal, quote_always, ..WriteOptions::default() };
            let field = |id: usize| Field::new(id as u32, format!("c{id}"), Type::Text);
            let fields: Vec<Field> = (0..copies).map(field).collect();
            let encoder = CsvEncoder::new(&fields, options);
            let mut texts = CellTexts::new(&encoder, &columns, values.len());
            let (mut together, mut one_by_one) = (Vec::new(), Vec::new());
            // Rows that are written otherwise are left out.
            for row in (0..values.len()).filter(|row| row % 7 != 3) {
                texts.write_row(row, &mut together);
                for (i, column) in columns.iter().enumerate() {
                    if i > 0 {
                        one_by_one.push(separator);
                    }
                    encoder.write_cell(column, row, &mut one_by_one);
                }
            }
            prop_assert_eq!(String::from_utf8(together), String::from_utf8(one_by_one));
        }
    }
}
