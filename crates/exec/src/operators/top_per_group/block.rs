//! Of some rows the first of each of their groups.

use std::cmp::Ordering;

use churn_kernels::known::known;
use churn_kernels::sorting;

use crate::operators::sort::SortKeys;

/// Which rows are among the first `count` of their groups, by their keys; of rows with equal keys the earlier ones. `numbers` has the
/// group of each, below `groups`. `None` where all are.
pub(super) fn first_rows(numbers: &[u32], groups: usize, keys: &SortKeys, count: usize) -> Option<Vec<bool>> {
    let (starts, mut rows) = sorting::by_number(numbers, groups);
    let mut codes = Vec::with_capacity(rows.len());
    keys.each_code(rows.len(), |code| codes.push(code));
    let are_whole = keys.codes_are_whole();
    // Below a key of one word there is room for the row: what is told apart by one number is near, and compared at once.
    if are_whole && codes.iter().all(|code| *code as u32 == 0) {
        let mut coded: Vec<u128> =
            rows.iter().map(|row| known(&codes, *row as usize) | u128::from(*row)).collect();
        return kept(&starts, &mut coded, count, u128::cmp, |coded| *coded as u32);
    }
    let code = |row: u32| known(&codes, row as usize);
    let order = |a: &u32, b: &u32| {
        let by_code = code(*a).cmp(&code(*b));
        let by_key =
            || if are_whole { Ordering::Equal } else { keys.compare(*a as usize, keys, *b as usize) };
        by_code.then_with(by_key).then(a.cmp(b))
    };
    kept(&starts, &mut rows, count, order, |row| *row)
}

/// Which rows are among the first `count` of their groups in this order; the rows of a group start there. `None` where all are.
fn kept<R>(
    starts: &[u32],
    rows: &mut [R],
    count: usize,
    order: impl Fn(&R, &R) -> Ordering,
    row: impl Fn(&R) -> u32,
) -> Option<Vec<bool>> {
    let all = rows.len();
    let mut kept = None;
    for (start, end) in starts.iter().zip(starts.iter().skip(1)) {
        let rows = rows.get_mut(*start as usize..*end as usize).unwrap_or_default();
        if rows.len() > count {
            let kept = kept.get_or_insert_with(|| vec![true; all]);
            let (_, _, others) = rows.select_nth_unstable_by(count.saturating_sub(1), &order);
            for other in others {
                kept.get_mut(row(other) as usize).into_iter().for_each(|slot| *slot = false);
            }
        }
    }
    kept
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Int64Array, StringViewArray};
    use churn_core::{StepId, Type};
    use proptest::prelude::*;
    use proptest::sample::select;

    use super::*;
    use crate::operators::sort::{Order, OrderKey};

    proptest! {
        /// They are those that a stable sort of all rows has first.
        #[test]
        fn they_are_the_first_of_a_sort(
            rows in prop::collection::vec(
                (0u32..6, select(vec![None, Some(0), Some(1), Some(7)]), select(vec![None, Some("a"), Some("a longer text than sixteen")])),
                0..40,
            ),
            keys in prop::collection::vec((0usize..2, any::<bool>(), any::<bool>()), 1..3),
            count in 1usize..4,
        ) {
            let columns: [ArrayRef; 2] = [
                Arc::new(rows.iter().map(|row| row.1).collect::<Int64Array>()),
                Arc::new(rows.iter().map(|row| row.2).collect::<StringViewArray>()),
            ];
            let key = |(place, descending, nulls_first): &(usize, bool, bool)| {
                let kind = if *place == 0 { Type::Int } else { Type::Text };
                OrderKey::column(*place, kind, *descending, *nulls_first)
            };
            let order = Order { keys: keys.iter().map(key).collect(), step: StepId::default(), text: String::new() };
            let own: Vec<ArrayRef> = keys.iter().map(|(place, ..)| columns[*place].clone()).collect();
            let sort_keys = SortKeys::new(&[own], &order, None, rows.len())?;
            let numbers: Vec<u32> = rows.iter().map(|row| row.0).collect();
            let mut sorted: Vec<usize> = (0..rows.len()).collect();
            sorted.sort_by(|a, b| {
                let of_key = |(place, descending, nulls_first): &(usize, bool, bool)| {
                    let (a, b) = (&rows[*a], &rows[*b]);
                    let (nulls, values) = if *place == 0 {
                        ((a.1.is_none(), b.1.is_none()), a.1.cmp(&b.1))
                    } else {
                        ((a.2.is_none(), b.2.is_none()), a.2.cmp(&b.2))
                    };
                    match nulls {
                        (true, true) => Ordering::Equal,
                        (a, b) if a != b => if a == *nulls_first { Ordering::Less } else { Ordering::Greater },
                        _ => if *descending { values.reverse() } else { values },
                    }
                };
                keys.iter().map(of_key).find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
            });
            let (mut seen, mut expected) = ([0; 6], vec![false; rows.len()]);
            for row in sorted {
                seen[rows[row].0 as usize] += 1;
                expected[row] = seen[rows[row].0 as usize] <= count;
            }
            let kept = first_rows(&numbers, 6, &sort_keys, count);
            prop_assert_eq!(kept.is_none(), expected.iter().all(|kept| *kept));
            prop_assert_eq!(kept.unwrap_or(vec![true; rows.len()]), expected);
        }
    }
}
