//! Which rows each row's frame holds: from a first one to one behind the last, both rising with the row.

use std::ops::Range;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Float64Type, Int64Type};
use arrow_array::{Array, ArrayRef, Float64Array, Int64Array};

use super::order::Key;
use crate::error::Result;
use crate::exec::sort::{is_word, words_of};
use crate::expr::windows::{Distance, Frame, Limit};
use crate::expr::{Column, Events, Interval, Type, arithmetic};

/// The frames of all rows; the partitions end at `ends`. `first` is the first order key of the sorted rows.
pub(super) fn frames(
    frame: &Frame,
    ends: &[u32],
    first: Option<(&Key, ArrayRef)>,
) -> Result<Vec<(u32, u32)>> {
    let rows = ends.last().copied().unwrap_or(0);
    let mut found = Vec::with_capacity(rows as usize);
    let measured = match (frame, first) {
        (Frame::Range(from, to), Some((key, column))) => Some(Measured::new(key, &column, from, to)?),
        _ => None,
    };
    let mut start = 0;
    for end in ends.iter().copied() {
        match (frame, &measured) {
            (Frame::Rows(from, to), _) => {
                let place = |row: u32, by: Option<i64>, open: u32| match by {
                    None => open,
                    Some(by) => {
                        i64::from(row).saturating_add(by).clamp(i64::from(start), i64::from(end)) as u32
                    }
                };
                found.extend((start..end).map(|row| {
                    let from = place(row, *from, start);
                    (from, place(row, to.map(|to| to.saturating_add(1)), end).max(from))
                }));
            }
            (Frame::Range(..), Some(measured)) => {
                measured.partition(start as usize..end as usize, &mut found)
            }
            _ => found.extend((start..end).map(|_| (start, end))),
        }
        start = end;
    }
    Ok(found)
}

/// The keys of sorted rows as rising words, and the words that each row's frame reaches to.
struct Measured {
    words: Vec<u64>,
    nulls: Option<arrow_buffer::NullBuffer>,
    from: Reach,
    to: Reach,
}

/// How far a frame reaches at one end.
enum Reach {
    Unbounded,
    /// To keys of these words; not to those with exactly them, if it is open.
    To(Vec<u64>, bool),
}

impl Measured {
    fn new(key: &Key, column: &ArrayRef, from: &Limit, to: &Limit) -> Result<Measured> {
        let turned = |mut words: Vec<u64>| {
            if key.descending {
                words.iter_mut().for_each(|word| *word = !*word);
            }
            words
        };
        let words = if is_word(&key.kind) { turned(words_of(column)) } else { ranks(column)? };
        let reach = |limit: &Limit| match limit {
            Limit::Unbounded => Reach::Unbounded,
            Limit::Current => Reach::To(words.clone(), false),
            Limit::Distance { by, later, open } => {
                Reach::To(turned(moved(column, &key.kind, *by, *later != key.descending)), *open)
            }
        };
        let (from, to) = (reach(from), reach(to));
        Ok(Measured { nulls: column.logical_nulls().filter(|n| n.null_count() > 0), from, to, words })
    }

    /// The frames of a partition's rows. Rows without a key see each other, and what is beyond an open end.
    fn partition(&self, rows: Range<usize>, into: &mut Vec<(u32, u32)>) {
        let is_null = |row: usize| self.nulls.as_ref().is_some_and(|n| n.is_null(row));
        // Nulls stand together at one end.
        let first = rows.clone().find(|row| !is_null(*row)).unwrap_or(rows.end);
        let last = rows.clone().rfind(|row| !is_null(*row)).map_or(first, |row| row + 1);
        let (mut from, mut to) = (first, first);
        let word = |row: usize| self.words.get(row).copied().unwrap_or(0);
        for row in rows.clone() {
            let block = if row < first {
                rows.start..first
            } else if row < last {
                first..last
            } else {
                last..rows.end
            };
            let is_key = block == (first..last);
            let begin = match &self.from {
                Reach::Unbounded => rows.start,
                Reach::To(..) if !is_key => block.start,
                Reach::To(limits, open) => {
                    let limit = limits.get(row).copied().unwrap_or(0);
                    while from < last && (word(from) < limit || (*open && word(from) == limit)) {
                        from += 1;
                    }
                    from
                }
            };
            let end = match &self.to {
                Reach::Unbounded => rows.end,
                Reach::To(..) if !is_key => block.end,
                Reach::To(limits, open) => {
                    let limit = limits.get(row).copied().unwrap_or(u64::MAX);
                    while to < last && (word(to) < limit || (!*open && word(to) == limit)) {
                        to += 1;
                    }
                    to
                }
            };
            into.push((begin as u32, end.max(begin) as u32));
        }
    }
}

/// Keys that cannot be measured, by rank: sorted rows with equal keys share one.
fn ranks(column: &ArrayRef) -> Result<Vec<u64>> {
    let converter = arrow_row::RowConverter::new(vec![arrow_row::SortField::new(column.data_type().clone())])
        .map_err(crate::expr::arrow_error)?;
    let rows = converter.convert_columns(std::slice::from_ref(column)).map_err(crate::expr::arrow_error)?;
    let mut rank = 0;
    let next = |row: usize| {
        if row > 0 && rows.row(row) != rows.row(row - 1) {
            rank += 1;
        }
        rank
    };
    Ok((0..rows.num_rows()).map(next).collect())
}

/// The words of keys moved up or down; past the end of the type, its end.
fn moved(column: &ArrayRef, kind: &Type, by: Distance, up: bool) -> Vec<u64> {
    let end = if up { u64::MAX } else { 0 };
    let moved: ArrayRef = match by {
        Distance::Int(by) => {
            let ints: Int64Array = column
                .as_primitive::<Int64Type>()
                .unary(|v| if up { v.saturating_add(by) } else { v.saturating_sub(by) });
            Arc::new(ints)
        }
        Distance::Float(by) => {
            let floats: Float64Array =
                column.as_primitive::<Float64Type>().unary(|v| if up { v + by } else { v - by });
            match crate::exec::keys::normal(&(Arc::new(floats) as ArrayRef)) {
                Ok(floats) => floats,
                Err(_) => column.clone(),
            }
        }
        Distance::Interval(Interval { months, days, micros }) => {
            let sign = if up { 1 } else { -1 };
            let by = Interval { months: months * sign, days: days * sign, micros: micros * sign };
            let keys = Column::Array(column.clone());
            let mut events = Events::default();
            let moved = if *kind == Type::Date {
                arithmetic::shift_dates(&keys, by, column.len(), &mut events)
            } else {
                arithmetic::shift_timestamps(&keys, by, column.len(), &mut events)
            };
            moved.into_array(column.len())
        }
    };
    let words = words_of(&moved);
    words.iter().enumerate().map(|(row, word)| if moved.is_null(row) { end } else { *word }).collect()
}
