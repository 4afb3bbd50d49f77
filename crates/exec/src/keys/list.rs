//! Keys without the way to find one: what goes from one table to another, whole or partitioned.

use arrow_array::ArrayRef;
use churn_core::Result;
use churn_kernels::byte_numbering::ByteKeys;
use churn_kernels::hash::Seed;

use super::{KeyTable, TableKeys, encoding, normal, plain};

/// Keys in order: different ones of a table, or one a row.
pub(crate) enum KeyList {
    /// Of at most 16 bytes each.
    Packed(Vec<u128>),
    /// As bytes, see [`encoding`].
    Bytes(ByteKeys),
    /// So many times no key: one or none.
    None(usize),
}

impl KeyList {
    /// How many keys there are.
    pub(crate) fn len(&self) -> usize {
        match self {
            KeyList::Packed(keys) => keys.len(),
            KeyList::Bytes(keys) => keys.len(),
            KeyList::None(seen) => *seen,
        }
    }
}

impl KeyList {
    /// The keys at some places.
    pub(crate) fn at(&self, places: &[u32]) -> KeyList {
        match self {
            KeyList::Packed(keys) => KeyList::Packed(packed_at(keys, places)),
            KeyList::Bytes(keys) => KeyList::Bytes(bytes_at(keys, places)),
            KeyList::None(_) => KeyList::None(places.len()),
        }
    }
}

fn packed_at(keys: &[u128], places: &[u32]) -> Vec<u128> {
    places.iter().filter_map(|place| keys.get(*place as usize).copied()).collect()
}

fn bytes_at(keys: &ByteKeys, places: &[u32]) -> ByteKeys {
    let mut own = ByteKeys::with_capacity(places.len(), 0);
    places.iter().for_each(|place| own.push(keys.get(*place as usize)));
    own
}

/// For each of so many parts the places of the hashes that belong to it. At a further level other bits of them count.
fn places_by_partition(hashes: &[u64], parts: usize, level: u32) -> Vec<Vec<u32>> {
    let scale = (parts as u64).saturating_pow(level);
    let part = |hashed: u64| {
        let fraction = (hashed >> 32).wrapping_mul(scale) & u64::from(u32::MAX);
        ((fraction * parts as u64) >> 32) as usize
    };
    places_by(hashes, parts, part)
}

/// For each of so many parts the places of the hashes that belong to it.
fn places_by(hashes: &[u64], parts: usize, part: impl Fn(u64) -> usize) -> Vec<Vec<u32>> {
    let mut places = vec![Vec::new(); parts];
    for (place, hashed) in (0u32..).zip(hashes) {
        if let Some(places) = places.get_mut(part(*hashed)) {
            places.push(place);
        }
    }
    places
}

impl KeyTable {
    /// Appends the number of each key of a list, whose keys are of the same types.
    pub(crate) fn absorb(&mut self, list: &KeyList, into: &mut Vec<u32>) -> Result<()> {
        if let TableKeys::Joint { .. } = self.keys {
            self.unjoin()?;
        }
        if let (TableKeys::Packed(_), KeyList::Bytes(_)) = (&self.keys, list) {
            self.change_over()?;
        }
        match (&mut self.keys, list) {
            (TableKeys::Packed(own), KeyList::Packed(keys)) => own.number(keys, into),
            (TableKeys::Bytes(_), KeyList::Packed(keys)) => self.byte_numbers(&self.bytes_of(keys)?, into),
            (_, KeyList::Bytes(keys)) => self.byte_numbers(keys, into),
            (own, KeyList::None(seen)) => {
                *own = TableKeys::None(*seen);
                into.extend(std::iter::repeat_n(0, *seen));
            }
            (_, KeyList::Packed(_)) => {}
        }
        Ok(())
    }

    /// The keys of rows, one a row, equal ones among them.
    pub(crate) fn of_rows(&self, keys: &[ArrayRef], rows: usize) -> Result<KeyList> {
        let keys = keys.iter().map(normal).collect::<Result<Vec<_>>>()?;
        Ok(match self.packed(&keys, rows, None) {
            Some(packed) => KeyList::Packed(packed.into_owned()),
            None => KeyList::Bytes(encoding::encode(&keys, rows)),
        })
    }

    /// The keys of several lists of rows, one behind the other.
    pub(crate) fn joined(&self, lists: Vec<KeyList>) -> Result<KeyList> {
        if lists.iter().all(|list| matches!(list, KeyList::Packed(_))) {
            let packed = |list| if let KeyList::Packed(keys) = list { keys } else { Vec::new() };
            return Ok(KeyList::Packed(lists.into_iter().flat_map(packed).collect()));
        }
        let mut all = ByteKeys::default();
        for list in lists {
            let keys = match list {
                KeyList::Packed(keys) => self.bytes_of(&keys)?,
                KeyList::Bytes(keys) => keys,
                KeyList::None(_) => ByteKeys::default(),
            };
            keys.iter().for_each(|key| all.push(key));
        }
        Ok(KeyList::Bytes(all))
    }

