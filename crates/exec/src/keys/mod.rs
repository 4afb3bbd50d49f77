//! Rows with equal keys get equal numbers, in order of first appearance.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `plain` | one key that fits in 16 bytes as it is |
//! | `encoding`, `decoding` | all other keys as bytes, and in 16 bytes where they fit; and back |
//! | `joint` | a few keys numbered each by itself, and their numbers together |
//! | `known` | keys that stand close together, and keys into a dictionary |
//! | `list` | keys that go from one table to another |
//!
//! A table keeps keys of 16 bytes until it meets the first that does not fit, and then changes over to bytes; the numbers
//! stay.

mod decoding;
mod encoding;
mod joint;
mod known;
mod list;
mod plain;
#[cfg(test)]
mod tests;

use std::borrow::Cow;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, Float64Type, Int32Type, Int64Type};
use arrow_array::{Array, ArrayRef};
use churn_core::widen::widen;
use churn_core::{Result, Type};
use churn_kernels::byte_numbering::{ByteKeys, ByteNumbering};
use churn_kernels::dense::Dense;
use churn_kernels::hash::Seed;
use churn_kernels::known::known;
use churn_kernels::numbering::Numbering;

use decoding::Decoder;
pub(crate) use list::KeyList;

/// Numbers for keys.
pub(crate) struct KeyTable {
    kinds: Vec<Type>,
    /// Whether it is one key, packed as it is.
    is_plain: bool,
    keys: TableKeys,
    /// The last dictionary, and the numbers of its values that are known.
    dictionary: Option<(ArrayRef, Vec<u32>)>,
    /// The numbers of keys that stand close together, until some are too far apart.
    dense: Option<Dense>,
    /// Where the numbers of each part stand in a dense key of joint keys.
    shifts: Vec<u32>,
}

enum TableKeys {
    /// Keys of at most 16 bytes.
    Packed(Numbering),
    /// Keys of any length.
    Bytes(ByteNumbering),
    /// A few keys, each numbered by a table of its own; their numbers together are one key of 16 bytes.
    Joint { parts: Vec<KeyTable>, numbering: Numbering },
    /// No keys: all rows are one group.
    None(usize),
}

impl TableKeys {
    fn len(&self) -> usize {
        match self {
            TableKeys::Packed(keys) | TableKeys::Joint { numbering: keys, .. } => keys.keys().len(),
            TableKeys::Bytes(keys) => keys.keys().len(),
            TableKeys::None(seen) => *seen,
        }
    }

    fn memory(&self) -> usize {
        match self {
            TableKeys::Packed(keys) => keys.memory(),
            TableKeys::Bytes(keys) => keys.memory(),
            TableKeys::Joint { parts, numbering } => {
                numbering.memory() + parts.iter().map(KeyTable::memory).sum::<usize>()
            }
            TableKeys::None(_) => 0,
        }
    }
}

/// The packed form of null in a plain key: no view and no number looks so.
const NULL: u128 = u128::MAX;

/// The packed form of a key that is too long to be packed, where it is only looked for.
const LONG: u128 = u128::MAX - 1;

/// Keys that are numbered apart and together, at most.
const MOST_JOINT: usize = 4;

/// The number of a key that a table does not have.
pub(crate) const UNKNOWN: u32 = u32::MAX;

impl KeyTable {
    /// An empty table for keys of these types.
    pub(crate) fn new(kinds: Vec<Type>) -> KeyTable {
        let is_joint = (2..=MOST_JOINT).contains(&kinds.len()) && kinds.iter().all(plain::packs);
        if !is_joint {
            return KeyTable::of_many(kinds);
        }
        let parts = kinds.iter().map(|kind| KeyTable::of_many(vec![kind.clone()])).collect();
        let keys = TableKeys::Joint { parts, numbering: Numbering::default() };
        KeyTable { keys, ..KeyTable::of_many(kinds) }
    }

    /// An empty table for keys of these types, of which there will be many.
    pub(crate) fn of_many(kinds: Vec<Type>) -> KeyTable {
        let keys = match kinds.as_slice() {
            [] => TableKeys::None(0),
            _ => TableKeys::Packed(Numbering::default()),
        };
        KeyTable {
            is_plain: matches!(kinds.as_slice(), [one] if plain::packs(one)),
            kinds,
            keys,
            dictionary: None,
            dense: Some(Dense::default()),
            shifts: Vec::new(),
        }
    }

