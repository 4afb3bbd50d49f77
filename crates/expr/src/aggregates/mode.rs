//! `mode`: the most frequent value; of equally frequent ones the one that comes first.

use std::hash::{Hash, Hasher};
use std::marker::PhantomData;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use arrow_array::{ArrayRef, Int64Array, StringViewArray};
use churn_core::scalar::array_of;
use churn_core::{Result, Scalar, Type};
use hashbrown::DefaultHashBuilder;
use indexmap::IndexMap;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::bits::{bits_of, has_bits, of_bits};
use super::external::{ExternalValues, FromSorted};
use super::{Aggregate, AggregateState, Made, column, each_valid, made, made_external};

pub(super) const AGGREGATES: &[Aggregate] = &[Aggregate {
    name: "mode",
    usage: "mode(x)",
    summary: "The most frequent value; of equally frequent ones the first.",
    example: "group by farm: grade = mode(grade)",
    bind: mode,
}];

/// A value as it is counted.
trait ModeValue: Hash + Eq + Clone + Send + Serialize + DeserializeOwned + 'static {
    /// Bytes beside the value itself.
    fn heap(&self) -> usize;
    fn column(kind: &Type, values: impl Iterator<Item = Option<Self>>) -> ArrayRef;
}

impl ModeValue for u64 {
    fn heap(&self) -> usize {
        0
    }

    fn column(kind: &Type, values: impl Iterator<Item = Option<u64>>) -> ArrayRef {
        of_bits(kind, values)
    }
}

impl ModeValue for Box<str> {
    fn heap(&self) -> usize {
        self.len() + 16
    }

    fn column(_: &Type, values: impl Iterator<Item = Option<Box<str>>>) -> ArrayRef {
        Arc::new(values.collect::<StringViewArray>())
    }
}

/// Values of any type, equal if they look alike.
#[derive(Clone, Serialize, Deserialize)]
struct ShownValue(Scalar);

impl Hash for ShownValue {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.0.to_string().hash(state);
    }
}

impl PartialEq for ShownValue {
    fn eq(&self, other: &ShownValue) -> bool {
        self.0.to_string() == other.0.to_string()
    }
}

impl Eq for ShownValue {}

impl ModeValue for ShownValue {
    fn heap(&self) -> usize {
        48
    }

    fn column(kind: &Type, values: impl Iterator<Item = Option<ShownValue>>) -> ArrayRef {
        let values: Vec<Scalar> = values.map(|value| value.map_or(Scalar::Null, |v| v.0)).collect();
        array_of(&values.iter().collect::<Vec<_>>(), kind)
    }
}

/// How often each value came, in order of first appearance.
#[derive(Clone, Serialize, Deserialize)]
#[serde(bound = "V: ModeValue")]
struct Counts<V> {
    values: IndexMap<V, u64, DefaultHashBuilder>,
    /// Values that were taken out before.
    gone: u64,
}

impl<V> Default for Counts<V> {
    fn default() -> Counts<V> {
        Counts { values: IndexMap::default(), gone: 0 }
    }
}

impl<V: ModeValue> AggregateState for Counts<V> {
    fn merge(&mut self, later: &mut Self) {
        if self.values.is_empty() {
            std::mem::swap(&mut self.values, &mut later.values);
            return;
        }
        for (value, count) in later.values.drain(..) {
            *self.values.entry(value).or_insert(0) += count;
        }
    }

    fn heap(&self) -> usize {
        // A table that grows holds its old places beside the new ones for a moment.
        let own: usize = self.values.keys().map(V::heap).sum();
        own + self.values.capacity() * (size_of::<(V, u64)>() + 16) / 2 * 3
    }

    fn part(&mut self, most: usize) -> Option<Self> {
        if self.values.len() <= most {
            return None;
        }
        let rest = self.values.split_off(most);
        let part = std::mem::replace(&mut self.values, rest);
        Some(Counts { values: part, gone: 0 })
    }
}

