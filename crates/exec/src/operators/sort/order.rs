//! What is sorted by, and keys that compare as rows are ordered.

use std::ops::Range;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef};
use arrow_buffer::{BooleanBufferBuilder, NullBuffer};
use arrow_row::{RowConverter, Rows, SortField};
use arrow_schema::SortOptions;
use churn_core::{Batch, Result, StepId, Type};
use churn_expr::{Bound, Node};
use churn_kernels::known::known;

use crate::keys::normal;
use crate::runtime::morsel_output::MorselOutput;

/// What is sorted by, placed.
pub(crate) struct Order {
    pub(crate) keys: Vec<OrderKey>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

/// One key.
pub(crate) struct OrderKey {
    pub(crate) by: Bound,
    pub(crate) kind: Type,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

impl OrderKey {
    /// A column, placed.
    pub(crate) fn column(place: usize, kind: Type, descending: bool, nulls_first: bool) -> OrderKey {
        let by = Bound { node: Node::Column(place as u32), kind: kind.clone() };
        OrderKey { by, kind, descending, nulls_first }
    }
}

impl Order {
    /// The key columns of a batch, as they are compared.
    pub(crate) fn columns(&self, batch: &Batch, work: &mut MorselOutput) -> Result<Vec<ArrayRef>> {
        let column = |key: &OrderKey| {
            let array = work
                .with_events(self.step, |events| key.by.evaluate_array(batch, events))
                .map_err(|e| e.in_step(&self.text))?;
            normal(&array)
        };
        self.keys.iter().map(column).collect()
    }

    /// What makes bytes of keys that compare as rows are ordered.
    pub(crate) fn converter(&self) -> Result<RowConverter> {
        let field = |key: &OrderKey| {
            let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
            SortField::new_with_options(key.kind.arrow(), options)
        };
        RowConverter::new(self.keys.iter().map(field).collect()).map_err(churn_core::arrow_error)
    }

    /// Whether all keys are numbers, days, times or truth, each of which 64 bits hold.
    pub(super) fn is_of_words(&self) -> bool {
        self.keys.iter().all(|key| is_word(&key.kind))
    }
}

/// Whether 64 bits hold any value of a type, in order.
pub(crate) fn is_word(kind: &Type) -> bool {
    matches!(kind, Type::Int | Type::Float | Type::Date | Type::Time | Type::Timestamp | Type::Bool)
}

/// The keys of a part's rows.
pub(super) enum SortKeys {
    Words(Vec<Words>),
    Rows(Rows),
}

impl SortKeys {
    /// The keys of so many rows, from the key columns of some batches; `converter` is that of keys that are not words.
    pub(super) fn new(
        batches: &[Vec<ArrayRef>],
        order: &Order,
        converter: Option<&RowConverter>,
        rows: usize,
    ) -> Result<SortKeys> {
        let Some(converter) = converter else {
            let words =
                |(place, key)| Words::new(batches.iter().filter_map(move |b| b.get(place)), key, rows);
            return Ok(SortKeys::Words(order.keys.iter().enumerate().map(words).collect()));
        };
        let mut keys = converter.empty_rows(rows, 0);
        for columns in batches {
            converter.append(&mut keys, columns).map_err(churn_core::arrow_error)?;
        }
        Ok(SortKeys::Rows(keys))
    }

    /// Calls `f` with the code of each row.
    pub(super) fn each_code(&self, rows: usize, mut f: impl FnMut(u128)) {
        match self {
            SortKeys::Words(words) => match words.as_slice() {
                [Words { values, nulls: None, .. }] => values.iter().for_each(|v| f(code_of(*v, 0))),
                [Words { values: a, nulls: None, .. }, Words { values: b, nulls: None, .. }, ..] => {
                    a.iter().zip(b).for_each(|(a, b)| f(code_of(*a, *b)));
                }
                _ => (0..rows).for_each(|row| f(self.code(row))),
            },
            SortKeys::Rows(keys) => keys.iter().for_each(|key| f(leading(key.as_ref()))),
        }
    }

