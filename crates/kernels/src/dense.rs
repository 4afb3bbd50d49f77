//! Numbers of keys that stand close together: days, small whole numbers, pairs of small numbers.
//!
//! A table with a place for each key between the least and the greatest: a look at it is all that a known key
//! costs. It stands beside the table that numbers the keys, and is told what that gave.

/// The widest span of keys: the table then stays in the second-level cache.
const WIDEST: i64 = 1 << 16;

/// The number of a key that is not known.
const UNKNOWN: u32 = u32::MAX;

/// The numbers of keys between two keys.
#[derive(Clone, Debug, Default)]
pub struct Dense {
    least: i64,
    numbers: Vec<u32>,
}

impl Dense {
    /// Makes a place for each of these keys; gives false, and does nothing, if they are too far apart.
    pub fn cover<K: Copy + Ord + Into<i64>>(&mut self, keys: &[K]) -> bool {
        let (Some(least), Some(most)) = (keys.iter().min(), keys.iter().max()) else { return true };
        let (mut from, mut to) = ((*least).into(), (*most).into());
        if !self.numbers.is_empty() {
            from = from.min(self.least);
            to = to.max(self.least + (self.numbers.len() as i64 - 1));
        }
        let Some(span) = to.checked_sub(from).filter(|span| *span < WIDEST) else { return false };
        if span as usize + 1 > self.numbers.len() {
            let mut numbers = vec![UNKNOWN; span as usize + 1];
            // Of an empty table the least key means nothing.
            let at = self.least.wrapping_sub(from) as usize;
            if let Some(known) = numbers.get_mut(at..at + self.numbers.len()).filter(|k| !k.is_empty()) {
                known.copy_from_slice(&self.numbers);
            }
            (self.least, self.numbers) = (from, numbers);
        }
        true
    }

    /// Appends the number of each key; gives false, and appends nothing, if one is not known.
    pub fn find<K: Copy + Into<i64>>(&self, keys: &[K], into: &mut Vec<u32>) -> bool {
        let before = into.len();
        into.resize(before + keys.len(), 0);
        let mut greatest = 0;
        for (key, slot) in keys.iter().zip(into.iter_mut().skip(before)) {
            let place = (*key).into().wrapping_sub(self.least) as usize;
            *slot = self.numbers.get(place).copied().unwrap_or(UNKNOWN);
            greatest = greatest.max(*slot);
        }
        if greatest == UNKNOWN {
            into.truncate(before);
        }
        greatest != UNKNOWN
    }

    /// Takes note of the numbers of keys.
    pub fn learn<K: Copy + Into<i64>>(&mut self, keys: &[K], numbers: &[u32]) {
        for (key, number) in keys.iter().zip(numbers) {
            if let Some(slot) = self.numbers.get_mut((*key).into().wrapping_sub(self.least) as usize) {
                *slot = *number;
            }
        }
    }

    /// Forgets all keys.
    pub fn clear(&mut self) {
        self.numbers.clear();
    }

    /// Bytes in use.
    pub fn memory(&self) -> usize {
        self.numbers.capacity() * 4
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashMap;

    proptest! {
        #[test]
        fn what_was_learnt_is_found(batches in prop::collection::vec(prop::collection::vec(-70_000i64..70_000, 1..5), 1..9)) {
            let (mut dense, mut plain) = (Dense::default(), HashMap::new());
            for keys in batches {
                if !dense.cover(&keys) {
                    continue;
                }
                let known: Option<Vec<u32>> = keys.iter().map(|key| plain.get(key).copied()).collect();
                let mut found = Vec::new();
                prop_assert_eq!(dense.find(&keys, &mut found), known.is_some());
                prop_assert_eq!(found, known.unwrap_or_default());
                let numbers: Vec<u32> = keys.iter().map(|key| (*key + 70_000) as u32).collect();
                dense.learn(&keys, &numbers);
                plain.extend(keys.into_iter().zip(numbers));
            }
        }

        #[test]
        fn keys_far_apart_are_refused(a: i64, b: i64) {
            let near = a.checked_sub(b).is_some_and(|span| span.abs() < WIDEST);
            prop_assert_eq!(Dense::default().cover(&[a, b]), near);
        }
    }
}