fn mode(args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    let kind = args.kind(0);
    Ok(if has_bits(&kind) {
        let update = |states: &mut [Counts<u64>], groups: &[u32], args: &[ArrayRef]| {
            let array = column(args, 0)?;
            let bits = bits_of(array);
            each_valid(states, groups, &[array], |state, row| {
                *state.values.entry(super::at(&bits, row)).or_insert(0) += 1;
            });
            Ok(())
        };
        let external = ExternalMode { kind: kind.clone(), sorted_as: Type::Int, values: PhantomData };
        made_external(args, kind.clone(), update, most_frequent(kind), Arc::new(external))
    } else if kind == Type::Text {
        let update = |states: &mut [Counts<Box<str>>], groups: &[u32], args: &[ArrayRef]| {
            let array = column(args, 0)?;
            let texts = array.as_string_view();
            each_valid(states, groups, &[array], |state, row| match state.values.get_mut(texts.value(row)) {
                Some(count) => *count += 1,
                None => drop(state.values.insert(texts.value(row).into(), 1)),
            });
            Ok(())
        };
        let external = ExternalMode { kind: kind.clone(), sorted_as: Type::Text, values: PhantomData };
        made_external(args, kind.clone(), update, most_frequent(kind), Arc::new(external))
    } else {
        let update = |states: &mut [Counts<ShownValue>], groups: &[u32], args: &[ArrayRef]| {
            let array = column(args, 0)?;
            each_valid(states, groups, &[array], |state, row| {
                *state.values.entry(ShownValue(Scalar::from_array(array, row))).or_insert(0) += 1;
            });
            Ok(())
        };
        made(args, kind.clone(), update, most_frequent(kind))
    })
}

fn most_frequent<V: ModeValue>(
    kind: Type,
) -> impl Fn(&mut [Counts<V>]) -> Result<ArrayRef> + Clone + Send + Sync + 'static {
    move |states| {
        // Of equal counts the last of the reversed ones is the first.
        let best = |state: &Counts<V>| {
            let best = state.values.iter().rev().max_by_key(|(_, count)| **count);
            best.map(|(value, _)| value.clone())
        };
        Ok(V::column(&kind, states.iter().map(best)))
    }
}

/// Values with how often they came and the places of their first appearances.
struct ExternalMode<V> {
    kind: Type,
    sorted_as: Type,
    values: PhantomData<fn() -> V>,
}

impl<V: ModeValue + FromColumn> ExternalValues<Counts<V>> for ExternalMode<V> {
    fn kind(&self) -> Type {
        self.sorted_as.clone()
    }

    fn drain(&self, state: &mut Counts<V>) -> Vec<ArrayRef> {
        let values = std::mem::take(&mut state.values);
        let first = state.gone;
        state.gone += values.len() as u64;
        let counts = Int64Array::from_iter_values(values.values().map(|count| count.cast_signed()));
        let places = Int64Array::from_iter_values((first..state.gone).map(u64::cast_signed));
        let values = V::column(&self.sorted_as, values.into_keys().map(Some));
        vec![values, Arc::new(counts), Arc::new(places)]
    }

    fn sorted(&self, rows: &[u64]) -> Box<dyn FromSorted> {
        let best = std::iter::repeat_with(|| None).take(rows.len()).collect();
        Box::new(Best::<V> { kind: self.kind.clone(), best, now: None })
    }
}

/// Values that can be read again from the column that they were put into.
trait FromColumn: Sized {
    fn at(column: &ArrayRef, row: usize) -> Self;
}

impl FromColumn for u64 {
    fn at(column: &ArrayRef, row: usize) -> u64 {
        column.as_primitive::<Int64Type>().value(row).cast_unsigned()
    }
}

impl FromColumn for Box<str> {
    fn at(column: &ArrayRef, row: usize) -> Box<str> {
        column.as_string_view().value(row).into()
    }
}

/// A value, how often it came, and where it came first.
struct Counted<V> {
    value: V,
    count: i64,
    place: i64,
}

/// The most frequent value of each group so far, and the one that passes by.
struct Best<V> {
    kind: Type,
    best: Vec<Option<Counted<V>>>,
    now: Option<(usize, Counted<V>)>,
}

impl<V> Best<V> {
    fn close(&mut self) {
        let Some((group, now)) = self.now.take() else { return };
        let Some(best) = self.best.get_mut(group) else { return };
        let is_better = |b: &Counted<V>| (now.count, b.place) > (b.count, now.place);
        if best.as_ref().is_none_or(is_better) {
            *best = Some(now);
        }
    }
}

impl<V: ModeValue + FromColumn> FromSorted for Best<V> {
    fn add(&mut self, groups: &[usize], is_new: &[bool], columns: &[ArrayRef]) -> Result<()> {
        let values = column(columns, 0)?;
        let counts = column(columns, 1)?.as_primitive::<Int64Type>().values();
        let places = column(columns, 2)?.as_primitive::<Int64Type>().values();
        for (row, (group, is_new)) in groups.iter().zip(is_new).enumerate() {
            let (count, place) = (super::at(counts, row), super::at(places, row));
            match &mut self.now {
                Some((_, now)) if !is_new => now.count += count,
                _ => {
                    self.close();
                    self.now = Some((*group, Counted { value: V::at(values, row), count, place }));
                }
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<ArrayRef> {
        self.close();
        Ok(V::column(&self.kind, self.best.into_iter().map(|best| best.map(|best| best.value))))
    }
}
