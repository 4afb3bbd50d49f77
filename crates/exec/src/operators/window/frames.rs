//! Which rows each row's frame holds: from a first one to one behind the last, both rising with the row.

use std::iter::repeat_n;
use std::ops::Range;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Float64Type, Int64Type};
use arrow_array::{Array, ArrayRef, Float64Array, Int64Array};
use churn_core::{Column, Events, Result, Scalar, Type};
use churn_expr::arithmetic;
use churn_expr::windows::{Distance, Frame, Limit};
use churn_kernels::known::known;

use super::order::PlacedKey;
use crate::operators::sort::{is_word, words_of};

/// A partition of sorted rows.
pub(super) struct FramePartition {
    pub(super) rows: Range<usize>,
    /// Those of them whose first order key is not null.
    pub(super) keyed: Range<usize>,
}

/// The frames of all rows; the partitions end at `ends`. `first` is the first order key of the sorted rows.
pub(super) fn frames(
    frame: &Frame,
    ends: &[u32],
    first: Option<(&PlacedKey, ArrayRef)>,
) -> Result<Vec<(u32, u32)>> {
    let rows = ends.last().copied().unwrap_or(0);
    let mut found = Vec::with_capacity(rows as usize);
    let measured = match (frame, first) {
        (Frame::Range(from, to), Some((key, column))) => Some(Measured::new(key, &column, from, to)?),
        _ => None,
    };
    let mut reached = Reached::default();
    let mut start = 0;
    for end in ends.iter().map(|end| *end as usize) {
        let pair = |rows: Range<usize>| (rows.start as u32, rows.end as u32);
        match (frame, &measured) {
            (Frame::Rows(from, to), _) => {
                found.extend((start..end).map(|row| pair(by_rows(*from, *to, &(start..end), row))));
            }
            (Frame::Range(..), Some(measured)) => {
                let partition = measured.partition(start..end);
                let word = |row: usize| Ok(known(&measured.words, row));
                let limit = |row: usize| row;
                let add = |rows| found.push(pair(rows));
                measured.reaches.frames(&partition, start..end, limit, &mut reached, (word, word), add)?;
            }
            _ => found.extend(repeat_n(pair(start..end), end - start)),
        }
        start = end;
    }
    Ok(found)
}

/// The rows from so many rows on to so many rows on.
pub(super) fn by_rows(
    from: Option<i64>,
    to: Option<i64>,
    partition: &Range<usize>,
    row: usize,
) -> Range<usize> {
    let place = |by: Option<i64>, open: usize| match by {
        None => open,
        Some(by) => {
            (row as i64).saturating_add(by).clamp(partition.start as i64, partition.end as i64) as usize
        }
    };
    let from = place(from, partition.start);
    from..place(to.map(|to| to.saturating_add(1)), partition.end).max(from)
}

/// The keys of sorted rows as rising words, and how far each row's frame reaches.
struct Measured {
    words: Vec<u64>,
    nulls: Option<arrow_buffer::NullBuffer>,
    reaches: Reaches,
}

impl Measured {
    fn new(key: &PlacedKey, column: &ArrayRef, from: &Limit, to: &Limit) -> Result<Measured> {
        let words = if is_word(&key.kind) { turned(key, words_of(column)) } else { ranks(column)? };
        let reaches = Reaches::new(key, column, &words, from, to);
        Ok(Measured { nulls: column.logical_nulls().filter(|n| n.null_count() > 0), reaches, words })
    }

    fn partition(&self, rows: Range<usize>) -> FramePartition {
        let is_null = |row: usize| self.nulls.as_ref().is_some_and(|n| n.is_null(row));
        // Nulls stand together at one end.
        let first = rows.clone().find(|row| !is_null(*row)).unwrap_or(rows.end);
        let last = rows.clone().rfind(|row| !is_null(*row)).map_or(first, |row| row + 1);
        FramePartition { rows, keyed: first..last }
    }
}

/// How far the frames of some rows reach.
pub(super) struct Reaches {
    from: Reach,
    to: Reach,
}

/// How far frames reach at one end.
enum Reach {
    Unbounded,
    /// To keys of these words; not to those with exactly them, if it is open.
    To(Vec<u64>, bool),
}

