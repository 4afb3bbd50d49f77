//! The run-length and bit-packed form of small numbers.
//!
//! A run is a head and one number, or a head and groups of eight numbers of `width` bits. The form is in the Parquet
//! format's description, *Encodings*.

use churn_kernels::known::known_part;

/// Groups of eight that one head tells of: the head is then one byte.
const MOST_GROUPS: usize = 63;

/// Numbers alike from which on they are told as a run.
const LONG: usize = 16;

/// The bits that numbers up to `most` take; one at least.
pub(super) fn width(most: u32) -> u32 {
    (u32::BITS - most.leading_zeros()).max(1)
}

/// Appends numbers of up to `width` bits.
pub(super) fn encode(numbers: &[u32], width: u32, into: &mut Vec<u8>) {
    let mut rest = numbers;
    // Where the next long run starts, everything before it is packed.
    while !rest.is_empty() {
        let (packed, run) = until_run(rest);
        let (some, left) = rest.split_at(packed);
        pack(some, width, into);
        if let Some(value) = left.first().filter(|_| run > 0) {
            head((run as u64) << 1, into);
            into.extend(value.to_le_bytes().iter().take(width.div_ceil(8) as usize));
        }
        rest = known_part(left, run..);
    }
}

/// How many numbers stand before the first long run, whole groups of them, and how long that is.
fn until_run(numbers: &[u32]) -> (usize, usize) {
    for (group, eight) in numbers.chunks_exact(8).enumerate() {
        let first = eight.first().copied().unwrap_or_default();
        if eight.iter().all(|number| *number == first) {
            let from = group * 8;
            let run = numbers.iter().skip(from).take_while(|number| **number == first).count();
            if run >= LONG {
                return (from, run);
            }
        }
    }
    (numbers.len(), 0)
}

/// Appends groups of eight; the last one is filled up with zeros.
fn pack(numbers: &[u32], width: u32, into: &mut Vec<u8>) {
    for some in numbers.chunks(MOST_GROUPS * 8) {
        let groups = some.len().div_ceil(8);
        head((groups as u64) << 1 | 1, into);
        let end = into.len() + groups * width as usize;
        let (mut word, mut bits) = (0u64, 0);
        for number in some {
            word |= u64::from(*number) << bits;
            bits += width;
            if bits >= 32 {
                into.extend_from_slice(&(word as u32).to_le_bytes());
                word >>= 32;
                bits -= 32;
            }
        }
        into.extend_from_slice(&word.to_le_bytes());
        into.resize(end, 0);
    }
}

/// Appends which rows have a value, one bit each, from the bits of `valid`: all of the page's rows if there are none.
pub(super) fn levels(rows: usize, valid: Option<&[u8]>, into: &mut Vec<u8>) {
    match valid {
        None => {
            head((rows as u64) << 1, into);
            into.push(1);
        }
        Some(bits) => {
            for some in bits.chunks(MOST_GROUPS) {
                head((some.len() as u64) << 1 | 1, into);
                into.extend_from_slice(some);
            }
        }
    }
}

/// A number of seven bits a byte, the lowest first.
fn head(mut number: u64, into: &mut Vec<u8>) {
    while number > 127 {
        into.push(number as u8 | 128);
        number >>= 7;
    }
    into.push(number as u8);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The plain way back.
    fn decoded(mut bytes: &[u8], width: u32, count: usize) -> Vec<u32> {
        let mut out = Vec::new();
        let mut next = |n: usize| {
            let (some, rest) = bytes.split_at(n);
            bytes = rest;
            some.to_vec()
        };
        while out.len() < count {
            let (mut head, mut shift) = (0u64, 0);
            loop {
                let byte = next(1)[0];
                head |= u64::from(byte & 127) << shift;
                shift += 7;
                if byte < 128 {
                    break;
                }
            }
            let number = |bytes: &[u8]| bytes.iter().rev().fold(0u32, |n, b| n << 8 | u32::from(*b));
            if head & 1 == 0 {
                let value = number(&next(width.div_ceil(8) as usize));
                out.extend(std::iter::repeat_n(value, head as usize >> 1));
            } else {
                let packed = next((head >> 1) as usize * width as usize);
                let bit = |i: usize| u32::from(packed[i / 8] >> (i % 8) & 1);
                let at =
                    |i: usize| (0..width as usize).map(|b| bit(i * width as usize + b) << b).sum::<u32>();
                out.extend((0..(head >> 1) as usize * 8).map(at));
            }
        }
        assert!(bytes.is_empty());
        out.truncate(count);
        out
    }

    proptest! {
        #[test]
        fn numbers_come_back(runs in prop::collection::vec((0u32..100_000, 1usize..40), 0..200), bits in 1u32..18) {
            let numbers: Vec<u32> = runs.iter().flat_map(|(n, times)| std::iter::repeat_n(n & ((1 << bits) - 1), *times)).collect();
            let width = width(numbers.iter().copied().max().unwrap_or(0));
            let mut bytes = Vec::new();
            encode(&numbers, width, &mut bytes);
            prop_assert_eq!(decoded(&bytes, width, numbers.len()), numbers);
        }

        #[test]
        fn levels_come_back(valid in prop::collection::vec(any::<bool>(), 1..2000)) {
            let bits = arrow_buffer::BooleanBuffer::from(valid.clone());
            let mut bytes = Vec::new();
            levels(valid.len(), Some(bits.values()), &mut bytes);
            let expected: Vec<u32> = valid.iter().map(|v| u32::from(*v)).collect();
            prop_assert_eq!(decoded(&bytes, 1, valid.len()), expected);
        }
    }
}
