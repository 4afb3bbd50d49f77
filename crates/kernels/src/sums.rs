//! Many sums that carry their rounding errors, by columns of their two parts.
//!
//! Each loop does the same for all sums, so that the compiler turns it into vector instructions; it is compiled for AVX-512
//! and AVX2, too, and chosen at run time. The answers are those of [`Sum`], to the bit.

use crate::double::{self, Sum};
use crate::known::{known, known_part};
use crate::masks::Way;

/// Sums by columns.
#[derive(Debug)]
pub struct Sums {
    highs: Vec<f64>,
    lows: Vec<f64>,
}

impl FromIterator<Sum> for Sums {
    fn from_iter<I: IntoIterator<Item = Sum>>(sums: I) -> Sums {
        let (highs, lows) = sums.into_iter().map(Sum::parts).unzip();
        Sums { highs, lows }
    }
}

/// Means that are worked out together.
const TOGETHER: usize = 64;

/// Frames that are summed together: they stay in the nearest cache.
const NEAR: usize = 512;

impl Sums {
    /// The total of each sum.
    pub fn totals(&self) -> Vec<f64> {
        self.highs.iter().zip(&self.lows).map(|(high, low)| Sum::of_parts(*high, *low).total()).collect()
    }

    /// The sum of each frame's terms; a frame is a range of terms. `None` if one is neither narrow, of `narrow` terms at most
    /// and one at least, nor one of those that grow from one term on.
    ///
    /// Frames that have as many terms as the one before, and start one term later, are worked out together. Those that grow are
    /// sums of all blocks of so many terms, from their first one on, and of the terms behind these.
    pub fn of_frames(terms: &[f64], frames: &[(u32, u32)], narrow: usize, block: usize) -> Option<Sums> {
        let mut sums =
            Sums { highs: Vec::with_capacity(frames.len()), lows: Vec::with_capacity(frames.len()) };
        let mut left = frames;
        while let Some((from, to)) = left.first().copied() {
            let grows = |(by, frame): &(u32, &(u32, u32))| **frame == (from, from + 1 + by);
            let growing = (0..).zip(left).take_while(grows).count();
            let moves = |(by, frame): &(u32, &(u32, u32))| **frame == (from + by, to + by);
            let start = from as usize;
            let done = if growing > 1 {
                sums.add_growing(known_part(terms, start..start + growing), block);
                growing
            } else if (1..=narrow).contains(&(to.saturating_sub(from) as usize)) {
                let moving = (0..).zip(left).take(NEAR).take_while(moves).count();
                sums.add_moving(known_part(terms, start..to as usize - 1 + moving), moving);
                moving
            } else {
                return None;
            };
            left = left.get(done..).unwrap_or_default();
        }
        Some(sums)
    }

    /// Adds the sums of so many frames, each of which starts one term later; the last one ends with the terms.
    fn add_moving(&mut self, terms: &[f64], frames: usize) {
        let before = self.highs.len();
        // As the sum of no term and this one is: zeros have no sign.
        self.highs.extend(known_part(terms, 0..frames).iter().map(|term| 0.0 + term));
        self.lows.resize(before + frames, 0.0);
        for from in 1..=terms.len() - frames {
            let terms = known_part(terms, from..from + frames);
            let into = self.highs.get_mut(before..).zip(self.lows.get_mut(before..)).unwrap_or_default();
            Way::run(
                #[inline(always)]
                || add_terms(into, terms),
            );
        }
    }

    /// Adds the sums of the first term, of the first two, and so on.
    fn add_growing(&mut self, terms: &[f64], block: usize) {
        let mut full: Option<Sum> = None;
        for terms in terms.chunks(block.max(1)) {
            let (mut last, mut whole) = (Sum::default(), Sum::default());
            for term in terms {
                last.add(*term);
                whole = full.map_or(last, |mut full| {
                    full.merge(last);
                    full
                });
                let (high, low) = whole.parts();
                self.highs.push(high);
                self.lows.push(low);
            }
            full = Some(whole);
        }
    }

