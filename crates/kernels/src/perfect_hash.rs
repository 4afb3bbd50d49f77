//! A perfect hash table of up to eight keys of 16 bytes, probed with eight keys at a time.
//!
//! Where a column has a handful of values, most batches hold no new key. A multiplier is searched for under which no two
//! of the known keys share a slot; a probe is then one multiplication, one gather and one comparison for eight rows,
//! without a branch. Only with AVX-512; elsewhere the hash table of all keys is as fast.

use crate::masks::Way;

/// The most keys of a table.
const MOST: usize = 8;

/// Slots of the table.
const PLACES: usize = 16;

/// Multipliers that are tried before the search gives up.
const TRIED: u64 = 1 << 12;

/// A table of a few keys of 16 bytes.
#[derive(Clone, Debug)]
pub(crate) struct PerfectHash {
    factor: u64,
    /// The keys by slot, low and high halves. A free slot holds a key that hashes to another slot, so that no probe
    /// matches there.
    low: [u64; PLACES],
    high: [u64; PLACES],
    numbers: [u64; PLACES],
}

/// Folds a key to 32 bits; the upper half of the result is not meaningful.
fn folded(key: u128) -> u64 {
    let halves = key as u64 ^ (key >> 64) as u64;
    halves ^ halves >> 32
}

impl PerfectHash {
    /// A table of these keys, by their places; `None` if they are too many, or have no table, or it would not help.
    pub(crate) fn new(keys: &[u128]) -> Option<PerfectHash> {
        let is_fast = match Way::choose() {
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) => true,
            _ => false,
        };
        let first = *keys.first().filter(|_| is_fast && keys.len() <= MOST)?;
        let parts = |key: u128| (key as u64, (key >> 64) as u64);
        let table = |factor: u64| {
            let (low, high) = parts(first);
            let mut few =
                PerfectHash { factor, low: [low; PLACES], high: [high; PLACES], numbers: [0; PLACES] };
            let mut taken = [false; PLACES];
            for (number, key) in (0u64..).zip(keys) {
                let place = few.place(*key);
                if std::mem::replace(&mut taken[place], true) {
                    return None;
                }
                (few.low[place], few.high[place]) = parts(*key);
                few.numbers[place] = number;
            }
            Some(few)
        };
        (0..TRIED).map(|i| (i << 20 | 0x9e375) | 1).find_map(table)
    }

    fn place(&self, key: u128) -> usize {
        let product = (folded(key) & u64::from(u32::MAX)).wrapping_mul(self.factor);
        (product >> 28) as usize % PLACES
    }

    /// The numbers of keys, for which there is room; whether all of them are known.
    pub fn find(&self, keys: &[u128], into: &mut [u32]) -> bool {
        let (eights, rest) = keys.as_chunks::<8>();
        let (slots, others) = into[..keys.len()].as_chunks_mut::<8>();
        let mut known = match Way::choose() {
            // SAFETY: a way is chosen only where the processor has it.
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) => unsafe { self.find_avx512(eights, slots) },
            _ => {
                let all = eights.as_flattened().iter().zip(slots.as_flattened_mut());
                all.fold(true, |known, (key, slot)| known & self.find_one(*key, slot))
            }
        };
        for (key, slot) in rest.iter().zip(others) {
            known &= self.find_one(*key, slot);
        }
        known
    }

    fn find_one(&self, key: u128, into: &mut u32) -> bool {
        let place = self.place(key);
        *into = self.numbers[place] as u32;
        (self.low[place], self.high[place]) == (key as u64, (key >> 64) as u64)
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx512f,avx512bw,avx512vl")]
    fn find_avx512(&self, keys: &[[u128; 8]], into: &mut [[u32; 8]]) -> bool {
        #[allow(clippy::wildcard_imports)]
        use std::arch::x86_64::*;
        // SAFETY: eight words are loaded from each half of an array of sixteen.
        let table = |words: &[u64; PLACES]| unsafe {
            (_mm512_loadu_si512(words.as_ptr().cast()), _mm512_loadu_si512(words.as_ptr().add(8).cast()))
        };
        let (low, high, numbers) = (table(&self.low), table(&self.high), table(&self.numbers));
        let factor = _mm512_set1_epi64(self.factor.cast_signed());
        let lows = _mm512_set_epi64(14, 12, 10, 8, 6, 4, 2, 0);
        let highs = _mm512_set_epi64(15, 13, 11, 9, 7, 5, 3, 1);
        let mut known = u8::MAX;
        for (keys, into) in keys.iter().zip(into) {
            let at = keys.as_ptr();
            // SAFETY: four keys are loaded from each half of an array of eight.
            let (a, b) = unsafe { (_mm512_loadu_si512(at.cast()), _mm512_loadu_si512(at.add(4).cast())) };
            let key_low = _mm512_permutex2var_epi64(a, lows, b);
            let key_high = _mm512_permutex2var_epi64(a, highs, b);
            let halves = _mm512_xor_si512(key_low, key_high);
            let folded = _mm512_xor_si512(halves, _mm512_srli_epi64::<32>(halves));
            // Of an index, the lowest four bits count.
            let place = _mm512_srli_epi64::<28>(_mm512_mul_epu32(folded, factor));
            let found_low = _mm512_permutex2var_epi64(low.0, place, low.1);
            let found_high = _mm512_permutex2var_epi64(high.0, place, high.1);
            known &=
                _mm512_cmpeq_epi64_mask(found_low, key_low) & _mm512_cmpeq_epi64_mask(found_high, key_high);
            let number = _mm512_cvtepi64_epi32(_mm512_permutex2var_epi64(numbers.0, place, numbers.1));
            // SAFETY: eight numbers are stored into an array of eight.
            unsafe { _mm256_storeu_si256(into.as_mut_ptr().cast(), number) };
        }
        known == u8::MAX
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn keys_have_their_places(
            keys in prop::collection::hash_set(any::<u128>(), 1..9),
            rows in prop::collection::vec(any::<prop::sample::Index>(), 0..70),
            other in any::<u128>(),
        ) {
            let keys: Vec<u128> = keys.into_iter().collect();
            let Some(few) = PerfectHash::new(&keys) else { return Ok(()) };
            let numbers: Vec<u32> = rows.iter().map(|row| row.index(keys.len()) as u32).collect();
            let mut rows: Vec<u128> = numbers.iter().map(|number| keys[*number as usize]).collect();
            let mut found = vec![0; rows.len()];
            prop_assert!(few.find(&rows, &mut found));
            prop_assert_eq!(&found, &numbers);
            rows.push(other);
            found.push(0);
            prop_assert_eq!(few.find(&rows, &mut found), keys.contains(&other));
        }
    }
}
