//! Hashes of keys.
//!
//! One multiplication of 64 by 64 bits folded to 64 is enough mixing for tables that take their bucket from
//! the low bits and their tag from the high ones. The multipliers are the seed. That of tables and partitions is drawn anew by
//! each process, so that nobody can write a file whose keys all fall into one slot or one partition; no answer depends on it.
//! What goes into an answer (samples, estimates, marks) is hashed by [`Seed::FIXED`], the same on every machine and in every run.

use std::hash::{BuildHasher, RandomState};
use std::sync::OnceLock;

/// Numbers by which a seed is tried, and the distances between them.
const TRIED: u64 = 512;
const DISTANCES: [u64; 4] = [1, 60, 1000, 1 << 16];

/// Of four times as many places, how many these numbers take at least; random ones take 453.
const LEAST_TAKEN: usize = 420;

/// Seeds that are tried at most; about one of three is good.
const MOST_DRAWN: usize = 256;

/// What keys are mixed with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Seed {
    first: u64,
    second: u64,
}

#[inline]
fn fold(a: u64, b: u64) -> u64 {
    let product = u128::from(a) * u128::from(b);
    (product as u64) ^ ((product >> 64) as u64)
}

impl Seed {
    /// The same on every machine and in every run: the fractional digits of pi.
    pub const FIXED: Seed = Seed { first: 0x243f_6a88_85a3_08d3, second: 0x1319_8a2e_0370_7345 };

    /// The seed of all tables of this process.
    #[inline]
    pub fn of_process() -> Seed {
        static OF_PROCESS: OnceLock<Seed> = OnceLock::new();
        *OF_PROCESS.get_or_init(Seed::draw)
    }

    /// A seed that nobody can foretell, from what the standard library's maps are seeded with. One by which numbers in a row
    /// crowd together is drawn again: of one in fifty they would take a third of the slots that they should.
    fn draw() -> Seed {
        let one = || {
            let random = RandomState::new();
            // Odd, and not small: every bit of a key reaches the upper half of a product.
            let word = |number: u8| random.hash_one(number) | 1 << 63 | 1;
            Seed { first: word(0), second: word(1) }
        };
        (0..MOST_DRAWN).map(|_| one()).find(|seed| seed.spreads()).unwrap_or_else(one)
    }

    /// Whether numbers at equal distances have nearly as many places as random ones would, by low and by high bits.
    fn spreads(self) -> bool {
        DISTANCES.iter().all(|distance| {
            [0, 32].iter().all(|shift| {
                let mut taken = [false; 4 * TRIED as usize];
                (0..TRIED).for_each(|number| {
                    let place = (self.of_key(u128::from(number * distance)) >> shift) as usize % taken.len();
                    taken[place] = true;
                });
                taken.iter().filter(|is_taken| **is_taken).count() >= LEAST_TAKEN
            })
        })
    }

    /// Hashes a key of 16 bytes.
    #[inline]
    pub fn of_u128(self, key: u128) -> u64 {
        let low = key as u64;
        let high = (key >> 64) as u64;
        fold(fold(low ^ self.first, self.second) ^ high, self.first)
    }

    /// Hashes a key of 16 bytes in one step: for tables whose keys are compared in any case.
    #[inline]
    pub fn of_key(self, key: u128) -> u64 {
        fold(key as u64 ^ self.first, (key >> 64) as u64 ^ self.second)
    }

    /// Hashes a key of 8 bytes.
    #[inline]
    pub fn of_u64(self, key: u64) -> u64 {
        fold(fold(key ^ self.first, self.second), self.first)
    }

    /// Hashes bytes of any length.
    pub fn of_bytes(self, bytes: &[u8]) -> u64 {
        let (words, rest) = bytes.as_chunks::<8>();
        let mut state = fold(bytes.len() as u64 ^ self.first, self.second);
        for word in words {
            state = fold(state ^ u64::from_le_bytes(*word), self.first);
        }
        if !rest.is_empty() {
            let mut last = [0; 8];
            last[..rest.len()].copy_from_slice(rest);
            state = fold(state ^ u64::from_le_bytes(last), self.first);
        }
        fold(state, self.second)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::collections::HashSet;

    #[rstest]
    #[case::fixed(Seed::FIXED)]
    #[case::of_process(Seed::of_process())]
    #[case::another(Seed::draw())]
    fn small_keys_spread_over_low_and_high_bits(#[case] seed: Seed) {
        for shift in [0, 57] {
            let seen: HashSet<u64> = (0..128u64).map(|k| (seed.of_u64(k) >> shift) & 127).collect();
            assert!(seen.len() > 60, "{} of 128 buckets", seen.len());
        }
    }

    #[test]
    fn seeds_that_crowd_numbers_are_not_drawn() {
        assert!(!Seed { first: 1, second: 1 }.spreads());
        assert!((0..20).all(|_| Seed::draw().spreads()));
    }

    #[rstest]
    #[case::fixed(Seed::FIXED)]
    #[case::of_process(Seed::of_process())]
    fn length_counts(#[case] seed: Seed) {
        assert_ne!(seed.of_bytes(b""), seed.of_bytes(b"\0"));
        assert_ne!(seed.of_bytes(b"a\0"), seed.of_bytes(b"a"));
        assert_ne!(seed.of_u128(1), seed.of_u128(1 << 64));
    }

    /// Keys that one seed hashes to nothing, whatever their upper half is, are told apart by another.
    #[test]
    fn keys_made_to_collide_do_so_for_one_seed_alone() {
        let keys: Vec<u128> = (0..1000u128).map(|key| key << 64 | u128::from(Seed::FIXED.first)).collect();
        let hashes = |seed: Seed| keys.iter().map(|key| seed.of_key(*key)).collect::<HashSet<u64>>();
        assert_eq!(hashes(Seed::FIXED).len(), 1);
        assert_eq!(hashes(Seed::of_process()).len(), 1000);
        assert_ne!(Seed::draw(), Seed::draw());
        assert_eq!(Seed::of_process(), Seed::of_process());
    }
}
