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
use churn_kernels::calendar::{self, DAY};
use churn_kernels::number;
use churn_kernels::views::{Utf8Block, ViewBuilder};

use super::cells::{Cell, Cells};
use super::infer::is_missing;
use super::options::CsvOptions;
use crate::expr::{Scalar, Type, array_of, pattern};

/// The rows to decode.
#[derive(Clone, Copy)]
pub(super) enum Rows<'a> {
    All(usize),
    These(&'a [u32]),
}

impl Rows<'_> {
    pub(super) fn len(&self) -> usize {
        match self {
            Rows::All(n) => *n,
            Rows::These(rows) => rows.len(),
        }
    }

    #[inline]
    fn for_each(&self, mut f: impl FnMut(usize)) {
        match self {
            Rows::All(n) => (0..*n).for_each(f),
            Rows::These(rows) => rows.iter().for_each(|row| f(*row as usize)),
        }
    }
}

/// A column of a block: its values, and the rows whose cell was not of its type.
pub(super) struct Decoded {
    pub(super) array: ArrayRef,
    pub(super) bad: Vec<usize>,
}

/// How numbers are written.
#[derive(Clone, Copy)]
pub(super) struct Reader {
    decimal: u8,
    thousands: Option<u8>,
    plain: bool,
}

impl Reader {
    pub(super) fn number(options: &CsvOptions) -> Reader {
        let plain = options.decimal == b'.' && options.thousands.is_none();
        Reader { decimal: options.decimal, thousands: options.thousands, plain }
    }

    /// The number with a decimal point and without marks of thousands; `None` if they stand where they cannot.
    fn normal<'a>(&self, text: &'a [u8]) -> Option<Cow<'a, [u8]>> {
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
        if self.plain { number::parse_int(text) } else { number::parse_int(&self.normal(text)?) }
    }

    #[inline]
    pub(super) fn float(&self, text: &[u8]) -> Option<f64> {
        if self.plain { number::parse_float(text) } else { number::parse_float(&self.normal(text)?) }
    }
}

/// Decodes one column.
pub(super) fn column(
    block: &Utf8Block,
    cells: &Cells<'_>,
    position: usize,
    kind: &Type,
    by_pattern: bool,
    rows: Rows<'_>,
    options: &CsvOptions,
) -> Decoded {
    let reader = Reader::number(options);
    let loop_over = Loop { cells, position, rows, options };
    match kind {
        Type::Int => loop_over.primitive::<Int64Type>(|text| reader.int(text)),
        Type::Float => loop_over.primitive::<Float64Type>(|text| reader.float(text)),
        Type::Date | Type::Time | Type::Timestamp if by_pattern => loop_over.by_pattern(kind),
        Type::Date => loop_over.primitive::<Date32Type>(calendar::parse_date),
        Type::Time => loop_over.primitive::<Time64MicrosecondType>(calendar::parse_time),
        Type::Timestamp => loop_over.primitive::<TimestampMicrosecondType>(|text| {
            calendar::parse_timestamp(text).or_else(|| calendar::parse_date(text).map(|d| i64::from(d) * DAY))
        }),
        Type::Bool => loop_over.bools(),
        Type::Decimal(precision, scale) => {
            let (precision, scale) = (*precision, *scale);
            loop_over.scalars(kind, |text| {
                let value = number::parse_decimal(&reader.normal(text)?, precision, scale)?;
                Some(Scalar::Decimal(value, precision, scale))
            })
        }
        _ => loop_over.texts(block),
    }
}

/// What a loop over the cells of a column needs.
struct Loop<'a> {
    cells: &'a Cells<'a>,
    position: usize,
    rows: Rows<'a>,
    options: &'a CsvOptions,
}

/// A cell as the loop sees it.
enum Seen<'a> {
    Missing,
    Text(Cell, Cow<'a, [u8]>),
}

