//! Values looked for among bounds: most find their place by a look at a table.

/// Places of the table: few enough to stay in the nearest cache, so many that few of them have a bound within.
const SLOTS: usize = 1 << 13;

/// Bounds in order.
#[derive(Debug, PartialEq, Eq)]
pub struct Bounds {
    bounds: Vec<u128>,
    /// Bits of a value's distance from the first bound that do not tell its slot.
    shift: u32,
    /// How many bounds are in the slots before each one.
    before: Vec<u32>,
}

impl Bounds {
    /// Bounds that are in order.
    pub fn new(bounds: Vec<u128>) -> Bounds {
        let width = bounds.first().zip(bounds.last()).map_or(0, |(first, last)| last - first);
        let shift = (u128::BITS - width.leading_zeros()).saturating_sub(SLOTS.trailing_zeros());
        let mut before = vec![0; SLOTS + 1];
        for bound in &bounds {
            before[((bound - bounds[0]) >> shift) as usize + 1] += 1;
        }
        let mut sum = 0;
        for before in &mut before {
            sum += *before;
            *before = sum;
        }
        Bounds { bounds, shift, before }
    }

    /// The bounds.
    pub fn all(&self) -> &[u128] {
        &self.bounds
    }

    /// How many of the bounds are not greater than a value.
    #[inline]
    pub fn place(&self, value: u128) -> usize {
        let Some(first) = self.bounds.first().filter(|first| **first <= value) else { return 0 };
        let slot = (((value - first) >> self.shift) as usize).min(SLOTS - 1);
        let (from, to) = (self.before[slot] as usize, self.before[slot + 1] as usize);
        if from == to { from } else { from + self.bounds[from..to].partition_point(|bound| *bound <= value) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn places_are_those_of_a_plain_search(
            mut bounds in prop::collection::vec(prop_oneof![0u128..60, any::<u128>(), Just(u128::MAX)], 0..40),
            values in prop::collection::vec(prop_oneof![0u128..60, any::<u128>(), Just(u128::MAX)], 1..40),
        ) {
            bounds.sort_unstable();
            let made = Bounds::new(bounds.clone());
            for value in values.iter().chain(&bounds) {
                prop_assert_eq!(made.place(*value), bounds.partition_point(|bound| bound <= value));
            }
        }
    }
}
