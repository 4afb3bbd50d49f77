//! Keys whose numbers are found without a look at the table: those that stand close together, and those into a dictionary.

use std::sync::Arc;

use arrow_array::types::Int32Type;
use arrow_array::{Array, DictionaryArray, UInt32Array};
use churn_core::{Result, taken};
use churn_expr::dictionary::{self, places_of};

use super::{KeyTable, UNKNOWN};

impl KeyTable {
    /// Looks keys up that stand close together; those that are new or far apart go the way that is given.
    pub(super) fn near_numbers<K: Copy + Ord + Into<i64>>(
        &mut self,
        keys: &[K],
        into: &mut Vec<u32>,
        otherwise: impl FnOnce(&mut Self, &mut Vec<u32>) -> Result<()>,
    ) -> Result<()> {
        if self.dense.as_ref().is_some_and(|dense| dense.find(keys, into)) {
            return Ok(());
        }
        self.dense = self.dense.take().and_then(|mut dense| dense.cover(keys).then_some(dense));
        let first = into.len();
        otherwise(self, into)?;
        if let (Some(dense), Some(numbers)) = (&mut self.dense, into.get(first..)) {
            dense.learn(keys, numbers);
        }
        Ok(())
    }

    /// Looks the values of a dictionary up, each once.
    pub(super) fn find_in_dictionary(
        &self,
        keys: &DictionaryArray<Int32Type>,
        into: &mut Vec<u32>,
    ) -> Result<()> {
        let values = dictionary::values_and_null(keys)?;
        let count = values.len();
        let mut numbers = Vec::new();
        self.find(&[values], count, &mut numbers)?;
        let places = places_of(keys.keys(), count - 1);
        into.extend(places.iter().map(|place| numbers.get(*place as usize).copied().unwrap_or(UNKNOWN)));
        Ok(())
    }

    /// Numbers the values of a dictionary that occur, each once for as long as the dictionary stays the same.
    pub(super) fn dictionary_numbers(
        &mut self,
        keys: &DictionaryArray<Int32Type>,
        into: &mut Vec<u32>,
    ) -> Result<()> {
        let values = keys.values();
        let mut known = match self.dictionary.take() {
            Some((of, known)) if Arc::ptr_eq(&of, values) => known,
            // Behind the values, null has its place.
            _ => vec![UNKNOWN; values.len() + 1],
        };
        let null = values.len();
        let codes = keys.keys();
        let places = places_of(codes, null);
        let number = |numbers: &[u32], place: i32| churn_kernels::known::known(numbers, place as usize);
        // Most batches bring no new value.
        let first = into.len();
        into.resize(first + places.len(), 0);
        let slots = into.iter_mut().skip(first);
        slots.zip(places.iter()).for_each(|(slot, place)| *slot = number(&known, *place));
        if into.get(first..).is_some_and(|numbers| !numbers.contains(&UNKNOWN)) {
            self.dictionary = Some((values.clone(), known));
            return Ok(());
        }
        into.truncate(first);
        let mut new: Vec<usize> = Vec::new();
        for place in places.iter().map(|place| *place as usize) {
            if let Some(slot) = known.get_mut(place).filter(|slot| **slot == UNKNOWN) {
                // Marked until it has a number of its own.
                *slot = UNKNOWN - 1;
                new.push(place);
            }
        }
        if !new.is_empty() {
            let places: UInt32Array = new.iter().map(|p| (*p < null).then_some(*p as u32)).collect();
            let texts = taken(values, &places)?;
            let mut numbers = Vec::new();
            self.numbers(&[texts], new.len(), &mut numbers)?;
            for (place, number) in new.into_iter().zip(numbers) {
                if let Some(slot) = known.get_mut(place) {
                    *slot = number;
                }
            }
        }
        into.extend(places.iter().map(|place| number(&known, *place)));
        self.dictionary = Some((values.clone(), known));
        Ok(())
    }
}
