//! How numbers are spread: each of them while they are few, else their counts by bins.

use super::{Bins, Ladder};

/// Numbers that are held each.
const FEW: usize = 10_000;

/// Numbers as they are spread.
#[derive(Clone, Debug)]
pub struct Spread {
    exact: Vec<f64>,
    bins: Option<Bins>,
    ladder: Ladder,
}

impl Spread {
    /// No number yet.
    pub fn new(ladder: Ladder) -> Spread {
        Spread { exact: Vec::new(), bins: None, ladder }
    }

    /// Adds a number that is finite.
    #[inline]
    pub fn add(&mut self, x: f64) {
        match &mut self.bins {
            Some(bins) => bins.add(x, 1),
            None => {
                self.exact.push(x);
                if self.exact.len() > FEW {
                    let mut bins = Bins::new(self.ladder);
                    std::mem::take(&mut self.exact).into_iter().for_each(|x| bins.add(x, 1));
                    self.bins = Some(bins);
                }
            }
        }
    }

    /// Adds numbers; gives how many are NaN or infinite, which are left out.
    pub fn add_all(&mut self, numbers: &[f64]) -> u64 {
        let few = FEW.saturating_sub(self.exact.len()) + 1;
        let few = if self.bins.is_some() { 0 } else { few.min(numbers.len()) };
        let (first, rest) = numbers.split_at(few);
        let finite = first.iter().filter(|x| x.is_finite());
        let mut infinite = first.len() as u64;
        for x in finite {
            infinite -= 1;
            self.add(*x);
        }
        match &mut self.bins {
            Some(bins) => infinite + bins.add_all(rest),
            None if rest.is_empty() => infinite,
            None => infinite + self.add_all(rest),
        }
    }

    /// Whether each number is held.
    pub fn is_exact(&self) -> bool {
        self.bins.is_none()
    }

    /// Numbers that were added.
    pub fn total(&self) -> u64 {
        self.exact.len() as u64 + self.bins.as_ref().map_or(0, Bins::total)
    }

    /// The numbers, rising, each with how often it occurs; of bins their starts.
    pub fn counted(&self) -> Vec<(f64, u64)> {
        if let Some(bins) = &self.bins {
            return bins.counted().map(|(from, _, count)| (from, count)).collect();
        }
        let mut sorted = self.exact.clone();
        sorted.sort_by(f64::total_cmp);
        let mut counted: Vec<(f64, u64)> = Vec::new();
        for x in sorted {
            match counted.last_mut() {
                Some((last, count)) if *last == x => *count += 1,
                _ => counted.push((x, 1)),
            }
        }
        counted
    }

    /// As counts by bins, whether they are held each or not.
    pub fn into_bins(self) -> Bins {
        self.bins.unwrap_or_else(|| {
            let mut bins = Bins::new(self.ladder);
            self.exact.into_iter().for_each(|x| bins.add(x, 1));
            bins
        })
    }
}

/// The number below which some share of counted numbers lies, between two of them in proportion; NaN without any.
pub fn quantile(counted: &[(f64, u64)], share: f64) -> f64 {
    let total: u64 = counted.iter().map(|(_, count)| count).sum();
    let rank = share * total.saturating_sub(1) as f64;
    let at = |rank: u64| {
        let mut before = 0;
        let found = counted.iter().find(|(_, count)| {
            before += count;
            rank < before
        });
        found.or(counted.last()).map_or(f64::NAN, |(x, _)| *x)
    };
    let (low, high) = (at(rank.floor() as u64), at(rank.ceil() as u64));
    if low == high { low } else { low + (high - low) * rank.fract() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[1.0, 2.0, 3.0, 4.0], 0.5, 2.5)]
    #[case(&[1.0, 2.0, 3.0, 4.0], 0.25, 1.75)]
    #[case(&[3.0, 1.0, 1.0], 0.5, 1.0)]
    #[case(&[7.0], 0.75, 7.0)]
    fn quantiles_lie_between_in_proportion(
        #[case] numbers: &[f64],
        #[case] share: f64,
        #[case] expected: f64,
    ) {
        let mut spread = Spread::new(Ladder::Tens);
        numbers.iter().for_each(|x| spread.add(*x));
        assert_eq!(quantile(&spread.counted(), share), expected);
    }

    #[test]
    fn many_numbers_are_near() {
        let mut spread = Spread::new(Ladder::Tens);
        (0..100_000).for_each(|i| spread.add(f64::from(i) / 7.0));
        assert!(!spread.is_exact());
        assert_eq!(spread.total(), 100_000);
        let middle = quantile(&spread.counted(), 0.5);
        assert!((middle - 50_000.0 / 7.0).abs() < 3.0, "{middle}");
    }
}
