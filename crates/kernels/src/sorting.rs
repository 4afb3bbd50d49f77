//! Numbers put in order that are spread over a narrow range, as those of one range of keys are; and rows by small numbers.

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

/// Steps back for each value, about, up to which values count as nearly in order.
const STEPS: usize = 8;

/// Puts values in order that nearly are, as rows that come by day and are wanted by day and number: each is moved back to its
/// place. Gives false where that takes too many steps; the values are then as good as before, in some order.
pub fn insert<T: Ord + Copy>(values: &mut [T]) -> bool {
    let mut left = values.len() * STEPS;
    for i in 1..values.len() {
        let value = values[i];
        let mut place = i;
        while place > 0 && values[place - 1] > value {
            values[place] = values[place - 1];
            place -= 1;
        }
        values[place] = value;
        match left.checked_sub(i - place) {
            Some(less) => left = less,
            None => return false,
        }
    }
    true
}

/// Rows by small numbers, below `count`, that each of them has: where the rows of each number start, and their end; and the
/// rows, those with one number in order (a counting sort).
pub fn by_number<N: Copy + Into<u32>>(numbers: &[N], count: usize) -> (Vec<u32>, Vec<u32>) {
    let mut starts = vec![0u32; count + 1];
    for number in numbers {
        starts[(*number).into() as usize + 1] += 1;
    }
    let mut sum = 0;
    for start in &mut starts {
        sum += *start;
        *start = sum;
    }
    let (mut next, mut rows) = (starts.clone(), vec![0; numbers.len()]);
    for (row, number) in (0u32..).zip(numbers) {
        let next = &mut next[(*number).into() as usize];
        rows[*next as usize] = row;
        *next += 1;
    }
    (starts, rows)
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

        #[test]
        fn values_are_moved_back(
            mut values in prop_oneof![
                prop::collection::vec(any::<u8>(), 0..99),
                prop::collection::vec(0u8..4, 0..99).prop_map(|steps| (0..).zip(steps).map(|(i, step)| i * 2 + step).collect()),
            ],
        ) {
            let mut expected = values.clone();
            expected.sort_unstable();
            if !insert(&mut values) {
                values.sort_unstable();
            }
            prop_assert_eq!(values, expected);
        }

        #[test]
        fn rows_by_their_numbers(numbers in prop::collection::vec(0u8..9, 0..99)) {
            let (starts, rows) = by_number(&numbers, 9);
            let mut expected: Vec<u32> = (0..numbers.len() as u32).collect();
            expected.sort_by_key(|row| numbers[*row as usize]);
            prop_assert_eq!(&rows, &expected);
            for number in 0..9u8 {
                let range = starts[usize::from(number)] as usize..starts[usize::from(number) + 1] as usize;
                prop_assert_eq!(range.len(), numbers.iter().filter(|own| **own == number).count());
                prop_assert!(rows[range].iter().all(|row| numbers[*row as usize] == number));
            }
        }
    }
}
