//! Keys as bytes: what a key of several columns, or of one that has no packed form of its own, is compared and kept by.
//!
//! Each part is a byte that tells how many bytes follow, and these; [`NULL_PART`] is null. So a part tells where it ends, and
//! two keys are equal where their bytes are. Whole numbers, times and decimals are written in as few bytes as they need,
//! their sign in the lowest bit; floats too, from their highest byte on, as most have few digits. A key of at most 16 bytes
//! is a number of 128 bits, zeros behind it: [`pack`].

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, StringViewArray};
use arrow_buffer::NullBuffer;
use churn_core::{Interval, Scalar, Type};
use churn_kernels::byte_numbering::ByteKeys;
use churn_kernels::hash::Seed;
use churn_kernels::known::{known, known_part};

/// Stands for null.
const NULL_PART: u8 = u8::MAX;

/// Stands before the four bytes of a greater number of bytes.
const LONG_PART: u8 = u8::MAX - 1;

/// The bytes of a packed key.
const PACKED: usize = 16;

/// A column of keys, to be encoded.
enum KeyPart<'a> {
    Text(&'a StringViewArray),
    /// Numbers of 64 bits, of which the leading zeros are not written.
    Words(Vec<u64>, Option<&'a NullBuffer>),
    Decimals(&'a [i128], Option<&'a NullBuffer>),
    /// Everything else, value by value.
    Other(&'a ArrayRef),
}

/// The sign in the lowest bit, so that small numbers have leading zeros.
fn zigzag(value: i64) -> u64 {
    (value << 1 ^ value >> 63).cast_unsigned()
}

fn unzigzag(word: u64) -> i64 {
    (word >> 1).cast_signed() ^ -(word & 1).cast_signed()
}

impl<'a> KeyPart<'a> {
    fn of(array: &'a ArrayRef) -> KeyPart<'a> {
        let nulls = array.nulls().filter(|nulls| nulls.null_count() > 0);
        let words = |values: &[i64]| KeyPart::Words(values.iter().copied().map(zigzag).collect(), nulls);
        if let Some(texts) = array.as_string_view_opt() {
            KeyPart::Text(texts)
        } else if let Some(a) = array.as_primitive_opt::<Int64Type>() {
            words(a.values())
        } else if let Some(a) = array.as_primitive_opt::<Date32Type>() {
            KeyPart::Words(a.values().iter().map(|day| zigzag(i64::from(*day))).collect(), nulls)
        } else if let Some(a) = array.as_primitive_opt::<Time64MicrosecondType>() {
            words(a.values())
        } else if let Some(a) = array.as_primitive_opt::<TimestampMicrosecondType>() {
            words(a.values())
        } else if let Some(a) = array.as_primitive_opt::<Float64Type>() {
            KeyPart::Words(a.values().iter().map(|x| x.to_bits().swap_bytes()).collect(), nulls)
        } else if let Some(a) = array.as_boolean_opt() {
            KeyPart::Words(a.values().iter().map(u64::from).collect(), nulls)
        } else if let Some(a) = array.as_primitive_opt::<Decimal128Type>() {
            KeyPart::Decimals(a.values(), nulls)
        } else {
            KeyPart::Other(array)
        }
    }

    /// Appends a row's part.
    fn write(&self, row: usize, out: &mut Vec<u8>) {
        let is_null = |nulls: &Option<&NullBuffer>| nulls.is_some_and(|nulls| nulls.is_null(row));
        match self {
            KeyPart::Text(texts) if texts.is_null(row) => out.push(NULL_PART),
            KeyPart::Text(texts) => write_bytes(texts.value(row).as_bytes(), out),
            KeyPart::Words(_, nulls) | KeyPart::Decimals(_, nulls) if is_null(nulls) => out.push(NULL_PART),
            KeyPart::Words(words, _) => write_number(u128::from(known(words, row)), out),
            KeyPart::Decimals(values, _) => write_decimal(known(values, row), out),
            KeyPart::Other(array) => write_scalar(&Scalar::from_array(array, row), out),
        }
    }

    /// Appends a part to each packed key; one that has no room for it is marked by a length past [`PACKED`].
    fn pack(&self, keys: &mut [u128], lengths: &mut [u8]) {
        let slots = keys.iter_mut().zip(lengths);
        let append = |(key, length): (&mut u128, &mut u8), part: u128, bytes: u32| {
            let end = u32::from(*length) + bytes;
            if end <= PACKED as u32 {
                *key |= part << (u32::from(*length) * 8);
                *length = end as u8;
            } else {
                *length = PACKED as u8 + 1;
            }
        };
        let null = (u128::from(NULL_PART), 1);
        let number = |word: u64| {
            let bytes = (u64::BITS - word.leading_zeros()).div_ceil(8);
            (u128::from(word) << 8 | u128::from(bytes), bytes + 1)
        };
        match self {
            KeyPart::Text(texts) => {
                let has_nulls = texts.null_count() > 0;
                for (row, (slot, view)) in slots.zip(texts.views().iter()).enumerate() {
                    let length = *view as u32;
                    let (part, bytes) = match length {
                        _ if has_nulls && texts.is_null(row) => null,
                        // The bytes of a short text stand in its view.
                        0..=12 => ((view >> 32) << 8 | u128::from(length), length + 1),
                        13..=15 => {
                            let mut part = [0; PACKED];
                            part[0] = length as u8;
                            let end = length as usize + 1;
                            part[1..end].copy_from_slice(texts.value(row).as_bytes());
                            (u128::from_le_bytes(part), length + 1)
                        }
                        _ => (0, PACKED as u32 + 1),
                    };
                    append(slot, part, bytes);
                }
            }
            KeyPart::Words(words, None) => slots.zip(words).for_each(|(slot, word)| {
                let (part, bytes) = number(*word);
                append(slot, part, bytes);
            }),
            KeyPart::Words(words, Some(nulls)) => {
                for (row, (slot, word)) in slots.zip(words).enumerate() {
                    let (part, bytes) = if nulls.is_null(row) { null } else { number(*word) };
                    append(slot, part, bytes);
                }
            }
            KeyPart::Decimals(..) | KeyPart::Other(_) => {
                let mut bytes = Vec::new();
                for (row, slot) in slots.enumerate() {
                    bytes.clear();
                    self.write(row, &mut bytes);
                    append(slot, padded(&bytes).unwrap_or(0), bytes.len() as u32);
                }
            }
        }
    }
}

fn write_bytes(bytes: &[u8], out: &mut Vec<u8>) {
    match u8::try_from(bytes.len()) {
        Ok(length) if length < LONG_PART => out.push(length),
        _ => {
            out.push(LONG_PART);
            out.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
        }
    }
    out.extend_from_slice(bytes);
}

fn write_number(number: u128, out: &mut Vec<u8>) {
    let length = (u128::BITS - number.leading_zeros()).div_ceil(8) as usize;
    write_bytes(known_part(&number.to_le_bytes(), ..length), out);
}

fn write_decimal(value: i128, out: &mut Vec<u8>) {
    write_number((value << 1 ^ value >> 127).cast_unsigned(), out);
}

fn write_scalar(value: &Scalar, out: &mut Vec<u8>) {
    match value {
        Scalar::Null => out.push(NULL_PART),
        Scalar::Interval(Interval { months, days, micros }) => {
            let parts = [months, days, micros].map(|part| part.to_le_bytes());
            write_bytes(parts.as_flattened(), out);
        }
        Scalar::Bool(value) => write_number(u128::from(*value), out),
        Scalar::Int(value) | Scalar::Time(value) | Scalar::Timestamp(value) => {
            write_number(u128::from(zigzag(*value)), out)
        }
        Scalar::Date(day) => write_number(u128::from(zigzag(i64::from(*day))), out),
        Scalar::Float(value) => write_number(u128::from(value.to_bits().swap_bytes()), out),
        Scalar::Decimal(value, ..) => write_decimal(*value, out),
        Scalar::Text(text) => write_bytes(text.as_bytes(), out),
        Scalar::Binary(bytes) => write_bytes(bytes, out),
        Scalar::List(values, _) => {
            let mut items = Vec::new();
            values.iter().for_each(|value| write_scalar(value, &mut items));
            write_bytes(&items, out);
        }
        _ => out.push(NULL_PART),
    }
}

/// A key of at most 16 bytes as a number, zeros behind it.
fn padded(key: &[u8]) -> Option<u128> {
    let mut bytes = [0; PACKED];
    bytes.get_mut(..key.len())?.copy_from_slice(key);
    Some(u128::from_le_bytes(bytes))
}

/// The packed keys of rows; `long` stands for those that are longer than 16 bytes. `None` if one is, and nothing stands for
/// it. No packed key is `u128::MAX` or the number before it: it would need 16 parts.
pub(super) fn pack(arrays: &[ArrayRef], rows: usize, long: Option<u128>) -> Option<Vec<u128>> {
    let (mut keys, mut lengths) = (vec![0u128; rows], vec![0u8; rows]);
    for array in arrays {
        KeyPart::of(array).pack(&mut keys, &mut lengths);
    }
    let is_long = |length: &u8| usize::from(*length) > PACKED;
    if lengths.iter().any(is_long) {
        let long = long?;
        keys.iter_mut().zip(&lengths).filter(|(_, length)| is_long(length)).for_each(|(key, _)| *key = long);
    }
    Some(keys)
}

/// The keys of rows as bytes.
pub(super) fn encode(arrays: &[ArrayRef], rows: usize) -> ByteKeys {
    let parts: Vec<KeyPart<'_>> = arrays.iter().map(KeyPart::of).collect();
    let mut keys = ByteKeys::with_capacity(rows, rows * parts.len() * 8);
    for row in 0..rows {
        keys.push_with(|out| parts.iter().for_each(|part| part.write(row, out)));
    }
    keys
}

/// The hash of a key, the same for its packed form: see [`Seed::of_u128`].
pub(super) fn hash_of(key: &[u8], seed: Seed) -> u64 {
    padded(key).map_or_else(|| seed.of_bytes(key), |packed| seed.of_u128(packed))
}

/// Takes the next part off a key: its bytes, none of null.
pub(super) fn part<'a>(key: &mut &'a [u8]) -> Option<&'a [u8]> {
    let (tag, rest) = key.split_first()?;
    let (length, rest) = match *tag {
        NULL_PART => (None, rest),
        LONG_PART => {
            let (length, rest) = rest.split_first_chunk::<4>()?;
            (Some(u32::from_le_bytes(*length) as usize), rest)
        }
        length => (Some(usize::from(length)), rest),
    };
    let (bytes, rest) = rest.split_at_checked(length.unwrap_or(0))?;
    *key = rest;
    length.map(|_| bytes)
}

/// Whether one of so many parts of a key is null.
pub(super) fn has_null(mut key: &[u8], parts: usize) -> bool {
    (0..parts).any(|_| part(&mut key).is_none())
}

/// A packed key of so many parts as bytes, without the zeros behind it.
pub(super) fn unpacked(key: u128, parts: usize) -> ([u8; PACKED], usize) {
    let bytes = key.to_le_bytes();
    let mut rest = bytes.as_slice();
    for _ in 0..parts {
        part(&mut rest);
    }
    (bytes, PACKED - rest.len())
}

/// The number that the bytes of a part are.
pub(super) fn number(bytes: &[u8]) -> u128 {
    padded(bytes).unwrap_or(0)
}

/// The whole number that the bytes of a part are.
pub(super) fn whole(bytes: &[u8]) -> i64 {
    unzigzag(number(bytes) as u64)
}

/// The decimal that the bytes of a part are, in units of its last digit.
pub(super) fn decimal(bytes: &[u8]) -> i128 {
    let word = number(bytes);
    (word >> 1).cast_signed() ^ -(word & 1).cast_signed()
}

/// The float that the bytes of a part are.
pub(super) fn float(bytes: &[u8]) -> f64 {
    f64::from_bits((number(bytes) as u64).swap_bytes())
}

/// The value of a type that the bytes of a part are; null for none.
pub(super) fn scalar(bytes: Option<&[u8]>, kind: &Type) -> Scalar {
    let Some(bytes) = bytes else { return Scalar::Null };
    match kind {
        Type::Bool => Scalar::Bool(!bytes.is_empty()),
        Type::Int => Scalar::Int(whole(bytes)),
        Type::Time => Scalar::Time(whole(bytes)),
        Type::Timestamp => Scalar::Timestamp(whole(bytes)),
        Type::Date => Scalar::Date(whole(bytes) as i32),
        Type::Float => Scalar::Float(float(bytes)),
        Type::Decimal(precision, scale) => Scalar::Decimal(decimal(bytes), *precision, *scale),
        Type::Text => Scalar::Text(String::from_utf8_lossy(bytes).into_owned()),
        Type::Binary => Scalar::Binary(bytes.to_vec()),
        Type::List(item) => {
            let (mut rest, mut values) = (bytes, Vec::new());
            while !rest.is_empty() {
                values.push(scalar(part(&mut rest), item));
            }
            Scalar::List(values, (**item).clone())
        }
        Type::Interval => {
            let mut parts = bytes.chunks_exact(8).map(|part| part.try_into().map_or(0, i64::from_le_bytes));
            let mut next = || parts.next().unwrap_or(0);
            Scalar::Interval(Interval { months: next(), days: next(), micros: next() })
        }
        Type::Null | Type::Unknown => Scalar::Null,
    }
}
