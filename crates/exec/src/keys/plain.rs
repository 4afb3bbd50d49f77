//! The packed form of one key that fits in 16 bytes as it is: a number, a day, a text of at most twelve bytes, whose view
//! holds it whole.

use std::borrow::Cow;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, Float64Array, PrimitiveArray, StringViewArray};
use arrow_buffer::{NullBuffer, ScalarBuffer};
use churn_core::Type;
use churn_kernels::hash::Seed;

use super::NULL;

/// Whether keys of this type have such a form.
pub(super) fn packs(kind: &Type) -> bool {
    kind.is_temporal() || matches!(kind, Type::Bool | Type::Int | Type::Float | Type::Text)
}

/// The hash of a text's key, or of null, the same for its packed form.
pub(super) fn hash_of_text(text: Option<&[u8]>, seed: Seed) -> u64 {
    let Some(text) = text else { return seed.of_u128(NULL) };
    let mut view = [0; 16];
    match view.get_mut(4..4 + text.len()) {
        Some(place) => {
            place.copy_from_slice(text);
            seed.of_u128(u128::from_le_bytes(view) | text.len() as u128)
        }
        None => seed.of_bytes(text),
    }
}

/// The 16 bytes of each key, or what stands for texts that do not fit in them; `None` if nothing does.
pub(super) fn pack(array: &ArrayRef, long: Option<u128>) -> Option<Cow<'_, [u128]>> {
    if let Some(texts) = array.as_string_view_opt() {
        let views = texts.views();
        // What holds no other bytes has short texts alone.
        let are_short = texts.data_buffers().is_empty() || views.iter().all(|view| *view as u32 <= 12);
        if texts.null_count() == 0 && are_short {
            return Some(Cow::Borrowed(views));
        }
        let fits = |(row, view): (usize, &u128)| match (texts.is_valid(row), *view as u32) {
            (false, _) => Some(NULL),
            (true, 0..=12) => Some(*view),
            _ => long,
        };
        return views.iter().enumerate().map(fits).collect();
    }
    let nulls = array.nulls().cloned();
    let bits = |values: &mut dyn Iterator<Item = u64>| {
        let valid = |row: usize| nulls.as_ref().is_none_or(|n| n.is_valid(row));
        Some(values.enumerate().map(|(row, v)| if valid(row) { u128::from(v) } else { NULL }).collect())
    };
    if let Some(a) = array.as_boolean_opt() {
        bits(&mut a.values().iter().map(u64::from))
    } else if let Some(a) = array.as_primitive_opt::<Int64Type>() {
        bits(&mut a.values().iter().map(|v| v.cast_unsigned()))
    } else if let Some(a) = array.as_primitive_opt::<Float64Type>() {
        bits(&mut a.values().iter().map(|v| v.to_bits()))
    } else if let Some(a) = array.as_primitive_opt::<Date32Type>() {
        bits(&mut a.values().iter().map(|v| u64::from(v.cast_unsigned())))
    } else if let Some(a) = array.as_primitive_opt::<Time64MicrosecondType>() {
        bits(&mut a.values().iter().map(|v| v.cast_unsigned()))
    } else if let Some(a) = array.as_primitive_opt::<TimestampMicrosecondType>() {
        bits(&mut a.values().iter().map(|v| v.cast_unsigned()))
    } else {
        None
    }
}

/// The column of packed keys.
pub(super) fn unpack(keys: Vec<u128>, kind: &Type) -> ArrayRef {
    let nulls = NullBuffer::from_iter(keys.iter().map(|k| *k != NULL));
    let nulls = (nulls.null_count() > 0).then_some(nulls);
    fn of<T: ArrowPrimitiveType>(
        keys: &[u128],
        nulls: Option<NullBuffer>,
        f: impl Fn(u64) -> T::Native,
    ) -> ArrayRef {
        let values: Vec<T::Native> = keys.iter().map(|k| f(*k as u64)).collect();
        Arc::new(PrimitiveArray::<T>::new(values.into(), nulls))
    }
    match kind {
        Type::Bool => {
            let values = arrow_buffer::BooleanBuffer::from_iter(keys.iter().map(|k| *k == 1));
            Arc::new(arrow_array::BooleanArray::new(values, nulls))
        }
        Type::Float => {
            let values: Vec<f64> = keys.iter().map(|k| f64::from_bits(*k as u64)).collect();
            Arc::new(Float64Array::new(values.into(), nulls))
        }
        Type::Date => of::<Date32Type>(&keys, nulls, |v| (v as u32).cast_signed()),
        Type::Time => of::<Time64MicrosecondType>(&keys, nulls, u64::cast_signed),
        Type::Timestamp => of::<TimestampMicrosecondType>(&keys, nulls, u64::cast_signed),
        Type::Text => {
            let views = keys.into_iter().map(|k| if k == NULL { 0 } else { k }).collect::<Vec<_>>();
            match StringViewArray::try_new(
                ScalarBuffer::from(views),
                Vec::<arrow_buffer::Buffer>::new(),
                nulls,
            ) {
                Ok(texts) => Arc::new(texts),
                Err(_) => Arc::new(StringViewArray::new_null(0)),
            }
        }
        _ => of::<Int64Type>(&keys, nulls, u64::cast_signed),
    }
}
