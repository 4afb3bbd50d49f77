//! Hashes of keys, the same on every machine and in every run.
//!
//! One multiplication of 64 by 64 bits folded to 64 is enough mixing for tables that take their bucket from
//! the low bits and their tag from the high ones. The multipliers are the fractional digits of pi.

const A: u64 = 0x243f_6a88_85a3_08d3;
const B: u64 = 0x1319_8a2e_0370_7345;

#[inline]
fn fold(a: u64, b: u64) -> u64 {
    let product = u128::from(a) * u128::from(b);
    (product as u64) ^ ((product >> 64) as u64)
}

/// Hashes a key of 16 bytes.
#[inline]
pub fn of_u128(key: u128) -> u64 {
    let low = key as u64;
    let high = (key >> 64) as u64;
    fold(fold(low ^ A, B) ^ high, A)
}

/// Hashes a key of 16 bytes in one step: for tables whose keys are compared in any case.
#[inline]
pub fn of_key(key: u128) -> u64 {
    fold(key as u64 ^ A, (key >> 64) as u64 ^ B)
}

/// Hashes a key of 8 bytes.
#[inline]
pub fn of_u64(key: u64) -> u64 {
    fold(fold(key ^ A, B), A)
}

/// Hashes bytes of any length.
pub fn of_bytes(bytes: &[u8]) -> u64 {
    let (words, rest) = bytes.as_chunks::<8>();
    let mut state = fold(bytes.len() as u64 ^ A, B);
    for word in words {
        state = fold(state ^ u64::from_le_bytes(*word), A);
    }
    if !rest.is_empty() {
        let mut last = [0; 8];
        last[..rest.len()].copy_from_slice(rest);
        state = fold(state ^ u64::from_le_bytes(last), A);
    }
    fold(state, B)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn small_keys_spread_over_low_and_high_bits() {
        for shift in [0, 57] {
            let seen: HashSet<u64> = (0..128u64).map(|k| (of_u64(k) >> shift) & 127).collect();
            assert!(seen.len() > 60, "{} of 128 buckets", seen.len());
        }
    }

    #[test]
    fn length_counts() {
        assert_ne!(of_bytes(b""), of_bytes(b"\0"));
        assert_ne!(of_bytes(b"a\0"), of_bytes(b"a"));
        assert_ne!(of_u128(1), of_u128(1 << 64));
    }
}
