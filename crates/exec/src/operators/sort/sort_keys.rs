//! The keys of a part's rows.

use std::cmp::Ordering;

use arrow_array::ArrayRef;
use arrow_row::{RowConverter, Rows};
use churn_core::Result;

use super::order::Order;
use super::text_words;
use super::words::{Holds, Words};

/// The keys of some rows.
pub(crate) enum SortKeys {
    Words(Vec<Words>),
    Rows(Rows),
}

impl SortKeys {
    /// The keys of so many rows, from the key columns of some batches; `converter` is that of keys that are not words.
    pub(crate) fn new(
        batches: &[Vec<ArrayRef>],
        order: &Order,
        converter: Option<&RowConverter>,
        rows: usize,
    ) -> Result<SortKeys> {
        let Some(converter) = converter else {
            let mut words = Vec::with_capacity(order.keys.len());
            for (place, key) in order.keys.iter().enumerate() {
                words.append(&mut Words::of_key(batches.iter().filter_map(|b| b.get(place)), key, rows)?);
            }
            return Ok(SortKeys::Words(words));
        };
        let mut keys = converter.empty_rows(rows, 0);
        for columns in batches {
            converter.append(&mut keys, columns).map_err(churn_core::arrow_error)?;
        }
        Ok(SortKeys::Rows(keys))
    }

    /// Calls `f` with the code of each row.
    pub(crate) fn each_code(&self, rows: usize, mut f: impl FnMut(u128)) {
        match self {
            SortKeys::Words(words) => match words.as_slice() {
                [Words { values, nulls: None, holds: Holds::Key, .. }] => {
                    values.iter().for_each(|value| f(code_of(*value, 0)));
                }
                [
                    first @ Words { values: a, nulls: None, holds: Holds::Key, .. },
                    Words { values: b, nulls: None, .. },
                    ..,
                ] if !first.ties_with_null() => {
                    a.iter().zip(b).for_each(|(a, b)| f(code_of(*a, *b)));
                }
                _ => (0..rows).for_each(|row| f(self.code(row))),
            },
            SortKeys::Rows(keys) => keys.iter().for_each(|key| f(leading(key.as_ref()))),
        }
    }

    /// The code of a row, a number that is less only where its key is less: the first two words of it, a text and what follows it, or
    /// the first bytes.
    pub(crate) fn code(&self, row: usize) -> u128 {
        match self {
            SortKeys::Rows(keys) => leading(keys.row(row).as_ref()),
            SortKeys::Words(words) => {
                // A key of one word has no second one.
                let word = |place: usize| words.get(place).map_or(0, |words| words.whole(row));
                match words.first() {
                    Some(Words { holds: Holds::TextStart, descending, nulls, nulls_first, .. }) => {
                        let is_null = nulls.as_ref().is_some_and(|nulls| nulls.is_null(row));
                        let text = (!is_null).then(|| (word(0), word(1)));
                        text_words::code(text, word(2), (*descending, *nulls_first))
                    }
                    // Null and a value have one word: what follows them does not tell which is less.
                    Some(first) if word(0) == first.null_word() => code_of(word(0), 0),
                    _ => code_of(word(0), word(1)),
                }
            }
        }
    }

    /// Whether rows with equal codes have equal keys.
    pub(crate) fn codes_are_whole(&self) -> bool {
        let is_whole = |words: &Words| words.nulls.is_none() && matches!(words.holds, Holds::Key);
        match self {
            SortKeys::Words(words) => match words.as_slice() {
                [one] => is_whole(one),
                [first, second] => is_whole(first) && is_whole(second) && !first.ties_with_null(),
                _ => false,
            },
            SortKeys::Rows(_) => false,
        }
    }

    /// Bytes in use, about.
    pub(crate) fn memory(&self) -> usize {
        match self {
            SortKeys::Words(words) => words.iter().map(Words::memory).sum(),
            SortKeys::Rows(rows) => rows.size(),
        }
    }

    /// The words of a field.
    pub(super) fn words(&self, field: usize) -> Option<&Words> {
        match self {
            SortKeys::Words(words) => words.get(field),
            SortKeys::Rows(_) => None,
        }
    }

    /// Whether these words are those of texts some of which are longer.
    pub(super) fn is_long(&self, field: usize) -> bool {
        self.words(field).is_some_and(|words| words.long().is_some())
    }

