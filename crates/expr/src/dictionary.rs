//! Columns of numbers into a dictionary: what is worked out once for each of its values, handed to the rows.

use std::borrow::Cow;

use arrow_array::cast::AsArray;
use arrow_array::types::Int32Type;
use arrow_array::{
    AnyDictionaryArray, Array, ArrayRef, BooleanArray, Int32Array, PrimitiveArray, new_null_array,
};
use arrow_buffer::{BooleanBuffer, Buffer, NullBuffer};
use churn_core::widen::widen;
use churn_core::{Result, arrow_error, taken};
use churn_kernels::columns;

/// The values of a dictionary, null behind them, in the type that they are computed in.
pub fn values_and_null(dictionary: &dyn AnyDictionaryArray) -> Result<ArrayRef> {
    let null = new_null_array(dictionary.values().data_type(), 1);
    widen(&arrow_select::concat::concat(&[dictionary.values(), &null]).map_err(arrow_error)?)
}

/// The place of each row's value in a dictionary of so many; the place behind them for a row without one.
pub fn places_of(codes: &PrimitiveArray<Int32Type>, values: usize) -> Cow<'_, [i32]> {
    let Some(nulls) = codes.nulls().filter(|nulls| nulls.null_count() > 0) else {
        return Cow::Borrowed(codes.values());
    };
    let mut places = codes.values().to_vec();
    let valid = nulls.inner().bit_chunks();
    for (places, valid) in places.chunks_mut(64).zip(valid.iter_padded()) {
        // Most of them have no null.
        if valid != u64::MAX {
            let lacking = places.iter_mut().enumerate().filter(|(i, _)| valid >> i & 1 == 0);
            lacking.for_each(|(_, place)| *place = values as i32);
        }
    }
    Cow::Owned(places)
}

/// The results of [`values_and_null`], each at the rows that have its value.
pub(crate) fn at_rows(results: &ArrayRef, dictionary: &dyn AnyDictionaryArray) -> Result<ArrayRef> {
    let (keys, values) = (dictionary.keys(), dictionary.values().len());
    let places = match keys.as_primitive_opt::<Int32Type>() {
        Some(codes) => places_of(codes, values),
        None => {
            let place = |(row, key): (usize, &usize)| (if keys.is_null(row) { values } else { *key }) as i32;
            dictionary.normalized_keys().iter().enumerate().map(place).collect()
        }
    };
    match results.as_boolean_opt() {
        Some(results) => {
            let may_be_null = keys.null_count() > 0 || results.slice(0, values).null_count() > 0;
            Ok(std::sync::Arc::new(truth_at(results, &places, may_be_null)))
        }
        None => taken(results, &Int32Array::from(places.into_owned())),
    }
}

/// Truth at places; no branch on any.
fn truth_at(results: &BooleanArray, places: &[i32], may_be_null: bool) -> BooleanArray {
    let bits = |marks: Vec<bool>| {
        let is_marked = |place: i32| marks.get(place as usize).copied().unwrap_or(false);
        BooleanBuffer::new(Buffer::from_vec(columns::test(places, is_marked)), 0, places.len())
    };
    let is_valid = |place: usize| results.is_valid(place);
    let truth = bits((0..results.len()).map(|place| is_valid(place) && results.value(place)).collect());
    let valid = may_be_null.then(|| NullBuffer::new(bits((0..results.len()).map(is_valid).collect())));
    BooleanArray::new(truth, valid.filter(|valid| valid.null_count() > 0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::types::Int8Type;
    use arrow_array::{DictionaryArray, Int64Array};
    use std::sync::Arc;

    #[test]
    fn what_is_worked_out_for_values_comes_to_their_rows() -> Result<()> {
        let texts = [Some("A"), None, Some("B"), Some("C"), Some("A")];
        let wide: DictionaryArray<Int32Type> = texts.into_iter().collect();
        let narrow: DictionaryArray<Int8Type> = texts.into_iter().collect();
        for dictionary in [&wide as &dyn AnyDictionaryArray, &narrow] {
            assert_eq!(values_and_null(dictionary)?.len(), 4);
            let numbers: ArrayRef = Arc::new(Int64Array::from(vec![Some(1), Some(2), None, Some(9)]));
            let expected = Int64Array::from(vec![Some(1), Some(9), Some(2), None, Some(1)]);
            assert_eq!(at_rows(&numbers, dictionary)?.as_ref(), &expected as &dyn Array);
            let truth: ArrayRef =
                Arc::new(BooleanArray::from(vec![Some(true), Some(false), None, Some(true)]));
            let expected = BooleanArray::from(vec![Some(true), Some(true), Some(false), None, Some(true)]);
            assert_eq!(at_rows(&truth, dictionary)?.as_ref(), &expected as &dyn Array);
        }
        Ok(())
    }
}
