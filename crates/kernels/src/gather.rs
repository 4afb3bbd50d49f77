//! Rows taken from the parts of a column in any order.
//!
//! Parts are large and few, places random: each loop does one look-up of the part and one of the value, which
//! processors overlap with the next ones.

use std::sync::Arc;

use crate::known::{known, known_part};
use arrow_array::types::{ArrowPrimitiveType, Int32Type};
use arrow_array::{
    Array, ArrayRef, DictionaryArray, Int32Array, LargeBinaryArray, PrimitiveArray, StringViewArray,
};
use arrow_buffer::{Buffer, MutableBuffer, NullBuffer, OffsetBuffer, ScalarBuffer};

use crate::{memory, prefetch};

/// A row: the number of its part, and its number in there.
pub type Place = (u32, u32);

/// The values at some places.
pub fn primitives<T: ArrowPrimitiveType>(
    parts: &[&PrimitiveArray<T>],
    places: &[Place],
) -> PrimitiveArray<T> {
    let slices: Vec<&[T::Native]> = parts.iter().map(|p| p.values().as_ref()).collect();
    let value = |place: &Place| known(known(&slices, place.0 as usize), place.1 as usize);
    let values: Vec<T::Native> = places.iter().map(value).collect();
    let like = parts.first().map_or(T::DATA_TYPE, |p| p.data_type().clone());
    PrimitiveArray::new(values.into(), nulls(parts, places)).with_data_type(like)
}

/// The most bytes of a buffer of text: the offset in a view is a whole number of 32 bits with a sign.
const BUFFER_BYTES: usize = i32::MAX as usize;

/// The texts at some places; long ones are copied.
pub fn texts(parts: &[&StringViewArray], places: &[Place]) -> StringViewArray {
    texts_within(parts, places, BUFFER_BYTES)
}

/// As [`texts`], in buffers of so many bytes, or of one longer text.
fn texts_within(parts: &[&StringViewArray], places: &[Place], buffer_bytes: usize) -> StringViewArray {
    let slices: Vec<&[u128]> = parts.iter().map(|p| p.views().as_ref()).collect();
    let mut buffers: Vec<Buffer> = Vec::new();
    let mut own: Vec<u8> = Vec::new();
    let view = |place: &Place| {
        let view = known(known(&slices, place.0 as usize), place.1 as usize);
        if view as u32 <= 12 {
            return view;
        }
        let text = parts.get(place.0 as usize).map_or("", |p| p.value(place.1 as usize));
        if !own.is_empty() && own.len() + text.len() > buffer_bytes {
            buffers.push(Buffer::from_vec(std::mem::take(&mut own)));
        }
        let start = own.len();
        own.extend_from_slice(text.as_bytes());
        // Length and first bytes stay; buffer and offset are ours.
        view & u128::from(u64::MAX) | (buffers.len() as u128) << 64 | (start as u128) << 96
    };
    let views: Vec<u128> = places.iter().map(view).collect();
    if !own.is_empty() {
        buffers.push(Buffer::from_vec(own));
    }
    let buffers: Arc<[Buffer]> = Arc::from(buffers);
    // SAFETY: short views hold their texts themselves and are copied from a valid array or empty; long ones
    // point to whole texts of valid arrays that were copied to the buffer and offset that are written into them.
    unsafe { StringViewArray::new_unchecked(ScalarBuffer::from(views), buffers, nulls(parts, places)) }
}

/// Bytes that are copied at once.
const NEAR: usize = 64;

/// Appends the first `length` bytes of `from`: fastest where others stand behind them.
#[inline(always)]
pub fn push_near(from: &[u8], length: usize, into: &mut Vec<u8>) {
    match from.first_chunk::<NEAR>() {
        // Most lines are short: a copy of a fixed length has no loop in it, and what is too much is written over.
        Some(near) if length <= NEAR => {
            let before = into.len();
            into.extend_from_slice(near);
            into.truncate(before + length);
        }
        _ => into.extend_from_slice(from.get(..length).unwrap_or(from)),
    }
}

/// Rows that are looked up together.
const TOGETHER: usize = 128;

/// The bytes at some places, none of them null, copied one behind the other.
pub fn bytes(parts: &[&LargeBinaryArray], places: &[Place]) -> LargeBinaryArray {
    let slices: Vec<(&[i64], &[u8])> = parts.iter().map(|p| (p.value_offsets(), p.value_data())).collect();
    // From a row on, what can be copied at once, and how long it is.
    let row = |place: &Place| {
        let (offsets, data) = known(&slices, place.0 as usize);
        let at = |i: usize| known(offsets, i) as usize;
        let (start, end) = (at(place.1 as usize), at(place.1 as usize + 1));
        (known_part(data, start..), end - start)
    };
    let (rows, size) =
        parts.iter().fold((0, 0), |(rows, size), p| (rows + p.len(), size + p.value_data().len()));
    let mut data: Vec<u8> = memory::with_room(size * places.len() / rows.max(1) * 65 / 64 + NEAR);
    let mut ends: Vec<i64> = Vec::with_capacity(places.len() + 1);
    ends.push(0);
    let mut found: [(&[u8], usize); TOGETHER] = [(&[], 0); TOGETHER];
    for places in places.chunks(TOGETHER) {
        // First all looks at where rows start, then all at the rows, then the copies: none waits for another.
        for (found, place) in found.iter_mut().zip(places) {
            *found = row(place);
        }
        let found = &found[..places.len()];
        for (from, length) in found {
            prefetch::near(from, 0);
            prefetch::near(from, length.saturating_sub(1));
        }
        for (from, length) in found {
            push_near(from, *length, &mut data);
            ends.push(data.len() as i64);
        }
    }
    LargeBinaryArray::new(OffsetBuffer::new(ends.into()), Buffer::from_vec(data), None)
}

