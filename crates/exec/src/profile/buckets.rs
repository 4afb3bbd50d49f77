//! Counts of values by buckets: quantiles and histograms of columns that hold too many values to count each.
//!
//! The buckets do not rest on the order of the values nor on the number of threads. Memory: 2 kB for each 256 buckets
//! side by side of which one holds something (for numbers, those from one power of two to the next), and 8 bytes for
//! each 256 between the least value and the greatest; at most 8 MB for numbers of any size, 29 MB for days of the years
//! 1 to 9999.

/// Which values share a bucket.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Scale {
    /// Those that differ by less than about 0.4 %: 256 buckets from a number to its double.
    Relative,
    /// Those with the same whole part.
    Whole,
}

/// Bits of a float's fraction that tell buckets apart.
const FRACTION: u32 = 8;

/// Bits of a float that stand behind those.
const CUT: u32 = 52 - FRACTION;

impl Scale {
    fn bucket(self, x: f64) -> i64 {
        match self {
            Scale::Whole => x.floor() as i64,
            Scale::Relative => {
                let size = (x.abs().to_bits() >> CUT).cast_signed();
                if x < 0.0 { -size - 1 } else { size }
            }
        }
    }

    /// The least number of a bucket and the least of the next.
    fn range(self, bucket: i64) -> (f64, f64) {
        match self {
            Scale::Whole => (bucket as f64, (bucket + 1) as f64),
            Scale::Relative => {
                let from = |size: i64| f64::from_bits(size.cast_unsigned() << CUT);
                if bucket < 0 {
                    (-from(-bucket), -from(-bucket - 1))
                } else {
                    (from(bucket), from(bucket + 1))
                }
            }
        }
    }
}

/// Counts by bucket.
#[derive(Clone, Debug)]
pub struct Buckets {
    scale: Scale,
    /// The number of the first page.
    first: i64,
    /// Counts of buckets side by side; `None` where all are 0.
    pages: Vec<Option<Box<Page>>>,
}

/// Counts of buckets side by side: for numbers, those from a power of two to the next.
type Page = [u64; 1 << FRACTION];

impl Buckets {
    pub(crate) fn new(scale: Scale) -> Buckets {
        Buckets { scale, first: 0, pages: Vec::new() }
    }

    /// Counts a number so many times; NaN and infinite ones are not counted.
    pub(crate) fn add(&mut self, x: f64, times: u64) {
        if x.is_finite() {
            self.add_to(self.scale.bucket(x), times);
        }
    }

    #[inline]
    fn add_to(&mut self, bucket: i64, times: u64) {
        let page = bucket >> FRACTION;
        if !(self.first..self.first + self.pages.len() as i64).contains(&page) {
            self.cover(page);
        }
        let place = (bucket & ((1 << FRACTION) - 1)) as usize;
        if let Some(page) = self.pages.get_mut((page - self.first) as usize) {
            let page = page.get_or_insert_with(|| Box::new([0; 1 << FRACTION]));
            if let Some(count) = page.get_mut(place) {
                *count += times;
            }
        }
    }

    /// Makes room for a page.
    #[cold]
    fn cover(&mut self, page: i64) {
        if self.pages.is_empty() {
            self.first = page;
        }
        let before = (self.first - page).max(0) as usize;
        self.pages.splice(..0, std::iter::repeat_n(None, before));
        self.first = self.first.min(page);
        let behind = (page - self.first) as usize + 1;
        if behind > self.pages.len() {
            self.pages.resize(behind, None);
        }
    }

    /// The buckets that hold something, rising, with their counts.
    fn counts(&self) -> impl Iterator<Item = (i64, u64)> {
        let pages = (self.first..).zip(&self.pages);
        let counts =
            pages.flat_map(|(number, page)| (number << FRACTION..).zip(page.iter().flat_map(|p| p.iter())));
        counts.filter(|(_, times)| **times > 0).map(|(bucket, times)| (bucket, *times))
    }

    /// Adds the counts of another of the same scale.
    pub(crate) fn merge(&mut self, other: &Buckets) {
        other.counts().for_each(|(bucket, times)| self.add_to(bucket, times));
    }

    /// The middle of each bucket that holds something, rising, with its count.
    ///
    /// Where a bucket holds one whole number and starts with it, that stands for its middle.
    pub fn middles(&self) -> impl Iterator<Item = (f64, u64)> {
        let middle = |bucket: i64| {
            let (from, to) = self.scale.range(bucket);
            let start = if bucket < 0 && self.scale == Scale::Relative { to } else { from };
            if to - from <= 1.0 && start.fract() == 0.0 { start } else { (from + to) / 2.0 }
        };
        self.counts().map(move |(bucket, times)| (middle(bucket), times))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn middles_are_near(x in prop_oneof![-1e12f64..1e12, -1.0f64..1.0, Just(0.0)]) {
            let mut buckets = Buckets::new(Scale::Relative);
            buckets.add(x, 1);
            let (middle, count) = buckets.middles().next().unwrap_or_default();
            prop_assert_eq!(count, 1);
            prop_assert!((middle - x).abs() <= x.abs() / 250.0 || (middle - x).abs() < 1e-300, "{} for {}", middle, x);
        }

        #[test]
        fn whole_numbers_below_512_are_exact(x in -511i32..512) {
            let mut buckets = Buckets::new(Scale::Relative);
            buckets.add(f64::from(x), 1);
            prop_assert_eq!(buckets.middles().next(), Some((f64::from(x), 1)));
        }

        #[test]
        fn merged_as_if_one(a in prop::collection::vec(-50i32..50, 0..20), b in prop::collection::vec(-50i32..50, 0..20)) {
            let of = |values: &[i32]| {
                let mut buckets = Buckets::new(Scale::Whole);
                values.iter().for_each(|x| buckets.add(f64::from(*x), 1));
                buckets
            };
            let mut merged = of(&a);
            merged.merge(&of(&b));
            let all = of(&[a, b].concat());
            prop_assert_eq!(merged.middles().collect::<Vec<_>>(), all.middles().collect::<Vec<_>>());
        }
    }
}
