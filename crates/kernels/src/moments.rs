//! Sums of deviations from a value of the data, for variances and covariances.
//!
//! Squares about zero lose everything where the mean is large beside the spread: microseconds since 1970 have squares of
//! 31 digits, of which a variance of six needs the last. So deviations from a pivot are summed, which is the first value:
//! it is as near to the others as they are to each other. Two such sums merge by moving one to the pivot of the other
//! (Chan, Golub and LeVeque, *Algorithms for Computing the Sample Variance*, 1983), in double-double arithmetic.

use crate::double::Sum;

/// Count, deviations and their squares of numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Deviations {
    count: i64,
    /// The first number: deviations are from it.
    pivot: f64,
    sum: Sum,
    squares: Sum,
}

impl Deviations {
    /// Adds one number.
    #[inline]
    pub fn add(&mut self, x: f64) {
        if self.count == 0 {
            self.pivot = if x.is_finite() { x } else { 0.0 };
        }
        self.count += 1;
        let dx = difference(x, self.pivot);
        self.sum.add(dx.0);
        self.sum.add_error(dx.1);
        add_product(&mut self.squares, dx, dx);
    }

    /// Adds the deviations of later numbers.
    pub fn merge(&mut self, later: &Deviations) {
        if self.count == 0 {
            *self = *later;
            return;
        }
        let by = Sum::difference(later.pivot, self.pivot);
        let n = later.count as f64;
        self.squares.merge(moved(later.squares, (later.sum, by), (later.sum, by), n));
        self.sum.merge(later.sum);
        self.sum.merge(by.scaled(n));
        self.count += later.count;
    }

    /// The numbers that were added.
    pub fn count(&self) -> i64 {
        self.count
    }

    /// The sum of the squares about the mean; never below zero.
    pub fn squares(&self) -> f64 {
        not_below_zero(about_mean(self.squares, self.sum, self.sum, self.count))
    }
}

/// The products of deviations of `n` pairs of numbers, each moved to another pivot: the sum of its deviations, and by
/// how much.
fn moved(products: Sum, a: (Sum, Sum), b: (Sum, Sum), n: f64) -> Sum {
    let mut all = products;
    all.merge(a.0.times(b.1));
    all.merge(b.0.times(a.1));
    all.merge(a.1.times(b.1).scaled(n));
    all
}

/// The products about both means; NaN where there is an infinity among the numbers, as the mean is one then and no
/// deviation from it is a number.
fn about_mean(products: Sum, a: Sum, b: Sum, count: i64) -> f64 {
    if !(a.total().is_finite() && b.total().is_finite()) {
        return f64::NAN;
    }
    products.minus(a.times(b).over(count as f64)).total()
}

/// Counts, deviations and their products of pairs of numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Moments {
    count: i64,
    /// The first pair: deviations are from it.
    pivot: (f64, f64),
    x: Sum,
    y: Sum,
    xx: Sum,
    yy: Sum,
    xy: Sum,
}

/// The difference of two floats: rounded, and what the rounding lost.
#[inline]
fn difference(a: f64, b: f64) -> (f64, f64) {
    let rounded = a - b;
    let b_part = rounded - a;
    (rounded, (a - (rounded - b_part)) - (b + b_part))
}

/// Adds the product of two deviations, each a float and what its rounding lost.
#[inline]
fn add_product(sum: &mut Sum, a: (f64, f64), b: (f64, f64)) {
    sum.add_product(a.0, b.0);
    if a.1 != 0.0 || b.1 != 0.0 {
        sum.add_error(a.0 * b.1 + a.1 * b.0);
    }
}

impl Moments {
    /// Adds a pair of numbers.
    #[inline]
    pub fn add(&mut self, x: f64, y: f64) {
        if self.count == 0 {
            let finite = |value: f64| if value.is_finite() { value } else { 0.0 };
            self.pivot = (finite(x), finite(y));
        }
        self.count += 1;
        let (dx, dy) = (difference(x, self.pivot.0), difference(y, self.pivot.1));
        self.x.add(dx.0);
        self.x.add_error(dx.1);
        self.y.add(dy.0);
        self.y.add_error(dy.1);
        add_product(&mut self.xx, dx, dx);
        add_product(&mut self.yy, dy, dy);
        add_product(&mut self.xy, dx, dy);
    }

    /// Adds the moments of later numbers.
    pub fn merge(&mut self, later: &Moments) {
        if later.count == 0 {
            return;
        }
        if self.count == 0 {
            *self = *later;
            return;
        }
        // Σ(x − p) = Σ(x − q) + n·(q − p), and so on for the products.
        let by_x = Sum::difference(later.pivot.0, self.pivot.0);
        let by_y = Sum::difference(later.pivot.1, self.pivot.1);
        let n = later.count as f64;
        let (x, y) = ((later.x, by_x), (later.y, by_y));
        self.xx.merge(moved(later.xx, x, x, n));
        self.yy.merge(moved(later.yy, y, y, n));
        self.xy.merge(moved(later.xy, x, y, n));
        self.x.merge(later.x);
        self.x.merge(by_x.scaled(n));
        self.y.merge(later.y);
        self.y.merge(by_y.scaled(n));
        self.count += later.count;
    }

    /// The numbers that were added.
    pub fn count(&self) -> i64 {
        self.count
    }