/// A column of numbers into a dictionary.
///
/// # Panics
/// A number that is not null is not one of a value.
pub fn coded(codes: Int32Array, values: ArrayRef) -> DictionaryArray<Int32Type> {
    // Those of nulls are held to it as well: to look at them takes longer.
    let largest = codes.values().iter().fold(0, |most, code| most.max(code.cast_unsigned()));
    if codes.is_empty() || (largest as usize) < values.len() {
        // SAFETY: each code is a place among the values, also none that is negative.
        return unsafe { DictionaryArray::new_unchecked(codes, values) };
    }
    DictionaryArray::new(codes, values)
}

/// Which of the rows are null.
fn nulls<A: Array>(parts: &[&A], places: &[Place]) -> Option<NullBuffer> {
    if parts.iter().all(|p| p.null_count() == 0) {
        return None;
    }
    let nulls: Vec<Option<&NullBuffer>> = parts.iter().map(|p| p.nulls()).collect();
    let valid = |place: &Place| {
        let part = nulls.get(place.0 as usize).copied().flatten();
        part.is_none_or(|n| n.is_valid(place.1 as usize))
    };
    let bits = MutableBuffer::collect_bool(places.len(), |i| places.get(i).is_none_or(valid));
    let nulls = NullBuffer::new(arrow_buffer::BooleanBuffer::new(bits.into(), 0, places.len()));
    (nulls.null_count() > 0).then_some(nulls)
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Int64Array;
    use arrow_array::types::Int64Type;

    #[test]
    fn values_and_nulls_from_their_places() {
        let (a, b) = (Int64Array::from(vec![Some(1), None]), Int64Array::from(vec![3, 4]));
        let taken = primitives::<Int64Type>(&[&a, &b], &[(1, 1), (0, 1), (0, 0)]);
        assert_eq!(taken, Int64Array::from(vec![Some(4), None, Some(1)]));
    }

    #[test]
    fn bytes_one_behind_the_other() {
        let a = LargeBinaryArray::from_iter_values([b"ab".as_slice(), b""]);
        let b = LargeBinaryArray::from_iter_values([b"cde"]);
        let taken = bytes(&[&a, &b], &[(1, 0), (0, 1), (0, 0)]);
        assert_eq!(taken, LargeBinaryArray::from_iter_values([b"cde".as_slice(), b"", b"ab"]));
    }

    #[test]
    fn numbers_name_values() {
        let values: ArrayRef = Arc::new(StringViewArray::from(vec!["a", "b"]));
        let coded = coded(Int32Array::from(vec![Some(1), None, Some(0)]), values);
        let texts =
            coded.downcast_dict::<StringViewArray>().map(|texts| texts.into_iter().collect::<Vec<_>>());
        assert_eq!(texts, Some(vec![Some("b"), None, Some("a")]));
    }

    #[test]
    #[should_panic(expected = "key")]
    fn a_number_of_no_value_is_refused() {
        coded(Int32Array::from(vec![0, 2]), Arc::new(Int64Array::from(vec![5, 6])));
    }

    /// Texts that take more than an offset can tell are copied to several buffers.
    #[test]
    fn texts_beyond_a_buffer() {
        let long = |n: usize| format!("a text of more than twelve bytes, number {n}");
        let a = StringViewArray::from((0..20).map(|n| (n % 5 != 4).then(|| long(n))).collect::<Vec<_>>());
        let places: Vec<Place> = (0..20).rev().map(|row| (0, row)).collect();
        for buffer_bytes in [1, 64, 100, 1000] {
            let taken = texts_within(&[&a], &places, buffer_bytes);
            let expected: Vec<Option<&str>> = a.iter().collect::<Vec<_>>().into_iter().rev().collect();
            assert_eq!(taken.iter().collect::<Vec<_>>(), expected, "{buffer_bytes} bytes a buffer");
            assert!(taken.data_buffers().iter().all(|buffer| buffer.len() <= buffer_bytes.max(50)));
        }
    }

    #[test]
    fn long_texts_are_copied() {
        let a = StringViewArray::from(vec!["short", "a text of more than twelve bytes"]);
        let b = StringViewArray::from(vec![None, Some("another one of more than twelve bytes"), Some("")]);
        let taken = texts(&[&a, &b], &[(1, 1), (0, 1), (1, 0), (0, 0), (1, 2)]);
        let expected = StringViewArray::from(vec![
            Some("another one of more than twelve bytes"),
            Some("a text of more than twelve bytes"),
            None,
            Some("short"),
            Some(""),
        ]);
        assert_eq!(taken, expected);
    }
}
