//! Rows with equal keys get equal numbers, in order of first appearance.
//!
//! A single key that fits in 16 bytes is its own table key: a number, a day, a text of at most twelve bytes,
//! whose view holds it whole. Everything else goes by row keys, which compare as bytes. A table that meets its
//! first longer text changes over.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, Float64Array, PrimitiveArray, StringViewArray};
use arrow_buffer::{NullBuffer, ScalarBuffer};
use arrow_row::{RowConverter, SortField};
use churn_kernels::hash;
use hashbrown::HashTable;

use crate::error::Result;
use crate::expr::{Type, widen};

/// Numbers for keys.
pub(crate) struct KeyTable {
    kinds: Vec<Type>,
    table: HashTable<u32>,
    keys: Keys,
}

enum Keys {
    /// One key of at most 16 bytes.
    Packed(Vec<u128>),
    Rows {
        converter: RowConverter,
        bytes: Vec<u8>,
        ends: Vec<usize>,
    },
    /// No keys: all rows are one group.
    None(usize),
}

/// The packed form of null: no view and no number looks so.
const NULL: u128 = u128::MAX;

impl KeyTable {
    /// An empty table for keys of these types.
    pub(crate) fn new(kinds: Vec<Type>) -> Result<KeyTable> {
        let packs = |kind: &Type| {
            matches!(kind, Type::Int | Type::Float | Type::Date | Type::Time | Type::Timestamp | Type::Text)
        };
        let keys = match kinds.as_slice() {
            [] => Keys::None(0),
            [one] if packs(one) => Keys::Packed(Vec::new()),
            _ => rows_of(&kinds)?,
        };
        Ok(KeyTable { kinds, table: HashTable::new(), keys })
    }

    /// How many different keys there are.
    pub(crate) fn len(&self) -> usize {
        match &self.keys {
            Keys::Packed(keys) => keys.len(),
            Keys::Rows { ends, .. } => ends.len(),
            Keys::None(seen) => *seen,
        }
    }

    /// Bytes in use.
    pub(crate) fn memory(&self) -> usize {
        let keys = match &self.keys {
            Keys::Packed(keys) => keys.capacity() * 16,
            Keys::Rows { bytes, ends, .. } => bytes.capacity() + ends.capacity() * 8,
            Keys::None(_) => 0,
        };
        keys + self.table.capacity() * 5
    }

    /// Appends the number of each row's key.
    pub(crate) fn numbers(&mut self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        let keys = keys.iter().map(normal).collect::<Result<Vec<_>>>()?;
        into.reserve(rows);
        if let Keys::None(seen) = &mut self.keys {
            *seen = 1;
            into.extend(std::iter::repeat_n(0, rows));
            return Ok(());
        }
        if let (Keys::Packed(_), Some(key)) = (&self.keys, keys.first()) {
            match packed(key) {
                Some(packed) => {
                    self.packed_numbers(&packed, into);
                    return Ok(());
                }
                None => self.change_over()?,
            }
        }
        self.row_numbers(&keys, into)
    }

    fn packed_numbers(&mut self, packed: &[u128], into: &mut Vec<u32>) {
        let Keys::Packed(keys) = &mut self.keys else { return };
        for key in packed {
            let hashed = hash::of_u128(*key);
            let equal = |n: &u32| keys.get(*n as usize) == Some(key);
            let number = match self.table.find(hashed, equal) {
                Some(number) => *number,
                None => {
                    let number = keys.len() as u32;
                    keys.push(*key);
                    let rehash = |n: &u32| keys.get(*n as usize).map_or(0, |k| hash::of_u128(*k));
                    self.table.insert_unique(hashed, number, rehash);
                    number
                }
            };
            into.push(number);
        }
    }

    fn row_numbers(&mut self, arrays: &[ArrayRef], into: &mut Vec<u32>) -> Result<()> {
        let Keys::Rows { converter, bytes, ends } = &mut self.keys else { return Ok(()) };
        let rows = converter.convert_columns(arrays).map_err(crate::expr::arrow_error)?;
        for row in rows.iter() {
            let key = row.as_ref();
            let hashed = hash::of_bytes(key);
            let equal = |n: &u32| key_at(bytes, ends, *n) == key;
            let number = match self.table.find(hashed, equal) {
                Some(number) => *number,
                None => {
                    let number = ends.len() as u32;
                    bytes.extend_from_slice(key);
                    ends.push(bytes.len());
                    self.table.insert_unique(hashed, number, |n| hash::of_bytes(key_at(bytes, ends, *n)));
                    number
                }
            };
            into.push(number);
        }
        Ok(())
    }

    /// From packed keys to row keys; the numbers stay.
    fn change_over(&mut self) -> Result<()> {
        let known: Vec<u32> = (0..self.len() as u32).collect();
        let arrays = self.arrays(&known)?;
        self.keys = rows_of(&self.kinds)?;
        self.table = HashTable::new();
        self.row_numbers(&arrays, &mut Vec::new())
    }

