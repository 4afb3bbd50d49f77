//! Random numbers that are the same everywhere: a counter and a multiplication (the generator of W. Steele,
//! D. Lea and C. Flood, *Fast Splittable Pseudorandom Number Generators*, 2014).

#[derive(Clone, Debug)]
pub(super) struct Random(u64);

impl Random {
    /// A generator for one part of the data.
    pub(super) fn new(seed: u64, part: u64) -> Random {
        let mut random = Random(seed ^ part.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        random.next();
        random
    }

    pub(super) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number from 0 to below `n`.
    pub(super) fn below(&mut self, n: u64) -> u64 {
        ((u128::from(self.next()) * u128::from(n)) >> 64) as u64
    }

    /// A number from 0 to below `n`, small ones more often: the square of an even one.
    pub(super) fn skewed(&mut self, n: u64) -> u64 {
        let u = self.next() >> 32;
        (((u * u) >> 32) * n) >> 32
    }

    /// Whether something that happens once in `n` times happens.
    pub(super) fn once_in(&mut self, n: u64) -> bool {
        self.below(n) == 0
    }

    pub(super) fn pick<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of.get(self.below(of.len() as u64) as usize).copied().unwrap_or_default()
    }
}