    /// How many different keys there are.
    pub(crate) fn len(&self) -> usize {
        self.keys.len()
    }

    /// How many keys are null, or have a part that is.
    pub(crate) fn null_keys(&self) -> usize {
        self.are_null().into_iter().filter(|is_null| *is_null).count()
    }

    /// Of each key, whether it is null or has a part that is.
    fn are_null(&self) -> Vec<bool> {
        let parts = self.kinds.len();
        match &self.keys {
            TableKeys::None(_) => Vec::new(),
            TableKeys::Packed(own) if self.is_plain => own.keys().iter().map(|key| *key == NULL).collect(),
            TableKeys::Packed(own) => {
                own.keys().iter().map(|key| encoding::has_null(&key.to_le_bytes(), parts)).collect()
            }
            TableKeys::Bytes(own) => own.keys().iter().map(|key| encoding::has_null(key, parts)).collect(),
            TableKeys::Joint { parts, numbering } => {
                let parts: Vec<Vec<bool>> = parts.iter().map(KeyTable::are_null).collect();
                let is_null = |key: &u128| {
                    let numbers = (0..).map(|i| (key >> (32 * i)) as u32 as usize);
                    parts.iter().zip(numbers).any(|(part, number)| known(part, number))
                };
                numbering.keys().iter().map(is_null).collect()
            }
        }
    }

    /// Bytes in use.
    pub(crate) fn memory(&self) -> usize {
        self.keys.memory() + self.dense.as_ref().map_or(0, Dense::memory)
    }

    /// Appends the number of each row's key.
    pub(crate) fn numbers(&mut self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        if let [key] = keys
            && let Some(dictionary) = key.as_dictionary_opt::<Int32Type>()
            && dictionary.values().len() <= 1 << 16
        {
            return self.dictionary_numbers(dictionary, into);
        }
        if let TableKeys::Joint { .. } = self.keys {
            return self.joint_numbers(keys, rows, into);
        }
        let otherwise = |table: &mut Self, into: &mut Vec<u32>| table.any_numbers(keys, rows, into);
        let whole = keys.first().filter(|key| keys.len() == 1 && key.null_count() == 0);
        if let Some(ints) = whole.and_then(|key| key.as_primitive_opt::<Int64Type>()) {
            return self.near_numbers(ints.values(), into, otherwise);
        }
        if let Some(days) = whole.and_then(|key| key.as_primitive_opt::<Date32Type>()) {
            return self.near_numbers(days.values(), into, otherwise);
        }
        otherwise(self, into)
    }

    fn any_numbers(&mut self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        let keys = keys.iter().map(normal).collect::<Result<Vec<_>>>()?;
        if let TableKeys::None(seen) = &mut self.keys {
            *seen = 1;
            into.extend(std::iter::repeat_n(0, rows));
            return Ok(());
        }
        if let TableKeys::Packed(_) = &self.keys {
            match self.packed(&keys, rows, None) {
                Some(packed) => {
                    if let TableKeys::Packed(own) = &mut self.keys {
                        own.number(&packed, into);
                    }
                    return Ok(());
                }
                None => self.change_over()?,
            }
        }
        self.byte_numbers(&encoding::encode(&keys, rows), into);
        Ok(())
    }

