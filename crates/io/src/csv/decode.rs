//! Cells into columns, one column at a time.
//!
//! The loop over rows is compiled once a type. A cell that is not of its column's type is null and counted, or
//! the first of them, by row, becomes the error of the block.

use std::borrow::Cow;
use std::sync::Arc;

use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{ArrayRef, BooleanArray, PrimitiveArray};
use arrow_buffer::NullBuffer;
use churn_core::scalar::array_of;
use churn_core::{Scalar, Type};
use churn_expr::pattern;
use churn_kernels::calendar::{self, DAY};
use churn_kernels::cells::{Column, Rows};
use churn_kernels::number;
use churn_kernels::views::{TextBlock, ViewBuilder};

use super::cells::{BlockCells, CsvCell};
use super::infer::is_missing;
use super::options::CsvOptions;
use super::source::Cast;

/// A column of a block: its values, and the rows whose cell was not of its type.
pub struct Decoded {
    pub(super) array: ArrayRef,
    pub(super) bad: Vec<usize>,
}

/// The place of a byte that is not UTF-8.
pub(super) struct NotUtf8(pub(super) usize);

/// How numbers are written.
#[derive(Clone, Copy)]
pub(super) struct ColumnDecoder {
    decimal: u8,
    thousands: Option<u8>,
    plain: bool,
    /// Whether a number must lose nothing of its text: no leading zeros, no plus sign of a whole one, no digits.
    exact: bool,
}

impl ColumnDecoder {
    pub(super) fn number(options: &CsvOptions) -> ColumnDecoder {
        let plain = options.decimal == b'.' && options.thousands.is_none();
        ColumnDecoder { decimal: options.decimal, thousands: options.thousands, plain, exact: false }
    }

    /// The same for a column whose type was inferred: a cell that would lose something of its text does not fit.
    pub(super) fn exact(self, exact: bool) -> ColumnDecoder {
        ColumnDecoder { exact, ..self }
    }

    fn parse_int(&self) -> fn(&[u8]) -> Option<i64> {
        if self.exact { number::parse_exact_int } else { number::parse_int }
    }

    fn parse_float(&self) -> fn(&[u8]) -> Option<f64> {
        if self.exact { number::parse_exact_float } else { number::parse_float }
    }

    /// The number with a decimal point and without marks of thousands; `None` if they stand where they cannot.
    pub(super) fn normal<'a>(&self, text: &'a [u8]) -> Option<Cow<'a, [u8]>> {
        if self.plain {
            return Some(Cow::Borrowed(text));
        }
        let point = memchr::memchr(self.decimal, text).unwrap_or(text.len());
        let (whole, part) = text.split_at_checked(point)?;
        let mut out = Vec::with_capacity(text.len());
        match self.thousands.filter(|mark| whole.contains(mark)) {
            Some(mark) => {
                let unsigned = whole.strip_prefix(b"-").unwrap_or(whole);
                let groups_fit = unsigned
                    .split(|b| *b == mark)
                    .enumerate()
                    .all(|(i, group)| group.len() == 3 || (i == 0 && (1..=3).contains(&group.len())));
                if !groups_fit {
                    return None;
                }
                out.extend(whole.iter().filter(|b| **b != mark));
            }
            None => out.extend_from_slice(whole),
        }
        if out.contains(&b'.') {
            return None;
        }
        if let Some((_, decimals)) = part.split_first() {
            out.push(b'.');
            out.extend_from_slice(decimals);
        }
        Some(Cow::Owned(out))
    }

    #[inline]
    pub(super) fn int(&self, text: &[u8]) -> Option<i64> {
        if self.plain { self.parse_int()(text) } else { self.parse_int()(&self.normal(text)?) }
    }

    #[inline]
    pub(super) fn float(&self, text: &[u8]) -> Option<f64> {
        if self.plain { self.parse_float()(text) } else { self.parse_float()(&self.normal(text)?) }
    }
}

