//! Counts of numbers by bins of one width, which is found while the numbers come.
//!
//! The first number decides for a very small width. Whenever the bins from the least number to the greatest would be too
//! many, they are put together to bins of the next width of a [`Ladder`], each of which is a whole number of those before.
//! So the counts rest on the numbers alone, not on their order: those of the smallest width that has few enough bins.

use std::collections::VecDeque;

use super::floor;

/// The widths that bins may have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ladder {
    /// Powers of ten: for numbers. At least some thousand bins lie between the least and the greatest.
    Tens,
    /// Whole days: for dates.
    Days,
    /// 1 and 10 seconds, 1 and 10 minutes, an hour, a day: for times and moments in seconds.
    Seconds,
}

/// Widths of seconds, before those of days.
const SECONDS: [f64; 6] = [1.0, 10.0, 60.0, 600.0, 3600.0, 86_400.0];

impl Ladder {
    /// The most bins of one width.
    fn most(self) -> i64 {
        match self {
            Ladder::Tens => 20_000,
            // All days of the calendar; a year of ten seconds each.
            Ladder::Days | Ladder::Seconds => 4_000_000,
        }
    }

    /// The lowest step of which the bin of a number can still be told from its neighbours.
    fn lowest(self, x: f64) -> i32 {
        match self {
            Ladder::Tens if x == 0.0 => -300,
            Ladder::Tens => (x.abs().log10().floor() as i32 - 15).max(-300),
            Ladder::Days | Ladder::Seconds => 0,
        }
    }

    /// The width of bins of a step.
    fn width(self, step: i32) -> f64 {
        match self {
            Ladder::Seconds => {
                let known = usize::try_from(step).ok().and_then(|step| SECONDS.get(step));
                known.copied().unwrap_or_else(|| 86_400.0 * 10f64.powi(step - 5))
            }
            Ladder::Tens | Ladder::Days => 10f64.powi(step),
        }
    }

    /// How many bins of a step make one of the next.
    fn factor(self, step: i32) -> i64 {
        match self {
            Ladder::Seconds if step < 5 => (self.width(step + 1) / self.width(step)).round() as i64,
            _ => 10,
        }
    }
}

/// Counts of numbers by bins.
#[derive(Clone, Debug)]
pub struct Bins {
    ladder: Ladder,
    step: i32,
    /// What a number is multiplied with, or divided by where the width is more than 1: exact for decimals either way.
    times: f64,
    divides: bool,
    first: i64,
    counts: VecDeque<u64>,
}

impl Bins {
    /// No number yet.
    pub fn new(ladder: Ladder) -> Bins {
        let mut bins =
            Bins { ladder, step: i32::MIN, times: 1.0, divides: false, first: 0, counts: VecDeque::new() };
        if ladder != Ladder::Tens {
            bins.set_step(0);
        }
        bins
    }

    fn set_step(&mut self, step: i32) {
        let width = self.ladder.width(step);
        self.step = step;
        self.divides = width > 1.0;
        // The power itself, since the quotient of 1 and it is not exact.
        self.times = if self.divides { width } else { self.ladder.width(-step) };
    }

    /// The bin of a number: that of its decimal text, where its double lies a rounding below a border.
    #[inline]
    fn place(&self, x: f64) -> i64 {
        let scaled = if self.divides { x / self.times } else { x * self.times };
        floor(scaled + scaled.abs() * (4.0 * f64::EPSILON))
    }

    /// Counts numbers; gives how many are NaN or infinite, which are left out.
    pub fn add_all(&mut self, numbers: &[f64]) -> u64 {
        let mut infinite = 0;
        let mut rest = numbers;
        while let Some((x, after)) = rest.split_first() {
            if !x.is_finite() {
                infinite += 1;
                rest = after;
                continue;
            }
            // Makes room for the first that is new; those behind it that have bins are counted without a look at it.
            self.add(*x, 1);
            rest = after;
            let (first, limit) = (self.first, self.times_limit());
            let (times, divides) = (self.times, self.divides);
            let counts = self.counts.make_contiguous();
            let mut done = 0;
            for x in rest {
                let scaled = if divides { x / times } else { x * times };
                let place = floor(scaled + scaled.abs() * (4.0 * f64::EPSILON));
                let count =
                    usize::try_from(place.wrapping_sub(first)).ok().and_then(|place| counts.get_mut(place));
                // Neither NaN nor an infinite one is below the limit.
                match count {
                    Some(count) if x.abs() < limit => *count += 1,
                    _ => break,
                }
                done += 1;
            }
            rest = rest.get(done..).unwrap_or_default();
        }
        infinite
    }