    /// The packed form of each key, or `long` of those that have none; `None` if one has none, and nothing stands for it.
    fn packed<'a>(&self, keys: &'a [ArrayRef], rows: usize, long: Option<u128>) -> Option<Cow<'a, [u128]>> {
        match keys {
            [key] if self.is_plain => plain::pack(key, long),
            keys => encoding::pack(keys, rows, long).map(Cow::Owned),
        }
    }

    /// Appends the number of each row's key if the table has it, else [`UNKNOWN`].
    pub(crate) fn find(&self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        if let [key] = keys
            && let Some(dictionary) = key.as_dictionary_opt::<Int32Type>()
            && dictionary.values().len() <= rows
        {
            return self.find_in_dictionary(dictionary, into);
        }
        match &self.keys {
            TableKeys::Joint { .. } => return self.find_joint(keys, rows, into),
            TableKeys::None(seen) => {
                into.extend(std::iter::repeat_n(if *seen > 0 { 0 } else { UNKNOWN }, rows));
                return Ok(());
            }
            _ => {}
        }
        let keys = keys.iter().map(normal).collect::<Result<Vec<_>>>()?;
        match &self.keys {
            TableKeys::Packed(own) => {
                own.find_all(&self.packed(&keys, rows, Some(LONG)).unwrap_or_default(), into);
            }
            TableKeys::Bytes(own) => {
                let keys = encoding::encode(&keys, rows);
                own.find_all(&keys, &self.hashes_of(&keys), into);
            }
            TableKeys::Joint { .. } | TableKeys::None(_) => {}
        }
        Ok(())
    }

    /// Appends the number of each of these keys, in a table of bytes.
    fn byte_numbers(&mut self, keys: &ByteKeys, into: &mut Vec<u32>) {
        let hashes = self.hashes_of(keys);
        if let TableKeys::Bytes(own) = &mut self.keys {
            own.number(keys, &hashes, into);
        }
    }

    /// The hash of each of these keys, for the tables of this process.
    fn hashes_of(&self, keys: &ByteKeys) -> Vec<u64> {
        let seed = Seed::of_process();
        keys.iter().map(|key| self.hash_of(key, seed)).collect()
    }

    /// A numbering of different keys, in this order.
    fn numbered(&self, keys: &ByteKeys) -> ByteNumbering {
        let mut numbering = ByteNumbering::default();
        numbering.number(keys, &self.hashes_of(keys), &mut Vec::with_capacity(keys.len()));
        numbering
    }

    /// Packed keys as bytes.
    fn bytes_of(&self, keys: &[u128]) -> Result<ByteKeys> {
        if let (true, Some(kind)) = (self.is_plain, self.kinds.first()) {
            return Ok(encoding::encode(&[plain::unpack(keys.to_vec(), kind)], keys.len()));
        }
        let mut list = ByteKeys::with_capacity(keys.len(), 0);
        for key in keys {
            let (bytes, length) = encoding::unpacked(*key, self.kinds.len());
            list.push(bytes.get(..length).unwrap_or_default());
        }
        Ok(list)
    }

    /// Makes room for so many keys.
    pub(crate) fn reserve(&mut self, keys: usize) {
        if let TableKeys::Packed(own) = &mut self.keys {
            own.reserve(keys);
        }
    }

    /// From packed keys to bytes; the numbers stay.
    fn change_over(&mut self) -> Result<()> {
        if let TableKeys::Packed(own) = &self.keys {
            self.keys = TableKeys::Bytes(self.numbered(&self.bytes_of(own.keys())?));
        }
        Ok(())
    }

    /// The keys with these numbers, as columns.
    pub(crate) fn arrays(&self, numbers: &[u32]) -> Result<Vec<ArrayRef>> {
        let mut decoder = Decoder::new(&self.kinds, numbers.len());
        match &self.keys {
            TableKeys::None(_) => return Ok(Vec::new()),
            TableKeys::Joint { parts, numbering } => {
                let mut columns = Vec::with_capacity(parts.len());
                for (i, part) in parts.iter().enumerate() {
                    let number =
                        |n: &u32| numbering.keys().get(*n as usize).map_or(0, |key| (key >> (32 * i)) as u32);
                    columns.extend(part.arrays(&numbers.iter().map(number).collect::<Vec<u32>>())?);
                }
                return Ok(columns);
            }
            TableKeys::Packed(keys) => {
                let key = |n: &u32| keys.keys().get(*n as usize).copied();
                if let (true, Some(kind)) = (self.is_plain, self.kinds.first()) {
                    let values = numbers.iter().map(|n| key(n).unwrap_or(NULL)).collect();
                    return Ok(vec![plain::unpack(values, kind)]);
                }
                numbers.iter().filter_map(key).for_each(|key| decoder.push(&key.to_le_bytes()));
            }
            TableKeys::Bytes(keys) => {
                numbers.iter().for_each(|number| decoder.push(keys.keys().get(*number as usize)));
            }
        }
        Ok(decoder.finish())
    }
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