    /// The order of a row of these keys and one of others.
    pub(crate) fn compare(&self, row: usize, other: &SortKeys, other_row: usize) -> Ordering {
        match (self, other) {
            (SortKeys::Words(left), SortKeys::Words(right)) => {
                let mut pairs = left.iter().zip(right).map(|(a, b)| a.compare(row, b, other_row));
                pairs.find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
            }
            (SortKeys::Rows(left), SortKeys::Rows(right)) => left.row(row).cmp(&right.row(other_row)),
            _ => Ordering::Equal,
        }
    }

    /// Appends a row's key as bytes that compare as the rows are ordered, alike in every run.
    pub(super) fn append_bytes(&self, row: usize, to: &mut Vec<u8>) {
        match self {
            SortKeys::Words(words) => words.iter().for_each(|words| words.append_bytes(row, to)),
            SortKeys::Rows(rows) => to.extend_from_slice(rows.row(row).as_ref()),
        }
    }

    /// The keys of the rows in this order.
    pub(super) fn taken(&self, order: &[u32], converter: Option<&RowConverter>) -> Result<SortKeys> {
        Ok(match (self, converter) {
            (SortKeys::Rows(keys), Some(converter)) => {
                let mut taken = converter.empty_rows(keys.num_rows(), keys.size());
                order.iter().for_each(|row| taken.push(keys.row(*row as usize)));
                SortKeys::Rows(taken)
            }
            (SortKeys::Rows(_), None) => SortKeys::Words(Vec::new()),
            (SortKeys::Words(words), _) => {
                SortKeys::Words(words.iter().map(|words| words.taken(order)).collect::<Result<_>>()?)
            }
        })
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

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{BooleanArray, Int64Array, StringViewArray};
    use churn_core::{StepId, Type};
    use proptest::prelude::*;
    use proptest::sample::select;

    use super::*;
    use crate::operators::sort::order::OrderKey;

    type Row = (Option<bool>, Option<i64>, Option<&'static str>);

    fn rows() -> impl Strategy<Value = Vec<Row>> {
        let number = select(vec![Some(0), Some(1), Some(i64::MIN), Some(i64::MAX), None]);
        let text = select(vec![None, Some(""), Some("b"), Some("a text of more than sixteen bytes")]);
        prop::collection::vec((any::<Option<bool>>(), number, text), 1..12)
    }

    fn columns(rows: &[Row]) -> [ArrayRef; 3] {
        [
            Arc::new(rows.iter().map(|row| row.0).collect::<BooleanArray>()),
            Arc::new(rows.iter().map(|row| row.1).collect::<Int64Array>()),
            Arc::new(rows.iter().map(|row| row.2).collect::<StringViewArray>()),
        ]
    }

    proptest! {
        /// Codes of two parts, one with nulls or both, are ordered as the keys of their rows, and where they are whole, equal codes
        /// are of equal keys.
        #[test]
        fn codes_are_ordered_as_keys(
            parts in (rows(), rows()),
            keys in prop::collection::vec((0usize..3, any::<bool>(), any::<bool>()), 1..4),
        ) {
            let kinds = [Type::Bool, Type::Int, Type::Text];
            let key = |(place, descending, nulls_first): &(usize, bool, bool)| {
                OrderKey::column(*place, kinds[*place].clone(), *descending, *nulls_first)
            };
            let order = Order { keys: keys.iter().map(key).collect(), step: StepId::default(), text: String::new() };
            let keys_of = |rows: &[Row]| {
                let columns = columns(rows);
                let own = keys.iter().map(|(place, ..)| columns[*place].clone()).collect();
                SortKeys::new(&[own], &order, None, rows.len())
            };
            let (left, right) = (keys_of(&parts.0)?, keys_of(&parts.1)?);
            let are_whole = left.codes_are_whole() && right.codes_are_whole();
            let mut codes = Vec::new();
            left.each_code(parts.0.len(), |code| codes.push(code));
            for (row, code) in codes.into_iter().enumerate() {
                prop_assert_eq!(code, left.code(row));
                for other in 0..parts.1.len() {
                    let (by_code, by_key) = (code.cmp(&right.code(other)), left.compare(row, &right, other));
                    prop_assert!(by_code == by_key || by_code.is_eq() && !are_whole, "{:?} {:?}", by_code, by_key);
                }
            }
        }
    }
}