/// The rows that frames have reached so far: with every row they only rise.
#[derive(Default)]
pub(super) struct Reached {
    from: usize,
    to: usize,
}

impl Reaches {
    /// Those of rows with these first order keys, whose words are given too.
    pub(super) fn new(
        key: &PlacedKey,
        column: &ArrayRef,
        words: &[u64],
        from: &Limit,
        to: &Limit,
    ) -> Reaches {
        let reach = |limit: &Limit| match limit {
            Limit::Unbounded => Reach::Unbounded,
            Limit::Current => Reach::To(words.to_vec(), false),
            Limit::Distance { by, later, open } => {
                Reach::To(turned(key, moved(column, &key.kind, *by, *later != key.descending)), *open)
            }
        };
        Reaches { from: reach(from), to: reach(to) }
    }

    /// The frames of some of a partition's rows. Rows without a key see each other, and what is beyond an open end.
    ///
    /// `limit` says which of the reaches is a row's; `words` give the words of rows, for either end.
    pub(super) fn frames(
        &self,
        partition: &FramePartition,
        rows: Range<usize>,
        limit: impl Fn(usize) -> usize,
        reached: &mut Reached,
        mut words: (impl FnMut(usize) -> Result<u64>, impl FnMut(usize) -> Result<u64>),
        mut add: impl FnMut(Range<usize>),
    ) -> Result<()> {
        let Range { start: first, end: last } = partition.keyed;
        let Reached { from, to } = reached;
        (*from, *to) = ((*from).max(first), (*to).max(first));
        for row in rows {
            let block = if row < first {
                partition.rows.start..first
            } else if row < last {
                first..last
            } else {
                last..partition.rows.end
            };
            let is_key = (first..last).contains(&row);
            let begin = match &self.from {
                Reach::Unbounded => partition.rows.start,
                Reach::To(..) if !is_key => block.start,
                Reach::To(limits, open) => {
                    let limit = known(limits, limit(row));
                    while *from < last {
                        let word = words.0(*from)?;
                        if word > limit || (word == limit && !*open) {
                            break;
                        }
                        *from += 1;
                    }
                    *from
                }
            };
            let end = match &self.to {
                Reach::Unbounded => partition.rows.end,
                Reach::To(..) if !is_key => block.end,
                Reach::To(limits, open) => {
                    let limit = limits.get(limit(row)).copied().unwrap_or(u64::MAX);
                    while *to < last {
                        let word = words.1(*to)?;
                        if word > limit || (word == limit && *open) {
                            break;
                        }
                        *to += 1;
                    }
                    *to
                }
            };
            add(begin..end.max(begin));
        }
        Ok(())
    }
}

/// Words as they rise in the order of a key.
pub(super) fn turned(key: &PlacedKey, mut words: Vec<u64>) -> Vec<u64> {
    if key.descending {
        words.iter_mut().for_each(|word| *word = !*word);
    }
    words
}

/// Keys that cannot be measured, by rank: sorted rows with equal keys share one.
fn ranks(column: &ArrayRef) -> Result<Vec<u64>> {
    let converter = arrow_row::RowConverter::new(vec![arrow_row::SortField::new(column.data_type().clone())])
        .map_err(churn_core::arrow_error)?;
    let rows = converter.convert_columns(std::slice::from_ref(column)).map_err(churn_core::arrow_error)?;
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
    if *kind == Type::Null {
        return vec![end; column.len()];
    }
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
            match crate::keys::normal(&(Arc::new(floats) as ArrayRef)) {
                Ok(floats) => floats,
                Err(_) => column.clone(),
            }
        }
        Distance::Interval(by) => {
            let by = by.times(if up { 1 } else { -1 }).map_or(Scalar::Null, Scalar::Interval);
            let by = Column::Constant(by, Type::Interval);
            let keys = Column::Array(column.clone());
            let mut events = Events::default();
            let moved = if *kind == Type::Date {
                arithmetic::shift_dates(&keys, &by, column.len(), &mut events)
            } else {
                arithmetic::shift_timestamps(&keys, &by, column.len(), &mut events)
            };
            moved.into_array(column.len())
        }
    };
    let words = words_of(&moved);
    words.iter().enumerate().map(|(row, word)| if moved.is_null(row) { end } else { *word }).collect()
}