    /// The code of a row, a number that is less only where its key is less: the first two words of it, or the first
    /// bytes.
    pub(super) fn code(&self, row: usize) -> u128 {
        match self {
            SortKeys::Rows(keys) => leading(keys.row(row).as_ref()),
            SortKeys::Words(words) => {
                // A key of one word has no second one.
                let word = |place: usize| words.get(place).map_or(0, |words| words.whole(row));
                code_of(word(0), word(1))
            }
        }
    }

    /// The keys of the rows in this order.
    pub(super) fn taken(&self, order: &[u32], converter: Option<&RowConverter>) -> SortKeys {
        match (self, converter) {
            (SortKeys::Rows(keys), Some(converter)) => {
                let mut taken = converter.empty_rows(keys.num_rows(), keys.size());
                order.iter().for_each(|row| taken.push(keys.row(*row as usize)));
                SortKeys::Rows(taken)
            }
            (SortKeys::Rows(_), None) => SortKeys::Words(Vec::new()),
            (SortKeys::Words(words), _) => SortKeys::Words(words.iter().map(|w| w.taken(order)).collect()),
        }
    }
}

fn code_of(first: u64, second: u64) -> u128 {
    u128::from(first) << u64::BITS | u128::from(second)
}

/// The first bytes as a number.
fn leading(key: &[u8]) -> u128 {
    let mut code = [0; size_of::<u128>()];
    code.iter_mut().zip(key).for_each(|(to, from)| *to = *from);
    u128::from_be_bytes(code)
}

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

/// One key of each row, as a number that compares as the rows are ordered.
#[derive(Default)]
pub(super) struct Words {
    pub(super) values: Vec<u64>,
    pub(super) nulls: Option<NullBuffer>,
    pub(super) nulls_first: bool,
    pub(super) low: u64,
    pub(super) high: u64,
}

impl Words {
    /// The words of so many rows, from the parts of their key's column.
    fn new<'a>(parts: impl Iterator<Item = &'a ArrayRef> + Clone, key: &OrderKey, rows: usize) -> Words {
        let mut values = Vec::with_capacity(rows);
        parts.clone().for_each(|column| append_words(column, &mut values));
        if key.descending {
            values.iter_mut().for_each(|x| *x = !*x);
        }
        let has_nulls = parts.clone().any(|column| column.null_count() > 0);
        let nulls = has_nulls.then(|| {
            let mut valid = BooleanBufferBuilder::new(rows);
            for column in parts {
                match column.nulls() {
                    Some(nulls) => valid.append_buffer(nulls.inner()),
                    None => valid.append_n(column.len(), true),
                }
            }
            NullBuffer::new(valid.finish())
        });
        let (mut low, mut high) = (u64::MAX, 0);
        for (row, value) in values.iter().enumerate() {
            if nulls.as_ref().is_none_or(|n| n.is_valid(row)) {
                (low, high) = (low.min(*value), high.max(*value));
            }
        }
        Words { values, nulls, nulls_first: key.nulls_first, low, high }
    }

    /// The words of these rows.
    pub(super) fn taken(&self, rows: &[u32]) -> Words {
        let value = |row: &u32| known(&self.values, *row as usize);
        Words {
            values: rows.iter().map(value).collect(),
            nulls: self
                .nulls
                .as_ref()
                .map(|nulls| rows.iter().map(|row| nulls.is_valid(*row as usize)).collect()),
            ..*self
        }
    }

    /// A row's key as a word; null is as the least or the greatest value.
    fn whole(&self, row: usize) -> u64 {
        match self.at(row) {
            (0, value) => value,
            (below, _) => {
                if below < 0 {
                    0
                } else {
                    u64::MAX
                }
            }
        }
    }

    /// Appends to numbers the bits of some rows' keys: of `bits`, which hold all from the least word `low` on, the
    /// highest `taken`. Null is 0 or all ones.
    pub(super) fn append_bits(
        &self,
        (low, bits, taken): (u64, u32, u32),
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
}