/// Decodes one column.
pub(super) fn column(
    block: &TextBlock,
    cells: &BlockCells<'_>,
    position: usize,
    kind: &Type,
    (cast, pattern): (Cast, Option<&str>),
    rows: Rows<'_>,
    options: &CsvOptions,
) -> Result<Decoded, NotUtf8> {
    let reader = ColumnDecoder::number(options).exact(cast.exact);
    let loop_over = Loop { cells, column: cells.column(position), rows, options };
    let plain = loop_over.column;
    Ok(match kind {
        Type::Int if reader.plain => {
            let parse = reader.parse_int();
            loop_over.primitive::<Int64Type>(plain.ints(rows, parse), parse)
        }
        Type::Int => {
            let parse = |text: &[u8]| reader.int(text);
            loop_over.primitive::<Int64Type>(plain.parsed(rows, parse), parse)
        }
        Type::Float if reader.plain => {
            let parse = reader.parse_float();
            loop_over.primitive::<Float64Type>(plain.floats(rows, parse), parse)
        }
        Type::Float => {
            let parse = |text: &[u8]| reader.float(text);
            loop_over.primitive::<Float64Type>(plain.parsed(rows, parse), parse)
        }
        Type::Date | Type::Time | Type::Timestamp if cast.by_pattern => {
            loop_over.by_pattern(kind, pattern.unwrap_or_default())
        }
        Type::Date => loop_over.primitive::<Date32Type>(plain.dates(rows), calendar::parse_date),
        Type::Time => {
            let read = plain.parsed(rows, calendar::parse_time);
            loop_over.primitive::<Time64MicrosecondType>(read, calendar::parse_time)
        }
        Type::Timestamp => {
            let parse = |text: &[u8]| {
                calendar::parse_timestamp(text)
                    .or_else(|| calendar::parse_date(text).map(|d| i64::from(d) * DAY))
            };
            loop_over.primitive::<TimestampMicrosecondType>(plain.parsed(rows, parse), parse)
        }
        Type::Bool => loop_over.bools(),
        Type::Null => loop_over.scalars(kind, |_| None),
        Type::Decimal(precision, scale) => {
            let (precision, scale) = (*precision, *scale);
            loop_over.scalars(kind, |text| {
                let value = number::parse_decimal(&reader.normal(text)?, precision, scale)?;
                Some(Scalar::Decimal(value, precision, scale))
            })
        }
        _ => loop_over.texts(block)?,
    })
}

/// What a loop over the cells of a column needs.
struct Loop<'a> {
    cells: &'a BlockCells<'a>,
    column: churn_kernels::cells::Cells<'a>,
    rows: Rows<'a>,
    options: &'a CsvOptions,
}

/// A cell as the loop sees it.
enum CellText<'a> {
    Missing,
    Text(CsvCell, Cow<'a, [u8]>),
}

