//! Rows with equal keys get equal numbers, in order of first appearance.
//!
//! A single key that fits in 16 bytes is its own table key: a number, a day, a text of at most twelve bytes,
//! whose view holds it whole. Everything else goes by row keys, which compare as bytes. A table that meets its
//! first longer text changes over. A few such keys are numbered each by itself, and their numbers together.

use std::borrow::Cow;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Float64Type, Int32Type, Int64Type, Time64MicrosecondType,
    TimestampMicrosecondType,
};
use arrow_array::{
    Array, ArrayRef, DictionaryArray, Float64Array, PrimitiveArray, StringViewArray, UInt32Array,
};
use arrow_buffer::{NullBuffer, ScalarBuffer};
use arrow_row::{RowConverter, SortField};
use churn_core::widen::widen;
use churn_core::{Result, Type, taken};
use churn_expr::dictionary::{self, places_of};
use churn_kernels::dense::Dense;
use churn_kernels::hash;
use churn_kernels::numbering::Numbering;
use hashbrown::HashTable;

/// Numbers for keys.
pub(crate) struct KeyTable {
    kinds: Vec<Type>,
    table: HashTable<u32>,
    keys: TableKeys,
    /// Once keys are rows.
    converter: Option<RowConverter>,
    /// The last dictionary, and the numbers of its values that are known.
    dictionary: Option<(ArrayRef, Vec<u32>)>,
    /// The numbers of keys that stand close together, until some are too far apart.
    dense: Option<Dense>,
    /// Where the numbers of each part stand in a dense key of joint keys.
    shifts: Vec<u32>,
}

/// Different keys in order, without the way to find one.
pub(crate) enum KeyList {
    Packed(Vec<u128>),
    Rows { bytes: Vec<u8>, ends: Vec<usize> },
    None(usize),
}

enum TableKeys {
    /// One key of at most 16 bytes.
    Packed(Numbering),
    Rows {
        bytes: Vec<u8>,
        ends: Vec<usize>,
    },
    /// A few keys, each numbered by a table of its own; their numbers together are one key of 16 bytes.
    Joint {
        parts: Vec<KeyTable>,
        numbering: Numbering,
    },
    /// No keys: all rows are one group.
    None(usize),
}

impl TableKeys {
    fn len(&self) -> usize {
        match self {
            TableKeys::Packed(keys) | TableKeys::Joint { numbering: keys, .. } => keys.keys().len(),
            TableKeys::Rows { ends, .. } => ends.len(),
            TableKeys::None(seen) => *seen,
        }
    }

    fn memory(&self) -> usize {
        match self {
            TableKeys::Packed(keys) => keys.memory(),
            TableKeys::Rows { bytes, ends } => bytes.capacity() + ends.capacity() * 8,
            TableKeys::Joint { parts, numbering } => {
                numbering.memory() + parts.iter().map(KeyTable::memory).sum::<usize>()
            }
            TableKeys::None(_) => 0,
        }
    }
}

/// The packed form of null: no view and no number looks so.
const NULL: u128 = u128::MAX;

/// The packed form of a text that is too long to be packed, where it is only looked for.
const LONG: u128 = u128::MAX - 1;

/// Keys that are numbered apart and together, at most.
const MOST_JOINT: usize = 4;

/// Joint keys past which a table changes over to row keys.
const MANY_JOINT: usize = 1 << 17;

/// The number of a key that a table does not have.
pub(crate) const UNKNOWN: u32 = u32::MAX;

impl KeyTable {
    /// An empty table for keys of these types.
    pub(crate) fn new(kinds: Vec<Type>) -> Result<KeyTable> {
        let packs = |kind: &Type| {
            kind.is_temporal() || matches!(kind, Type::Bool | Type::Int | Type::Float | Type::Text)
        };
        let mut converter = None;
        let keys = match kinds.as_slice() {
            [] => TableKeys::None(0),
            [one] if packs(one) => TableKeys::Packed(Numbering::default()),
            few if few.len() <= MOST_JOINT && few.iter().all(packs) => {
                let part = |kind: &Type| KeyTable::new(vec![kind.clone()]);
                TableKeys::Joint {
                    parts: few.iter().map(part).collect::<Result<_>>()?,
                    numbering: Numbering::default(),
                }
            }
            _ => {
                converter = Some(converter_of(&kinds)?);
                TableKeys::Rows { bytes: Vec::new(), ends: Vec::new() }
            }
        };
        Ok(KeyTable {
            kinds,
            table: HashTable::new(),
            keys,
            converter,
            dictionary: None,
            dense: Some(Dense::default()),
            shifts: Vec::new(),
        })
    }

