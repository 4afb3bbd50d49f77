//! Keys as words of 64 bits that compare as rows are ordered.

use std::cmp::Ordering;
use std::ops::Range;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, StringViewArray, UInt32Array};
use arrow_buffer::{BooleanBufferBuilder, NullBuffer};
use churn_core::{Result, Type, taken};
use churn_kernels::known::known;

use super::order::OrderKey;
use super::table::Field;
use super::text_words;

/// The values of a column of numbers, days, times or truth as words that compare as they do.
pub(crate) fn words_of(column: &ArrayRef) -> Vec<u64> {
    let mut words = Vec::with_capacity(column.len());
    append_words(column, &mut words);
    words
}

fn append_words(column: &ArrayRef, into: &mut Vec<u64>) {
    const SIGN: u64 = 1 << 63;
    let signed = |x: i64| x.cast_unsigned() ^ SIGN;
    if let Some(a) = column.as_primitive_opt::<Int64Type>() {
        into.extend(a.values().iter().map(|x| signed(*x)));
    } else if let Some(a) = column.as_primitive_opt::<Float64Type>() {
        // Negative floats compare from their bits turned over; NaN, of which there is one, is the largest.
        let ordered = |bits: u64| if bits & SIGN == 0 { bits | SIGN } else { !bits };
        into.extend(a.values().iter().map(|x| ordered(x.to_bits())));
    } else if let Some(a) = column.as_primitive_opt::<Date32Type>() {
        into.extend(a.values().iter().map(|x| signed(i64::from(*x))));
    } else if let Some(a) = column.as_primitive_opt::<Time64MicrosecondType>() {
        into.extend(a.values().iter().map(|x| signed(*x)));
    } else if let Some(a) = column.as_primitive_opt::<TimestampMicrosecondType>() {
        into.extend(a.values().iter().map(|x| signed(*x)));
    } else if let Some(a) = column.as_boolean_opt() {
        into.extend(a.values().iter().map(u64::from));
    } else {
        into.resize(into.len() + column.len(), 0);
    }
}

/// What words hold of their key.
#[derive(Clone, Debug, Default)]
pub(super) enum Holds {
    /// All of it.
    #[default]
    Key,
    /// The first bytes of a text.
    TextStart,
    /// The bytes of a text behind those, and how long it is; and the texts themselves, where some are longer.
    TextRest(Option<StringViewArray>),
}

/// One key of each row, or a part of it, as a number that compares as the rows are ordered.
#[derive(Default)]
pub(crate) struct Words {
    pub(super) values: Vec<u64>,
    pub(super) nulls: Option<NullBuffer>,
    pub(super) nulls_first: bool,
    pub(super) descending: bool,
    pub(super) low: u64,
    pub(super) high: u64,
    pub(super) holds: Holds,
}