    /// The sum of the squares of the first numbers about their mean; never below zero.
    pub fn squares_x(&self) -> f64 {
        not_below_zero(about_mean(self.xx, self.x, self.x, self.count))
    }

    /// The sum of the squares of the second numbers about their mean; never below zero.
    pub fn squares_y(&self) -> f64 {
        not_below_zero(about_mean(self.yy, self.y, self.y, self.count))
    }

    /// The sum of the products about both means.
    pub fn products(&self) -> f64 {
        about_mean(self.xy, self.x, self.y, self.count)
    }

    /// Pearson's correlation; `None` where one of them does not vary.
    pub fn correlation(&self) -> Option<f64> {
        let (xx, yy) = (self.squares_x(), self.squares_y());
        (self.count > 1 && xx > 0.0 && yy > 0.0)
            .then(|| (self.products() / (xx.sqrt() * yy.sqrt())).clamp(-1.0, 1.0))
    }

    /// The mean of the first numbers less `by` times the mean of the second.
    pub fn intercept(&self, by: f64) -> f64 {
        let mean = |pivot: f64, sum: Sum| {
            let mut mean = sum.over(self.count as f64);
            mean.add(pivot);
            mean
        };
        mean(self.pivot.0, self.x).minus(mean(self.pivot.1, self.y).scaled(by)).total()
    }
}

/// A sum of squares, whose rounding may leave it a little below zero.
fn not_below_zero(squares: f64) -> f64 {
    if squares < 0.0 { 0.0 } else { squares }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The sum of squares about the mean of whole numbers, exactly, times their number.
    fn exact(values: &[i64]) -> i128 {
        let n = values.len() as i128;
        // About a value of theirs, so that nothing overflows.
        let p = i128::from(values[0]);
        let sum: i128 = values.iter().map(|v| i128::from(*v) - p).sum();
        let squares: i128 = values.iter().map(|v| (i128::from(*v) - p).pow(2)).sum();
        squares * n - sum * sum
    }

    fn of(values: &[i64]) -> Moments {
        let mut moments = Moments::default();
        values.iter().for_each(|v| moments.add(*v as f64, -(*v as f64)));
        moments
    }

    proptest! {
        #[test]
        fn squares_as_by_exact_arithmetic(
            base in prop_oneof![Just(0i64), Just(1_000_000_000_000_000), Just(-1_700_000_000_000_000)],
            spread in prop::collection::vec(0i64..1001, 2..300),
            cuts in prop::collection::vec(0usize..300, 0..4),
        ) {
            let values: Vec<i64> = spread.iter().map(|v| base + v).collect();
            let expected = exact(&values) as f64 / values.len() as f64;
            let mut cuts: Vec<usize> = cuts.into_iter().map(|c| c.min(values.len())).chain([0, values.len()]).collect();
            cuts.sort_unstable();
            let mut merged = Moments::default();
            cuts.windows(2).for_each(|pair| merged.merge(&of(&values[pair[0]..pair[1]])));
            for moments in [of(&values), merged] {
                let close = |found: f64, expected: f64| (found - expected).abs() <= 1e-13 * expected.abs();
                prop_assert!(close(moments.squares_x(), expected), "{} {}", moments.squares_x(), expected);
                prop_assert!(close(moments.squares_y(), expected));
                prop_assert!(close(moments.products(), -expected));
                prop_assert_eq!(moments.count(), values.len() as i64);
            }
            let mut alone = Deviations::default();
            for pair in cuts.windows(2) {
                let mut part = Deviations::default();
                values[pair[0]..pair[1]].iter().for_each(|v| part.add(*v as f64));
                alone.merge(&part);
            }
            prop_assert!((alone.squares() - expected).abs() <= 1e-13 * expected);
        }

        /// An infinity leaves no deviation that is a number, wherever the numbers are cut.
        #[test]
        fn an_infinity_has_no_spread(
            before in prop::collection::vec(-3i8..3, 0..4),
            after in prop::collection::vec(-3i8..3, 0..4),
            is_first in any::<bool>(),
            cut in 0usize..9,
        ) {
            let finite = |values: &[i8]| values.iter().map(|v| f64::from(*v)).collect::<Vec<f64>>();
            let x = [finite(&before), vec![f64::INFINITY], finite(&after)].concat();
            let y: Vec<f64> = (0..x.len()).map(|i| i as f64).collect();
            let pairs: Vec<(f64, f64)> =
                x.iter().zip(&y).map(|(x, y)| if is_first { (*x, *y) } else { (*y, *x) }).collect();
            let of = |part: &[(f64, f64)]| {
                let mut moments = Moments::default();
                part.iter().for_each(|(x, y)| moments.add(*x, *y));
                moments
            };
            let (head, tail) = pairs.split_at(cut.min(pairs.len()));
            let mut merged = of(head);
            merged.merge(&of(tail));
            for moments in [of(&pairs), merged] {
                let (with, without) = (moments.squares_x(), moments.squares_y());
                let (with, without) = if is_first { (with, without) } else { (without, with) };
                prop_assert!(with.is_nan() && moments.products().is_nan());
                prop_assert!(without.is_finite());
                prop_assert_eq!(moments.correlation(), None);
            }
        }
    }
}