    /// How many different keys there are.
    pub(crate) fn len(&self) -> usize {
        self.keys.len()
    }

    /// Bytes in use.
    pub(crate) fn memory(&self) -> usize {
        self.keys.memory() + self.table.capacity() * 5 + self.dense.as_ref().map_or(0, Dense::memory)
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

    /// Looks keys up that stand close together; those that are new or far apart go the way that is given.
    fn near_numbers<K: Copy + Ord + Into<i64>>(
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

    /// Numbers each key by itself, and their numbers together.
    fn joint_numbers(&mut self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        let TableKeys::Joint { parts, .. } = &mut self.keys else { return Ok(()) };
        let (mut numbers, mut shifts, mut shift) = (Vec::with_capacity(parts.len()), Vec::new(), 0);
        for (part, key) in parts.iter_mut().zip(keys) {
            let mut own = Vec::with_capacity(rows);
            part.numbers(std::slice::from_ref(key), rows, &mut own)?;
            numbers.push(own);
            shifts.push(shift);
            shift += usize::BITS - part.len().leading_zeros();
        }
        if shifts != self.shifts {
            self.shifts = shifts;
            self.dense.iter_mut().for_each(Dense::clear);
        }
        let mut near =
            if shift < u32::BITS { numbers.first().cloned().unwrap_or_default() } else { Vec::new() };
        for (own, shift) in numbers.iter().zip(&self.shifts).skip(1) {
            near.iter_mut().zip(own).for_each(|(key, number)| *key |= number << shift);
        }
        let otherwise = |table: &mut Self, into: &mut Vec<u32>| {
            let TableKeys::Joint { numbering, .. } = &mut table.keys else { return Ok(()) };
            let mut joint = vec![0u128; rows];
            numbers.iter().enumerate().for_each(|(part, own)| join(&mut joint, own, part));
            numbering.number(&joint, into);
            // With so many keys it is better to keep each once.
            if table.len() > MANY_JOINT { table.change_over() } else { Ok(()) }
        };
        if near.len() < rows { otherwise(self, into) } else { self.near_numbers(&near, into, otherwise) }
    }

    fn any_numbers(&mut self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        let keys = keys.iter().map(normal).collect::<Result<Vec<_>>>()?;
        into.reserve(rows);
        if let TableKeys::None(seen) = &mut self.keys {
            *seen = 1;
            into.extend(std::iter::repeat_n(0, rows));
            return Ok(());
        }
        if let (TableKeys::Packed(_), Some(key)) = (&self.keys, keys.first()) {
            match packed(key) {
                Some(packed) => {
                    if let TableKeys::Packed(keys) = &mut self.keys {
                        keys.number(&packed, into);
                    }
                    return Ok(());
                }
                None => self.change_over()?,
            }
        }
        self.row_numbers(&keys, into)
    }

    /// Appends the number of each row's key if the table has it, else [`UNKNOWN`].
    pub(crate) fn find(&self, keys: &[ArrayRef], rows: usize, into: &mut Vec<u32>) -> Result<()> {
        if let [key] = keys
            && let Some(dictionary) = key.as_dictionary_opt::<Int32Type>()
            && dictionary.values().len() <= rows
        {
            return self.find_in_dictionary(dictionary, into);
        }
        if let TableKeys::Joint { parts, numbering } = &self.keys {
            let mut joint = vec![0u128; rows];
            let mut numbers = Vec::with_capacity(rows);
            for (i, (part, key)) in parts.iter().zip(keys).enumerate() {
                numbers.clear();
                part.find(std::slice::from_ref(key), rows, &mut numbers)?;
                join(&mut joint, &numbers, i);
            }
            numbering.find_all(&joint, into);
            return Ok(());
        }
        let keys = keys.iter().map(normal).collect::<Result<Vec<_>>>()?;
        if let (TableKeys::Packed(own), Some(key)) = (&self.keys, keys.first()) {
            let packed = packed_with(key, Some(LONG)).unwrap_or_default();
            own.find_all(&packed, into);
            return Ok(());
        }
        match (&self.keys, &self.converter) {
            (TableKeys::Rows { bytes, ends }, Some(converter)) => {
                let rows = converter.convert_columns(&keys).map_err(churn_core::arrow_error)?;
                into.extend(rows.iter().map(|row| {
                    let key = row.as_ref();
                    let equal = |n: &u32| key_at(bytes, ends, *n) == key;
                    self.table.find(hash::of_bytes(key), equal).copied().unwrap_or(UNKNOWN)
                }));
            }
            _ => into.extend(std::iter::repeat_n(if self.len() > 0 { 0 } else { UNKNOWN }, rows)),
        }
        Ok(())
    }

    /// Looks the values of a dictionary up, each once.
    fn find_in_dictionary(&self, keys: &DictionaryArray<Int32Type>, into: &mut Vec<u32>) -> Result<()> {
        let values = dictionary::values_and_null(keys)?;
        let count = values.len();
        let mut numbers = Vec::new();
        self.find(&[values], count, &mut numbers)?;
        let places = places_of(keys.keys(), count - 1);
        into.extend(places.iter().map(|place| numbers.get(*place as usize).copied().unwrap_or(UNKNOWN)));
        Ok(())
    }

    /// Numbers the values of a dictionary that occur, each once for as long as the dictionary stays the same.
    fn dictionary_numbers(&mut self, keys: &DictionaryArray<Int32Type>, into: &mut Vec<u32>) -> Result<()> {
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

    fn row_numbers(&mut self, arrays: &[ArrayRef], into: &mut Vec<u32>) -> Result<()> {
        let Some(converter) = &self.converter else { return Ok(()) };
        let rows = converter.convert_columns(arrays).map_err(churn_core::arrow_error)?;
        for row in rows.iter() {
            into.push(self.row_number(row.as_ref()));
        }
        Ok(())
    }

    fn row_number(&mut self, key: &[u8]) -> u32 {
        let TableKeys::Rows { bytes, ends } = &mut self.keys else { return 0 };
        let hashed = hash::of_bytes(key);
        let equal = |n: &u32| key_at(bytes, ends, *n) == key;
        if let Some(number) = self.table.find(hashed, equal) {
            return *number;
        }
        let number = ends.len() as u32;
        bytes.extend_from_slice(key);
        ends.push(bytes.len());
        self.table.insert_unique(hashed, number, |n| hash::of_bytes(key_at(bytes, ends, *n)));
        number
    }

    /// Appends the number of each key of a list, whose keys are of the same types.
    pub(crate) fn absorb(&mut self, list: &KeyList, into: &mut Vec<u32>) -> Result<()> {
        match (&self.keys, list) {
            (TableKeys::Packed(_) | TableKeys::Joint { .. }, KeyList::Rows { .. }) => self.change_over()?,
            (TableKeys::Rows { .. }, KeyList::Packed(keys)) => {
                let kind = self.kinds.first().cloned().unwrap_or(Type::Int);
                return self.row_numbers(&[unpacked(keys.clone(), &kind)], into);
            }
            _ => {}
        }
        match list {
            KeyList::Packed(keys) => {
                if let TableKeys::Packed(own) = &mut self.keys {
                    own.number(keys, into);
                }
            }
            KeyList::Rows { ends, bytes } => {
                into.extend((0..ends.len() as u32).map(|n| self.row_number(key_at(bytes, ends, n))));
            }
            KeyList::None(seen) => {
                self.keys = TableKeys::None(*seen);
                into.extend(std::iter::repeat_n(0, *seen));
            }
        }
        Ok(())
    }

    /// Deals the keys to so many lists by their hashes; beside each list the numbers of its keys, rising.
    ///
    /// Equal keys of two tables go to the same list, however each table keeps them.
    pub(crate) fn partition(self, parts: usize) -> Result<Vec<(KeyList, Vec<u32>)>> {
        self.partition_at(parts, 0)
    }

    /// As [`KeyTable::partition`], by other bits of the hashes: keys that came to one list at the level before part.
    pub(crate) fn partition_at(mut self, parts: usize, level: u32) -> Result<Vec<(KeyList, Vec<u32>)>> {
        if let TableKeys::Joint { .. } = self.keys {
            // The numbers of the parts mean nothing outside this table.
            self.change_over()?;
        }
        if parts == 1 || self.len() == 0 {
            let numbers = (0..self.len() as u32).collect();
            let list = match self.keys {
                TableKeys::Packed(keys) => KeyList::Packed(keys.into_keys()),
                TableKeys::Rows { bytes, ends } => KeyList::Rows { bytes, ends },
                TableKeys::None(seen) => KeyList::None(seen),
                TableKeys::Joint { .. } => KeyList::None(0),
            };
            let mut lists = vec![(list, numbers)];
            lists.extend((1..parts).map(|_| (KeyList::Packed(Vec::new()), Vec::new())));
            return Ok(lists);
        }
        let scale = (parts as u64).saturating_pow(level);
        let part = |hashed: u64| {
            let fraction = (hashed >> 32).wrapping_mul(scale) & u64::from(u32::MAX);
            ((fraction * parts as u64) >> 32) as usize
        };
        let mut numbers = vec![Vec::new(); parts];
        for (number, hashed) in (0u32..).zip(self.hashes(0)?) {
            if let Some(list) = numbers.get_mut(part(hashed)) {
                list.push(number);
            }
        }
        let list = |numbers: &Vec<u32>| match &self.keys {
            TableKeys::Packed(keys) => KeyList::Packed(
                numbers.iter().filter_map(|n| keys.keys().get(*n as usize).copied()).collect(),
            ),
            TableKeys::None(_) | TableKeys::Joint { .. } => KeyList::None(numbers.len()),
            TableKeys::Rows { bytes, ends } => {
                let (mut own, mut own_ends) = (Vec::new(), Vec::with_capacity(numbers.len()));
                for number in numbers {
                    own.extend_from_slice(key_at(bytes, ends, *number));
                    own_ends.push(own.len());
                }
                KeyList::Rows { bytes: own, ends: own_ends }
            }
        };
        Ok(numbers.into_iter().map(|numbers| (list(&numbers), numbers)).collect())
    }

    /// The hash of each key from a number on; the same for equal keys of two tables, however each keeps them.
    ///
    /// Not of joint keys, whose numbers mean nothing outside their table.
    pub(crate) fn hashes(&self, from: usize) -> Result<Vec<u64>> {
        Ok(match (&self.keys, self.kinds.as_slice()) {
            (TableKeys::Packed(keys), _) => {
                keys.keys().iter().skip(from).map(|key| hash::of_u128(*key)).collect()
            }
            // Texts that another table may hold packed.
            (TableKeys::Rows { .. }, [Type::Text]) => {
                let some: Vec<u32> = (from as u32..self.len() as u32).collect();
                let texts = self.arrays(&some)?;
                let Some(texts) = texts.first().and_then(|t| t.as_string_view_opt()) else {
                    return Ok(Vec::new());
                };
                let hashed = |(n, view): (usize, &u128)| match (texts.is_null(n), *view as u32) {
                    (true, _) => hash::of_u128(NULL),
                    (false, 0..=12) => hash::of_u128(*view),
                    _ => hash::of_bytes(texts.value(n).as_bytes()),
                };
                texts.views().iter().enumerate().map(hashed).collect()
            }
            (TableKeys::Rows { bytes, ends }, _) => {
                (from..ends.len()).map(|n| hash::of_bytes(key_at(bytes, ends, n as u32))).collect()
            }
            (TableKeys::None(seen), _) => vec![0; seen.saturating_sub(from)],
            (TableKeys::Joint { .. }, _) => Vec::new(),
        })
    }

    /// Makes room for so many keys.
    pub(crate) fn reserve(&mut self, keys: usize) {
        if let TableKeys::Packed(own) = &mut self.keys {
            own.reserve(keys);
        }
    }

    /// From packed keys to row keys; the numbers stay.
    fn change_over(&mut self) -> Result<()> {
        let known: Vec<u32> = (0..self.len() as u32).collect();
        let arrays = self.arrays(&known)?;
        self.converter = Some(converter_of(&self.kinds)?);
        self.keys = TableKeys::Rows { bytes: Vec::new(), ends: Vec::new() };
        self.table = HashTable::new();
        self.row_numbers(&arrays, &mut Vec::new())
    }

    /// The keys with these numbers, as columns.
    pub(crate) fn arrays(&self, numbers: &[u32]) -> Result<Vec<ArrayRef>> {
        match &self.keys {
            TableKeys::None(_) => Ok(Vec::new()),
            TableKeys::Joint { parts, numbering } => {
                let mut columns = Vec::with_capacity(parts.len());
                for (i, part) in parts.iter().enumerate() {
                    let number =
                        |n: &u32| numbering.keys().get(*n as usize).map_or(0, |key| (key >> (32 * i)) as u32);
                    columns.extend(part.arrays(&numbers.iter().map(number).collect::<Vec<u32>>())?);
                }
                Ok(columns)
            }
            TableKeys::Packed(keys) => {
                let kind = self.kinds.first().cloned().unwrap_or(Type::Int);
                let values =
                    numbers.iter().map(|n| keys.keys().get(*n as usize).copied().unwrap_or(NULL)).collect();
                Ok(vec![unpacked(values, &kind)])
            }
            TableKeys::Rows { bytes, ends } => {
                let Some(converter) = &self.converter else { return Ok(Vec::new()) };
                let parser = converter.parser();
                let rows = numbers.iter().map(|n| parser.parse(key_at(bytes, ends, *n)));
                converter.convert_rows(rows).map_err(churn_core::arrow_error)
            }
        }
    }
}

impl KeyList {
    /// How many keys there are.
    pub(crate) fn len(&self) -> usize {
        match self {
            KeyList::Packed(keys) => keys.len(),
            KeyList::Rows { ends, .. } => ends.len(),
            KeyList::None(seen) => *seen,
        }
    }
}

/// Puts the numbers of a part at their place in joint keys; one that is not known makes a key that none is.
fn join(joint: &mut [u128], numbers: &[u32], part: usize) {
    for (key, number) in joint.iter_mut().zip(numbers) {
        *key |= u128::from(*number) << (32 * part);
    }
}

fn converter_of(kinds: &[Type]) -> Result<RowConverter> {
    let fields = kinds.iter().map(|k| SortField::new(k.arrow())).collect();
    RowConverter::new(fields).map_err(churn_core::arrow_error)
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
fn packed(array: &ArrayRef) -> Option<Cow<'_, [u128]>> {
    packed_with(array, None)
}

/// The 16 bytes of each key, or what stands for texts that do not fit in them; `None` if nothing does.
fn packed_with(array: &ArrayRef, long: Option<u128>) -> Option<Cow<'_, [u128]>> {
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
    fn equal_keys_are_partitioned_alike() -> Result<()> {
        let long = "a text of more than twelve bytes";
        let (mut short, mut mixed) = (KeyTable::new(vec![Type::Text])?, KeyTable::new(vec![Type::Text])?);
        let some = [texts(&[Some("a"), Some("b"), None, Some("c")])];
        short.numbers(&some, 4, &mut Vec::new())?;
        mixed.numbers(&[texts(&[Some(long)])], 1, &mut Vec::new())?;
        mixed.numbers(&some, 4, &mut Vec::new())?;
        let mut whole = KeyTable::new(vec![Type::Text])?;
        for (part, (ours, theirs)) in short.partition(7)?.into_iter().zip(mixed.partition(7)?).enumerate() {
            let theirs: Vec<u32> = theirs.1.iter().filter(|n| **n > 0).map(|n| n - 1).collect();
            assert_eq!(ours.1, theirs, "part {part}");
            whole.absorb(&ours.0, &mut Vec::new())?;
        }
        assert_eq!(whole.len(), 4);
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