    /// For each of so many parts, by the hashes of the keys, their places in a list, rising.
    pub(crate) fn places_by_partition(&self, list: &KeyList, parts: usize) -> Vec<Vec<u32>> {
        let seed = Seed::of_process();
        let hashes: Vec<u64> = match list {
            KeyList::Packed(keys) => keys.iter().map(|key| seed.of_u128(*key)).collect(),
            KeyList::Bytes(keys) => self.hashes_of(keys),
            KeyList::None(seen) => vec![0; *seen],
        };
        places_by_partition(&hashes, parts, 0)
    }

    /// Partitions the keys to so many lists by their hashes; beside each list the numbers of its keys, rising.
    ///
    /// Equal keys of two tables go to the same list, however each table keeps them.
    pub(crate) fn partition(self, parts: usize) -> Result<Vec<(KeyList, Vec<u32>)>> {
        self.partition_at(parts, 0)
    }

    /// Partitions the keys to so many lists, a power of two, by the low bits of their hashes, which say nothing of where
    /// [`KeyTable::partition`] puts them; beside each list the numbers of its keys, rising.
    pub(crate) fn buckets(mut self, buckets: usize) -> Result<Vec<(KeyList, Vec<u32>)>> {
        if let TableKeys::Joint { .. } = self.keys {
            self.unjoin()?;
        }
        let numbers = places_by(&self.hashes(0, Seed::of_process())?, buckets, |hashed| {
            hashed as usize & (buckets - 1)
        });
        Ok(numbers.into_iter().map(|numbers| (self.list_of(&numbers), numbers)).collect())
    }

    /// The keys with these numbers; not of a table of joint keys.
    fn list_of(&self, numbers: &[u32]) -> KeyList {
        match &self.keys {
            TableKeys::Packed(keys) => KeyList::Packed(packed_at(keys.keys(), numbers)),
            TableKeys::None(_) | TableKeys::Joint { .. } => KeyList::None(numbers.len()),
            TableKeys::Bytes(keys) => KeyList::Bytes(bytes_at(keys.keys(), numbers)),
        }
    }

    /// As [`KeyTable::partition`], by other bits of the hashes: keys that came to one list at the level before part.
    pub(crate) fn partition_at(mut self, parts: usize, level: u32) -> Result<Vec<(KeyList, Vec<u32>)>> {
        if let TableKeys::Joint { .. } = self.keys {
            self.unjoin()?;
        }
        if parts == 1 || self.len() == 0 {
            let numbers = (0..self.len() as u32).collect();
            let list = match self.keys {
                TableKeys::Packed(keys) => KeyList::Packed(keys.into_keys()),
                TableKeys::Bytes(keys) => KeyList::Bytes(keys.into_keys()),
                TableKeys::None(seen) => KeyList::None(seen),
                TableKeys::Joint { .. } => KeyList::None(0),
            };
            let mut lists = vec![(list, numbers)];
            lists.extend((1..parts).map(|_| (KeyList::Packed(Vec::new()), Vec::new())));
            return Ok(lists);
        }
        let numbers = places_by_partition(&self.hashes(0, Seed::of_process())?, parts, level);
        Ok(numbers.into_iter().map(|numbers| (self.list_of(&numbers), numbers)).collect())
    }

    /// The hash of each key from a number on; the same for equal keys of two tables, however each keeps them.
    ///
    /// Not of joint keys, whose numbers mean nothing outside their table.
    pub(crate) fn hashes(&self, from: usize, seed: Seed) -> Result<Vec<u64>> {
        Ok(match &self.keys {
            TableKeys::Packed(keys) => keys.keys().iter().skip(from).map(|key| seed.of_u128(*key)).collect(),
            TableKeys::Bytes(keys) => {
                keys.keys().iter().skip(from).map(|key| self.hash_of(key, seed)).collect()
            }
            TableKeys::None(seen) => vec![0; seen.saturating_sub(from)],
            TableKeys::Joint { .. } => Vec::new(),
        })
    }

    /// The hash of a key as bytes, the same for its packed form.
    pub(super) fn hash_of(&self, mut key: &[u8], seed: Seed) -> u64 {
        if self.is_plain {
            plain::hash_of_text(encoding::part(&mut key), seed)
        } else {
            encoding::hash_of(key, seed)
        }
    }
}