    /// What [`Sum::mean`] gives of each sum of so many terms; 0 where there is none.
    pub fn means(&self, counts: &[f64]) -> Vec<f64> {
        let mut means = vec![0.0; counts.len()];
        let parts = self.highs.chunks(TOGETHER).zip(self.lows.chunks(TOGETHER)).zip(counts.chunks(TOGETHER));
        for (((highs, lows), counts), means) in parts.zip(means.chunks_mut(TOGETHER)) {
            let mut rare = [0; TOGETHER];
            Way::run(
                #[inline(always)]
                || usual_means(highs, lows, counts, means, &mut rare),
            );
            for (i, mean) in means.iter_mut().enumerate().filter(|(i, _)| known(&rare, *i) != 0) {
                let count = known(counts, i);
                let sum = Sum::of_parts(known(highs, i), known(lows, i));
                *mean = if count > 0.0 { sum.mean(count) } else { 0.0 };
            }
        }
        means
    }
}

/// Adds a term to each sum.
#[inline(always)]
fn add_terms((highs, lows): (&mut [f64], &mut [f64]), terms: &[f64]) {
    for ((high, low), term) in highs.iter_mut().zip(lows).zip(terms) {
        let (sum, error) = double::two_sum(*high, *term);
        (*high, *low) = (sum, *low + error);
    }
}

/// The means as [`Sum::mean`] works them out, without its branches; a number other than 0 in `rare` says that it takes one.
#[inline(always)]
fn usual_means(highs: &[f64], lows: &[f64], counts: &[f64], means: &mut [f64], rare: &mut [u64; TOGETHER]) {
    let parts = highs.iter().zip(lows).zip(counts);
    for ((((high, low), count), mean), rare) in parts.zip(means).zip(rare) {
        let quotient = high / count;
        let rest = (double::exact_rest(*high, quotient, *count) + low) / count;
        let total = quotient + rest;
        let left = (quotient - total) + rest;
        // In the middle of two floats, what is left is a power of two.
        let is_middle = (left.to_bits() << 12 == 0) & (left != 0.0);
        let is_exact = double::has_exact_rest(quotient, *count) | (quotient == 0.0);
        *mean = total;
        *rare = u64::from(is_middle | !is_exact | !total.is_finite());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn terms() -> impl Strategy<Value = Vec<f64>> {
        let tenths = (-2_000i32..20_000).prop_map(|n| f64::from(n) / 10.0);
        let rare = prop::sample::select(vec![0.0, f64::INFINITY, f64::NAN, 1e300, -1e300, 5e-324, 1e-210]);
        prop::collection::vec(prop_oneof![8 => tenths, 1 => any::<f64>(), 1 => rare], 1..200)
    }

    fn single(term: f64) -> Sum {
        let mut sum = Sum::default();
        sum.add(term);
        sum
    }

    fn same(found: &[f64], expected: &[f64]) -> bool {
        let bits = |value: &f64| if value.is_nan() { f64::NAN.to_bits() } else { value.to_bits() };
        found.iter().map(bits).eq(expected.iter().map(bits))
    }

    proptest! {
        /// Sums and means of frames are those of adding terms one by one.
        #[test]
        fn frames_are_summed_as_one_by_one(terms in terms(), widths in prop::collection::vec(1usize..9, 1..4)) {
            let mut frames: Vec<(u32, u32)> = Vec::new();
            for end in 1..=terms.len() {
                let width = widths[end * widths.len() / (terms.len() + 1)];
                let start = (end.saturating_sub(width) as u32).max(frames.last().map_or(0, |frame| frame.0));
                frames.push((start, end as u32));
            }
            let expected: Vec<Sum> = frames.iter().map(|(from, to)| {
                let mut sum = Sum::default();
                terms[*from as usize..*to as usize].iter().for_each(|term| sum.add(*term));
                sum
            }).collect();
            let sums = Sums::of_frames(&terms, &frames, 8, terms.len());
            let sums = sums.ok_or_else(|| TestCaseError::fail("narrow frames"))?;
            let totals: Vec<f64> = expected.iter().map(|sum| sum.total()).collect();
            prop_assert!(same(&sums.totals(), &totals));
            let counts: Vec<f64> = frames.iter().map(|(from, to)| f64::from(to - from)).collect();
            let means: Vec<f64> = expected.iter().zip(&counts).map(|(sum, count)| sum.mean(*count)).collect();
            prop_assert!(same(&sums.means(&counts), &means));
        }
    }

    #[test]
    fn a_mean_of_no_terms_is_zero() {
        let sums: Sums = [Sum::default(), single(4.5)].into_iter().collect();
        assert_eq!(sums.means(&[0.0, 3.0]), [0.0, 1.5]);
    }
}