    /// Counts a number so many times; NaN and infinite ones are the caller's to leave out.
    #[inline]
    pub fn add(&mut self, x: f64, times: u64) {
        if self.step != i32::MIN && x.abs() < self.times_limit() {
            let place = self.place(x);
            if let Some(count) = usize::try_from(place - self.first).ok().and_then(|i| self.counts.get_mut(i))
            {
                *count += times;
                return;
            }
        }
        self.add_beyond(x, times);
    }

    /// Numbers below this have a bin whose number is exact.
    #[inline]
    fn times_limit(&self) -> f64 {
        if self.divides { 1e15 * self.times } else { 1e15 / self.times }
    }

    #[cold]
    fn add_beyond(&mut self, x: f64, times: u64) {
        let lowest = self.ladder.lowest(x);
        if self.step == i32::MIN {
            self.set_step(lowest);
        }
        while self.step < lowest || x.abs() >= self.times_limit() {
            self.widen();
        }
        loop {
            let place = self.place(x);
            let (first, last) = match self.counts.len() as i64 {
                0 => (place, place),
                bins => (self.first.min(place), (self.first + bins - 1).max(place)),
            };
            if last - first < self.ladder.most() {
                self.cover(first, last);
                if let Some(count) = self.counts.get_mut((place - self.first) as usize) {
                    *count += times;
                }
                return;
            }
            self.widen();
        }
    }

    /// Makes room for the bins from one to another.
    fn cover(&mut self, first: i64, last: i64) {
        if self.counts.is_empty() {
            self.first = first;
        }
        for _ in first..self.first {
            self.counts.push_front(0);
        }
        self.first = first;
        self.counts.resize((last - first + 1) as usize, 0);
    }

    /// Puts bins together to those of the next width.
    fn widen(&mut self) {
        let factor = self.ladder.factor(self.step);
        let mut counts = VecDeque::new();
        let first = self.first.div_euclid(factor);
        for (place, count) in (self.first..).zip(&self.counts) {
            let at = (place.div_euclid(factor) - first) as usize;
            if at >= counts.len() {
                counts.resize(at + 1, 0);
            }
            if let Some(wide) = counts.get_mut(at) {
                *wide += count;
            }
        }
        self.first = first;
        self.counts = counts;
        self.set_step(self.step + 1);
    }

    /// Adds the counts of others of the same ladder.
    pub fn merge(&mut self, others: &Bins) {
        let mut others = others.clone();
        if others.counts.is_empty() {
            return;
        }
        if self.counts.is_empty() {
            *self = others;
            return;
        }
        while self.step < others.step {
            self.widen();
        }
        while others.step < self.step {
            others.widen();
        }
        loop {
            let first = self.first.min(others.first);
            let last =
                (self.first + self.counts.len() as i64).max(others.first + others.counts.len() as i64) - 1;
            if last - first < self.ladder.most() {
                self.cover(first, last);
                break;
            }
            self.widen();
            others.widen();
        }
        let ahead = others.first - self.first;
        for (place, count) in (ahead..).zip(others.counts) {
            if let Some(ours) = usize::try_from(place).ok().and_then(|place| self.counts.get_mut(place)) {
                *ours += count;
            }
        }
    }

    /// The width of a bin; 0 without a number.
    pub fn width(&self) -> f64 {
        if self.step == i32::MIN { 0.0 } else { self.ladder.width(self.step) }
    }

    /// The start of a bin of some number: a quotient where the width is below 1, so that it is as it is written.
    fn start(&self, place: i64) -> f64 {
        if self.divides { place as f64 * self.times } else { place as f64 / self.times }
    }

    /// The bins that hold something: their start, their end and their count, rising.
    pub fn counted(&self) -> impl Iterator<Item = (f64, f64, u64)> {
        let counted = (self.first..).zip(&self.counts).filter(|(_, count)| **count > 0);
        counted.map(|(place, count)| (self.start(place), self.start(place + 1), *count))
    }

    /// Numbers that were counted.
    pub fn total(&self) -> u64 {
        self.counts.iter().sum()
    }