impl Loop<'_> {
    /// The general way to look at a cell: quotes, doubled quotes, marks of missing values.
    fn see(&self, row: usize) -> CellText<'_> {
        let (start, end) = self.column.range(row);
        let cell = self.cells.unwrapped(start, end);
        let text = self.cells.plain(cell);
        if is_missing(&text, cell.quoted, self.options) {
            CellText::Missing
        } else {
            CellText::Text(cell, text)
        }
    }

    /// Numbers and dates: the common cells are read; here the others are.
    fn primitive<T: ArrowPrimitiveType>(
        &self,
        read: Column<T::Native>,
        parse: impl Fn(&[u8]) -> Option<T::Native>,
    ) -> Decoded {
        let Column { mut values, mut empty, mut odd } = read;
        let mut bad = Vec::new();
        if let Some(missing) = &self.options.missing {
            // A text that means null may look like a number, and an empty cell may be none of them.
            odd.append(&mut empty);
            if missing.iter().any(|text| parse(text.as_bytes()).is_some()) {
                odd = (0..values.len() as u32).collect();
            }
        }
        let mut nulls = empty;
        for place in odd {
            let row = self.rows.row(place as usize);
            let value = match self.see(row) {
                CellText::Missing => None,
                CellText::Text(_, text) => {
                    let trimmed = text.trim_ascii();
                    let value = parse(trimmed);
                    if value.is_none() && !trimmed.is_empty() {
                        bad.push(row);
                    }
                    value
                }
            };
            match values.get_mut(place as usize) {
                Some(slot) if value.is_some() => *slot = value.unwrap_or_default(),
                _ => nulls.push(place),
            }
        }
        let nulls = null_buffer(values.len(), &nulls);
        Decoded { array: Arc::new(PrimitiveArray::<T>::new(values.into(), nulls)), bad }
    }

    fn by_pattern(&self, kind: &Type, wanted: &str) -> Decoded {
        self.scalars(kind, |text| pattern::parse(wanted, std::str::from_utf8(text).ok()?, kind))
    }

    /// The rare types, value by value.
    fn scalars(&self, kind: &Type, parse: impl Fn(&[u8]) -> Option<Scalar>) -> Decoded {
        let mut values = Vec::with_capacity(self.rows.len());
        let mut bad = Vec::new();
        self.rows.for_each(|row| {
            values.push(match self.see(row) {
                CellText::Missing => Scalar::Null,
                CellText::Text(_, text) => {
                    let trimmed = text.trim_ascii();
                    parse(trimmed).unwrap_or_else(|| {
                        if !trimmed.is_empty() {
                            bad.push(row);
                        }
                        Scalar::Null
                    })
                }
            });
        });
        Decoded { array: array_of(&values.iter().collect::<Vec<_>>(), kind), bad }
    }

    fn bools(&self) -> Decoded {
        let mut values = Vec::with_capacity(self.rows.len());
        let mut bad = Vec::new();
        self.rows.for_each(|row| {
            values.push(match self.see(row) {
                CellText::Missing => None,
                CellText::Text(_, text) => {
                    let trimmed = text.trim_ascii();
                    let value = if trimmed.eq_ignore_ascii_case(b"true") {
                        Some(true)
                    } else if trimmed.eq_ignore_ascii_case(b"false") {
                        Some(false)
                    } else {
                        None
                    };
                    if value.is_none() && !trimmed.is_empty() {
                        bad.push(row);
                    }
                    value
                }
            });
        });
        Decoded { array: Arc::new(BooleanArray::from(values)), bad }
    }

    /// Text stays where it stands in the block, unless it holds doubled quotes.
    fn texts(&self, block: &TextBlock) -> Result<Decoded, NotUtf8> {
        let mut builder = ViewBuilder::new(block, self.rows.len());
        let Column { mut empty, mut odd, .. } =
            builder.push_cells(&self.column, self.rows, self.cells.quote());
        if self.options.missing.is_some() {
            odd = (0..self.rows.len() as u32).collect();
            empty.clear();
        }
        let mut nulls = empty;
        for place in odd {
            match self.see(self.rows.row(place as usize)) {
                CellText::Missing => nulls.push(place),
                CellText::Text(cell, Cow::Borrowed(_)) => {
                    builder.set_part(place as usize, cell.start, cell.end)
                }
                CellText::Text(cell, Cow::Owned(text)) => match std::str::from_utf8(&text) {
                    Ok(text) => builder.set_text(place as usize, text),
                    // The same bytes in the block are no better, and there their place is found.
                    Err(_) => builder.set_part(place as usize, cell.start, cell.end),
                },
            }
        }
        let texts = builder.finish(null_buffer(self.rows.len(), &nulls)).map_err(NotUtf8)?;
        Ok(Decoded { array: Arc::new(texts), bad: Vec::new() })
    }
}

fn null_buffer(rows: usize, nulls: &[u32]) -> Option<NullBuffer> {
    if nulls.is_empty() {
        return None;
    }
    let mut builder = arrow_buffer::BooleanBufferBuilder::new(rows);
    builder.append_n(rows, true);
    nulls.iter().for_each(|row| builder.set_bit(*row as usize, false));
    Some(NullBuffer::new(builder.finish()))
}