    /// The keys with these numbers, as columns.
    pub(crate) fn arrays(&self, numbers: &[u32]) -> Result<Vec<ArrayRef>> {
        match &self.keys {
            Keys::None(_) => Ok(Vec::new()),
            Keys::Packed(keys) => {
                let kind = self.kinds.first().cloned().unwrap_or(Type::Int);
                let values = numbers.iter().map(|n| keys.get(*n as usize).copied().unwrap_or(NULL)).collect();
                Ok(vec![unpacked(values, &kind)])
            }
            Keys::Rows { converter, bytes, ends } => {
                let parser = converter.parser();
                let rows = numbers.iter().map(|n| parser.parse(key_at(bytes, ends, *n)));
                converter.convert_rows(rows).map_err(crate::expr::arrow_error)
            }
        }
    }
}

fn rows_of(kinds: &[Type]) -> Result<Keys> {
    let fields = kinds.iter().map(|k| SortField::new(k.arrow())).collect();
    let converter = RowConverter::new(fields).map_err(crate::expr::arrow_error)?;
    Ok(Keys::Rows { converter, bytes: Vec::new(), ends: Vec::new() })
}

fn key_at<'a>(bytes: &'a [u8], ends: &[usize], number: u32) -> &'a [u8] {
    let number = number as usize;
    let start = number.checked_sub(1).and_then(|n| ends.get(n)).copied().unwrap_or(0);
    bytes.get(start..ends.get(number).copied().unwrap_or(start)).unwrap_or_default()
}

/// The column as it is compared: wide types, one zero, one NaN.
pub(crate) fn normal(array: &ArrayRef) -> Result<ArrayRef> {
    let array = widen(array)?;
    Ok(match array.as_primitive_opt::<Float64Type>() {
        None => array,
        Some(floats) => {
            let one = |x: f64| if x.is_nan() { f64::NAN } else { x + 0.0 };
            Arc::new(floats.unary::<_, Float64Type>(one))
        }
    })
}

/// The 16 bytes of each key; `None` if a text does not fit in them.
fn packed(array: &ArrayRef) -> Option<Vec<u128>> {
    if let Some(texts) = array.as_string_view_opt() {
        let views = texts.views();
        if let Some(nulls) = texts.nulls() {
            let fits = |(row, view): (usize, &u128)| match (nulls.is_valid(row), *view as u32) {
                (false, _) => Some(NULL),
                (true, 0..=12) => Some(*view),
                _ => None,
            };
            return views.iter().enumerate().map(fits).collect();
        }
        return views.iter().all(|view| *view as u32 <= 12).then(|| views.to_vec());
    }
    let nulls = array.nulls().cloned();
    let bits = |values: &mut dyn Iterator<Item = u64>| {
        let valid = |row: usize| nulls.as_ref().is_none_or(|n| n.is_valid(row));
        Some(values.enumerate().map(|(row, v)| if valid(row) { u128::from(v) } else { NULL }).collect())
    };
    if let Some(a) = array.as_primitive_opt::<Int64Type>() {
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

fn unpacked(keys: Vec<u128>, kind: &Type) -> ArrayRef {
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

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(values: &[Option<&str>]) -> ArrayRef {
        Arc::new(StringViewArray::from(values.to_vec()))
    }

    #[test]
    fn numbers_stay_when_a_long_text_comes() -> Result<()> {
        let mut table = KeyTable::new(vec![Type::Text])?;
        let mut numbers = Vec::new();
        table.numbers(&[texts(&[Some("b"), None, Some("a"), Some("b")])], 4, &mut numbers)?;
        let long = "a text of more than twelve bytes";
        table.numbers(&[texts(&[Some(long), Some("a"), None, Some("")])], 4, &mut numbers)?;
        assert_eq!(numbers, [0, 1, 2, 0, 3, 2, 1, 4]);
        let keys = table.arrays(&[0, 1, 2, 3, 4])?;
        let keys: Vec<_> = keys.first().map(|k| k.as_string_view().iter().collect()).unwrap_or_default();
        assert_eq!(keys, [Some("b"), None, Some("a"), Some(long), Some("")]);
        Ok(())
    }

    #[test]
    fn one_zero_and_one_nan() -> Result<()> {
        let mut table = KeyTable::new(vec![Type::Float])?;
        let mut numbers = Vec::new();
        let floats: ArrayRef = Arc::new(Float64Array::from(vec![0.0, -0.0, f64::NAN, -f64::NAN, 1.0]));
        table.numbers(&[floats], 5, &mut numbers)?;
        assert_eq!(numbers, [0, 0, 1, 1, 2]);
        Ok(())
    }
}