impl Words {
    /// The words of so many rows, from the parts of their key's column: two for a text, else one.
    pub(super) fn of_key<'a>(
        parts: impl Iterator<Item = &'a ArrayRef> + Clone,
        key: &OrderKey,
        rows: usize,
    ) -> Result<Vec<Words>> {
        let has_nulls = parts.clone().any(|column| column.null_count() > 0);
        let nulls = has_nulls.then(|| {
            let mut valid = BooleanBufferBuilder::new(rows);
            for column in parts.clone() {
                match column.nulls() {
                    Some(nulls) => valid.append_buffer(nulls.inner()),
                    None => valid.append_n(column.len(), true),
                }
            }
            NullBuffer::new(valid.finish())
        });
        if key.kind == Type::Text {
            let texts: Vec<&StringViewArray> =
                parts.filter_map(|column| column.as_string_view_opt()).collect();
            let (start, rest) = text_words::of(&texts, rows);
            let long = text_words::long(&texts)?;
            let start = Words::new(start, nulls.clone(), key, Holds::TextStart);
            return Ok(vec![start, Words::new(rest, nulls, key, Holds::TextRest(long))]);
        }
        let mut values = Vec::with_capacity(rows);
        parts.for_each(|column| append_words(column, &mut values));
        Ok(vec![Words::new(values, nulls, key, Holds::Key)])
    }

    fn new(mut values: Vec<u64>, nulls: Option<NullBuffer>, key: &OrderKey, holds: Holds) -> Words {
        let OrderKey { descending, nulls_first, .. } = *key;
        if descending {
            values.iter_mut().for_each(|x| *x = !*x);
        }
        let (mut low, mut high) = (u64::MAX, 0);
        for (row, value) in values.iter().enumerate() {
            if nulls.as_ref().is_none_or(|n| n.is_valid(row)) {
                (low, high) = (low.min(*value), high.max(*value));
            }
        }
        Words { values, nulls, nulls_first, descending, low, high, holds }
    }

    /// The words of these rows.
    pub(super) fn taken(&self, rows: &[u32]) -> Result<Words> {
        let value = |row: &u32| known(&self.values, *row as usize);
        let holds = match &self.holds {
            Holds::TextRest(Some(texts)) => {
                let texts: ArrayRef = Arc::new(texts.clone());
                let taken = taken(&texts, &UInt32Array::from(rows.to_vec()))?;
                // They hold their own bytes alone.
                Holds::TextRest(taken.as_string_view_opt().map(StringViewArray::gc))
            }
            holds => holds.clone(),
        };
        Ok(Words {
            values: rows.iter().map(value).collect(),
            nulls: self
                .nulls
                .as_ref()
                .map(|nulls| rows.iter().map(|row| nulls.is_valid(*row as usize)).collect()),
            holds,
            ..*self
        })
    }

    /// Bytes in use, about.
    pub(super) fn memory(&self) -> usize {
        self.values.capacity() * size_of::<u64>() + self.long().map_or(0, Array::get_array_memory_size)
    }

    /// The texts, where words do not hold all of each.
    pub(super) fn long(&self) -> Option<&StringViewArray> {
        match &self.holds {
            Holds::TextRest(long) => long.as_ref(),
            Holds::Key | Holds::TextStart => None,
        }
    }

    /// A row's key as a word; null is as the least or the greatest value.
    pub(super) fn whole(&self, row: usize) -> u64 {
        match self.at(row) {
            (0, value) => value,
            _ => self.null_word(),
        }
    }

    /// The word that stands for null.
    pub(super) fn null_word(&self) -> u64 {
        if self.nulls_first { 0 } else { u64::MAX }
    }

    /// Whether a value may have the word that stands for null.
    pub(super) fn ties_with_null(&self) -> bool {
        (self.low..=self.high).contains(&self.null_word())
    }

    /// Appends to numbers the bits of some rows' keys: of those that their field has, the highest `taken`. Null is 0 or all ones.
    pub(super) fn append_bits(
        &self,
        &Field { low, bits }: &Field,
        taken: u32,
        rows: Range<usize>,
        to: &mut [u128],
    ) {
        let dropped = bits - taken;
        let values = self.values.get(rows.clone()).unwrap_or_default();
        let code = |value: &u64| (u128::from(value.wrapping_sub(low)) + 1) >> dropped;
        match &self.nulls {
            // Where one more than the distance has room in a word, there is no need of two.
            None if bits <= u64::BITS => {
                let short = |value: &u64| u128::from((value.wrapping_sub(low) + 1).unbounded_shr(dropped));
                to.iter_mut().zip(values).for_each(|(n, v)| *n = *n << taken | short(v));
            }
            None => to.iter_mut().zip(values).for_each(|(n, v)| *n = *n << taken | code(v)),
            Some(nulls) => {
                let null = if self.nulls_first { 0 } else { ((1 << bits) - 1) >> dropped };
                for ((number, value), row) in to.iter_mut().zip(values).zip(rows) {
                    *number = *number << taken | if nulls.is_null(row) { null } else { code(value) };
                }
            }
        }
    }

    /// The order of a row's key: below or above all values where it is null.
    pub(super) fn at(&self, row: usize) -> (i8, u64) {
        match &self.nulls {
            Some(nulls) if nulls.is_null(row) => (if self.nulls_first { -1 } else { 1 }, 0),
            _ => (0, known(&self.values, row)),
        }
    }

    /// All bits of a row's key.
    pub(super) fn bits_of(&self, row: usize, field: &Field) -> u128 {
        let mut number = [0];
        self.append_bits(field, field.bits, row..row + 1, &mut number);
        let [number] = number;
        number
    }

    /// The order of the keys of two rows, each of a part of its own.
    pub(super) fn compare(&self, row: usize, other: &Words, other_row: usize) -> Ordering {
        self.at(row).cmp(&other.at(other_row)).then_with(|| self.compare_long(row, other, other_row))
    }

    /// The order of the texts of two rows whose words are equal: then either both texts are longer or none is.
    pub(super) fn compare_long(&self, row: usize, other: &Words, other_row: usize) -> Ordering {
        let (Some(a), Some(b)) = (self.long(), other.long()) else { return Ordering::Equal };
        if a.is_null(row) || b.is_null(other_row) {
            return Ordering::Equal;
        }
        let order = a.value(row).cmp(b.value(other_row));
        if self.descending { order.reverse() } else { order }
    }

    /// Appends a row's key as bytes that compare as the rows are ordered.
    pub(super) fn append_bytes(&self, row: usize, to: &mut Vec<u8>) {
        let (null, value) = self.at(row);
        to.push((null + 1).cast_unsigned());
        to.extend_from_slice(&value.to_be_bytes());
        if let Some(texts) = self.long().filter(|texts| texts.is_valid(row)) {
            text_words::append_rest(texts.value(row).as_bytes(), self.descending, to);
        }
    }
}
