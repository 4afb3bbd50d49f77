//! Sums that carry their own rounding error.
//!
//! A [`Sum`] is the unevaluated total of two floats, the second the error of the first (Knuth's two-sum; the
//! method is described in Hida, Li and Bailey, *Library for Double-Double and Quad-Double Arithmetic*, 2000).
//! It is good to about 106 bits, so that the order of the terms does not show in the answer.

/// A running sum in double-double arithmetic.
#[derive(Clone, Copy, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Sum {
    high: f64,
    low: f64,
}

impl Sum {
    /// The rounded sum, and its error.
    #[inline]
    pub(crate) fn parts(self) -> (f64, f64) {
        (self.high, self.low)
    }

    /// The sum of these parts.
    #[inline]
    pub(crate) fn of_parts(high: f64, low: f64) -> Sum {
        Sum { high, low }
    }

    /// Adds one number.
    #[inline]
    pub fn add(&mut self, x: f64) {
        let (sum, error) = two_sum(self.high, x);
        self.high = sum;
        self.low += error;
    }

    /// Adds the exact product of two numbers.
    #[inline]
    pub fn add_product(&mut self, a: f64, b: f64) {
        let product = a * b;
        self.add(product);
        let error = a.mul_add(b, -product);
        if error.is_finite() {
            self.low += error;
        }
    }

    /// Adds what the rounding of a term lost.
    #[inline]
    pub fn add_error(&mut self, error: f64) {
        if error.is_finite() {
            self.low += error;
        }
    }

    /// The difference of two numbers.
    #[inline]
    pub fn difference(a: f64, b: f64) -> Sum {
        let mut difference = Sum::default();
        difference.add(a);
        difference.add(-b);
        difference
    }

    /// The sum times a number.
    #[inline]
    pub fn scaled(self, by: f64) -> Sum {
        let mut product = Sum::default();
        product.add_product(self.high, by);
        product.add_error(self.low * by);
        product
    }

    /// Adds another sum.
    #[inline]
    pub fn merge(&mut self, other: Sum) {
        self.add(other.high);
        self.low += other.low;
    }

    /// This sum less another.
    #[inline]
    pub fn minus(self, other: Sum) -> Sum {
        let mut result = self;
        result.add(-other.high);
        result.low -= other.low;
        result
    }

    /// The product of two sums.
    #[inline]
    pub fn times(self, other: Sum) -> Sum {
        let mut product = Sum::default();
        product.add_product(self.high, other.high);
        product.low += self.high * other.low + self.low * other.high;
        product
    }

    /// The sum divided by a number.
    #[inline]
    pub fn over(self, by: f64) -> Sum {
        let quotient = self.high / by;
        Sum { high: quotient, low: (rest(self.high, quotient, by) + self.low) / by }
    }

    /// The mean of so many terms, rounded once. Where it lies in the very middle of two floats, the one that is written
    /// with fewer digits: the mean of 4.6 and 4.8 is 4.7.
    #[inline]
    pub fn mean(self, count: f64) -> f64 {
        let quotient = self.over(count);
        let mean = quotient.total();
        let rest = (quotient.high - mean) + quotient.low;
        let other = if rest > 0.0 { mean.next_up() } else { mean.next_down() };
        if rest != 0.0 && other - mean == 2.0 * rest {
            let digits = |value: f64| zmij::Buffer::new().format(value).len();
            if digits(other) < digits(mean) {
                return other;
            }
        }
        mean
    }

    /// The total, rounded once.
    #[inline]
    pub fn total(self) -> f64 {
        let total = self.high + self.low;
        // Infinite terms leave NaN in the error; the plain sum then has the right answer.
        if self.high.is_finite() && total.is_finite() { total } else { self.high }
    }
}

/// What a rounded quotient times the divisor leaves of the dividend; exact.
#[inline]
fn rest(dividend: f64, quotient: f64, divisor: f64) -> f64 {
    if has_exact_rest(quotient, divisor) {
        return exact_rest(dividend, quotient, divisor);
    }
    (-quotient).mul_add(divisor, dividend)
}

/// Whether [`exact_rest`] is exact: the divisor is a whole number of as many bits as half of a quotient, and the quotient
/// of a size for which no part of a product is lost.
#[inline(always)]
pub(crate) fn has_exact_rest(quotient: f64, divisor: f64) -> bool {
    const HALF: f64 = (1u64 << 26) as f64;
    let is_whole = f64::from(divisor as i32) == divisor;
    (1e-200..1e200).contains(&quotient.abs()) & (1.0..=HALF).contains(&divisor) & is_whole
}

/// What a rounded quotient times the divisor leaves of the dividend, without a fused multiplication, which a processor that
/// lacks it takes longer to imitate.
#[inline(always)]
pub(crate) fn exact_rest(dividend: f64, quotient: f64, divisor: f64) -> f64 {
    // Each half of the quotient times the divisor is exact, and so are both differences (Dekker).
    let high = f64::from_bits(quotient.to_bits() & !((1 << 27) - 1));
    (dividend - high * divisor) - (quotient - high) * divisor
}

/// The rounded sum of two floats and what the rounding lost.
#[inline(always)]
pub(crate) fn two_sum(a: f64, b: f64) -> (f64, f64) {
    let sum = a + b;
    let b_part = sum - a;
    let error = (a - (sum - b_part)) + (b - b_part);
    (sum, error)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn small_terms_survive_large_ones() {
        let mut sum = Sum::default();
        for x in [1e16, 1.0, -1e16, 0.1] {
            sum.add(x);
        }
        assert_eq!(sum.total(), 1.1);
    }

    #[test]
    fn a_mean_between_two_floats_is_the_shorter_one() {
        for (terms, mean) in [(vec![4.6, 4.8], 4.7), (vec![0.1, 0.2, 0.3], 0.2), (vec![1.0, 2.0], 1.5)] {
            let mut sum = Sum::default();
            terms.iter().for_each(|x| sum.add(*x));
            assert_eq!(sum.mean(terms.len() as f64), mean);
        }
    }

    proptest! {
        /// What a quotient leaves is what a fused multiplication gives.
        #[test]
        fn what_a_quotient_leaves_is_exact(
            dividend in prop_oneof![any::<f64>(), -1e9..1e9f64, (0u32..100_000).prop_map(|n| f64::from(n) / 10.0)],
            divisor in prop_oneof![
                1u32..20, Just(1 << 26), (1 << 25)..(1u32 << 27), any::<u32>(),
            ].prop_map(f64::from),
        ) {
            let quotient = dividend / divisor;
            let expected = (-quotient).mul_add(divisor, dividend);
            let found = rest(dividend, quotient, divisor);
            prop_assert!(found == expected || found.is_nan() && expected.is_nan(), "{found} {expected}");
        }
    }

    #[test]
    fn infinity_and_nan_come_through() {
        let mut sum = Sum::default();
        sum.add(f64::INFINITY);
        sum.add(1.0);
        assert_eq!(sum.total(), f64::INFINITY);
        sum.add(f64::NEG_INFINITY);
        assert!(sum.total().is_nan());
    }

    #[test]
    fn products_are_exact() {
        let mut sum = Sum::default();
        let x = 1.0 + f64::EPSILON;
        sum.add_product(x, x);
        sum.add(-1.0);
        sum.add(-2.0 * f64::EPSILON);
        assert_eq!(sum.total(), f64::EPSILON * f64::EPSILON);
    }
}
