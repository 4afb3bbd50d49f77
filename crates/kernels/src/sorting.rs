//! Numbers put in order that are spread over a narrow range, as those of one range of keys are.

/// Numbers below which comparing alone is as fast.
const FEW: usize = 1 << 8;

/// Numbers for each bucket, about.
const IN_BUCKET: usize = 16;

/// Buckets at most: where each grows stays in the nearest caches.
const MOST: usize = 1 << 11;

/// Puts numbers in order: partitioned to buckets by how far they are from the least, then each bucket on its own. A bucket
/// that is in order already, or made of runs that are, is gone through once.
pub fn in_order(mut numbers: Vec<u128>) -> Vec<u128> {
    let (low, high) = numbers.iter().fold((u128::MAX, 0), |(low, high), n| (low.min(*n), high.max(*n)));
    if numbers.len() < FEW || low == high {
        numbers.sort();
        return numbers;
    }
    let buckets = (numbers.len() / IN_BUCKET).next_power_of_two().min(MOST);
    let width = u128::BITS - (high - low).leading_zeros();
    let shift = width.saturating_sub(buckets.trailing_zeros());
    let bucket = |number: u128| ((number - low) >> shift) as usize;
    let mut ends = vec![0; buckets];
    for number in &numbers {
        ends[bucket(*number)] += 1;
    }
    let mut sum = 0;
    for end in &mut ends {
        sum += std::mem::replace(end, sum);
    }
    let mut bucketed = vec![0; numbers.len()];
    for number in &numbers {
        let next = &mut ends[bucket(*number)];
        bucketed[*next] = *number;
        *next += 1;
    }
    let mut from = 0;
    for end in ends {
        bucketed[from..end].sort();
        from = end;
    }
    bucketed
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn as_a_plain_sort(
            base in any::<u128>(),
            steps in prop::collection::vec(prop_oneof![0u128..9, 0u128..100_000, any::<u128>()], 0..40),
            times in 1usize..40,
        ) {
            let step = |(i, step): (usize, &u128)| base.wrapping_add(*step).wrapping_add(i as u128 % 7);
            let numbers: Vec<u128> = steps.iter().cycle().take(steps.len() * times).enumerate().map(step).collect();
            let mut expected = numbers.clone();
            expected.sort_unstable();
            prop_assert_eq!(in_order(numbers), expected);
        }
    }
}