impl Loop<'_> {
    /// The general way to look at a cell: quotes, doubled quotes, marks of missing values.
    fn see(&self, row: usize) -> Seen<'_> {
        let cell = self.cells.get(row, self.position);
        let text = self.cells.plain(cell);
        if is_missing(&text, cell.quoted, self.options) { Seen::Missing } else { Seen::Text(cell, text) }
    }

    /// Numbers and dates: the common cell takes the first branch.
    fn primitive<T: ArrowPrimitiveType>(&self, parse: impl Fn(&[u8]) -> Option<T::Native>) -> Decoded {
        let mut values: Vec<T::Native> = Vec::with_capacity(self.rows.len());
        let mut nulls: Vec<usize> = Vec::new();
        let mut bad = Vec::new();
        let plain = self.options.missing.is_none();
        self.rows.for_each(|row| {
            let cell = self.cells.get(row, self.position);
            if plain && !cell.quoted {
                let raw = self.cells.raw(cell);
                if raw.is_empty() {
                    nulls.push(values.len());
                    values.push(T::Native::default());
                    return;
                }
                if let Some(value) = parse(raw) {
                    values.push(value);
                    return;
                }
            }
            let value = match self.see(row) {
                Seen::Missing => None,
                Seen::Text(_, text) => {
                    let trimmed = text.trim_ascii();
                    let value = parse(trimmed);
                    if value.is_none() && !trimmed.is_empty() {
                        bad.push(row);
                    }
                    value
                }
            };
            if value.is_none() {
                nulls.push(values.len());
            }
            values.push(value.unwrap_or_default());
        });
        let nulls = null_buffer(values.len(), &nulls);
        Decoded { array: Arc::new(PrimitiveArray::<T>::new(values.into(), nulls)), bad }
    }

    fn by_pattern(&self, kind: &Type) -> Decoded {
        let wanted = self.options.dates.clone().unwrap_or_default();
        self.scalars(kind, |text| pattern::parse(&wanted, std::str::from_utf8(text).ok()?, kind))
    }

    /// The rare types, value by value.
    fn scalars(&self, kind: &Type, parse: impl Fn(&[u8]) -> Option<Scalar>) -> Decoded {
        let mut values = Vec::with_capacity(self.rows.len());
        let mut bad = Vec::new();
        self.rows.for_each(|row| {
            values.push(match self.see(row) {
                Seen::Missing => Scalar::Null,
                Seen::Text(_, text) => {
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
                Seen::Missing => None,
                Seen::Text(_, text) => {
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
    fn texts(&self, block: &Utf8Block) -> Decoded {
        let mut builder = ViewBuilder::new(block, self.rows.len());
        let mut nulls = Vec::new();
        let mut count = 0;
        let plain = self.options.missing.is_none();
        self.rows.for_each(|row| {
            let cell = self.cells.get(row, self.position);
            if plain && !cell.quoted {
                if cell.start == cell.end {
                    nulls.push(count);
                    builder.push_empty();
                } else {
                    builder.push_part(cell.start, cell.end);
                }
            } else {
                match self.see(row) {
                    Seen::Missing => {
                        nulls.push(count);
                        builder.push_empty();
                    }
                    Seen::Text(cell, Cow::Borrowed(_)) => builder.push_part(cell.start, cell.end),
                    Seen::Text(_, Cow::Owned(text)) => builder.push_text(&String::from_utf8_lossy(&text)),
                }
            }
            count += 1;
        });
        Decoded { array: Arc::new(builder.finish(null_buffer(count, &nulls))), bad: Vec::new() }
    }
}

fn null_buffer(rows: usize, nulls: &[usize]) -> Option<NullBuffer> {
    if nulls.is_empty() {
        return None;
    }
    let mut builder = arrow_buffer::BooleanBufferBuilder::new(rows);
    builder.append_n(rows, true);
    nulls.iter().for_each(|row| builder.set_bit(*row, false));
    Some(NullBuffer::new(builder.finish()))
}