    /// Counts between borders, which rise and cover all numbers: each bin is counted where it starts.
    pub fn between(&self, borders: &[f64]) -> Vec<u64> {
        let mut counts = vec![0; borders.len().saturating_sub(1)];
        for (from, to, count) in self.counted() {
            // The middle, which no rounding of a border moves to its other side.
            let middle = f64::midpoint(from, to);
            let at = borders.partition_point(|border| *border <= middle).saturating_sub(1);
            let last = counts.len().saturating_sub(1);
            if let Some(own) = counts.get_mut(at.min(last)) {
                *own += count;
            }
        }
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn of(ladder: Ladder, numbers: &[f64]) -> Bins {
        let mut bins = Bins::new(ladder);
        numbers.iter().for_each(|x| bins.add(*x, 1));
        bins
    }

    fn told(bins: &Bins) -> (f64, Vec<(f64, f64, u64)>) {
        (bins.width(), bins.counted().collect())
    }

    #[rstest]
    #[case(&[0.29, 0.3, 0.58])]
    #[case(&[1e-9, 1.0, 1e9])]
    #[case(&[0.0, 5.0, -3.25])]
    #[case(&[1e300, -1e300])]
    fn the_order_of_numbers_does_not_matter(#[case] numbers: &[f64]) {
        let mut turned = numbers.to_vec();
        turned.reverse();
        assert_eq!(told(&of(Ladder::Tens, numbers)), told(&of(Ladder::Tens, &turned)));
    }

    #[rstest]
    #[case(0.29)]
    #[case(0.58)]
    #[case(1.1)]
    #[case(4.35)]
    fn a_decimal_starts_its_bin(#[case] x: f64) {
        let bins = of(Ladder::Tens, &[x, 100.0, 0.0]);
        let width = bins.width();
        assert!(bins.counted().any(|(from, to, _)| from == x && to > x), "{x} in bins of {width}");
    }

    #[rstest]
    #[case(Ladder::Days, &[0.0, 3_000_000.0], 1.0)]
    #[case(Ladder::Seconds, &[0.0, 86_400.0], 1.0)]
    #[case(Ladder::Seconds, &[0.0, 4e8], 600.0)]
    #[case(Ladder::Seconds, &[0.0, 63_000_000_000.0], 86_400.0)]
    #[case(Ladder::Tens, &[0.0, 200.0], 0.1)]
    fn widths_are_of_the_ladder(#[case] ladder: Ladder, #[case] numbers: &[f64], #[case] width: f64) {
        let bins = of(ladder, numbers);
        // The narrowest that has few enough.
        assert!(bins.width() <= width * 10.0 && bins.width() >= width / 10.0, "{}", bins.width());
        assert_eq!(bins.total(), numbers.len() as u64);
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_all_lies_in_its_bin(numbers in prop::collection::vec(-1e6f64..1e6, 1..60)) {
            let bins = of(Ladder::Tens, &numbers);
            prop_assert_eq!(bins.total(), numbers.len() as u64);
            for x in &numbers {
                let slack = x.abs() * 1e-14;
                prop_assert!(bins.counted().any(|(from, to, _)| from - slack <= *x && *x < to + slack));
            }
        }

        #[test]
        fn all_at_once_as_one_by_one(numbers in prop::collection::vec(prop_oneof![-1e4f64..1e4, Just(f64::NAN), Just(f64::INFINITY), Just(0.3)], 0..60)) {
            let mut together = Bins::new(Ladder::Tens);
            let infinite = together.add_all(&numbers);
            let finite: Vec<f64> = numbers.iter().copied().filter(|x| x.is_finite()).collect();
            prop_assert_eq!(infinite, (numbers.len() - finite.len()) as u64);
            prop_assert_eq!(told(&together), told(&of(Ladder::Tens, &finite)));
        }

        #[test]
        fn days_are_merged(a in prop::collection::vec(-3000i32..3000, 0..30), b in prop::collection::vec(-90_000i32..90_000, 0..30)) {
            let of = |days: &[i32]| of(Ladder::Days, &days.iter().map(|day| f64::from(*day)).collect::<Vec<_>>());
            let mut merged = of(&a);
            merged.merge(&of(&b));
            prop_assert_eq!(told(&merged), told(&of(&[a, b].concat())));
        }

        #[test]
        fn merged_as_if_one(a in prop::collection::vec(-1e4f64..1e4, 0..30), b in prop::collection::vec(-1e7f64..1e7, 0..30)) {
            let mut merged = of(Ladder::Tens, &a);
            merged.merge(&of(Ladder::Tens, &b));
            let all = of(Ladder::Tens, &[a, b].concat());
            prop_assert_eq!(merged.total(), all.total());
            prop_assert_eq!(told(&merged), told(&all));
        }

        #[test]
        fn counts_between_borders_are_all(numbers in prop::collection::vec(-50f64..50.0, 1..40), width in 1u8..20) {
            let bins = of(Ladder::Tens, &numbers);
            let width = f64::from(width);
            let from = (-50.0 / width).floor() * width;
            let borders: Vec<f64> = (0..200).map(|i| from + f64::from(i) * width).collect();
            let counts = bins.between(&borders);
            prop_assert_eq!(counts.iter().sum::<u64>(), numbers.len() as u64);
            for (i, count) in counts.iter().enumerate() {
                let within = numbers.iter().filter(|x| borders[i] <= **x && **x < borders[i + 1]).count() as u64;
                prop_assert_eq!(*count, within);
            }
        }
    }
}
