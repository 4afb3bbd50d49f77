//! Values at places that must be there.

use std::fmt::Debug;
use std::slice::SliceIndex;

/// The value at a place that other code has made sure of, as the number of a key that a table gave out. A place that is
/// not there is a fault of the caller: a panic in debug builds. A loop that is hot cannot afford to say so otherwise; it
/// gets the type's default.
#[inline(always)]
pub fn known<T: Copy + Default>(values: &[T], place: usize) -> T {
    debug_assert!(place < values.len(), "place {place} of {}", values.len());
    values.get(place).copied().unwrap_or_default()
}

/// The values of a range that other code has made sure of. One that is not there is a fault of the caller: a panic in debug
/// builds, no values otherwise, as [`known`].
#[inline(always)]
pub fn known_part<T>(values: &[T], range: impl SliceIndex<[T], Output = [T]> + Clone + Debug) -> &[T] {
    debug_assert!(values.get(range.clone()).is_some(), "range {range:?} of {}", values.len());
    values.get(range).unwrap_or_default()
}

/// The place of a value in a list that rises and has it. A value that is not there is a fault of the caller: a panic in debug
/// builds, the first place otherwise.
pub fn known_place<T: Ord + Debug>(rising: &[T], value: &T) -> usize {
    let found = rising.binary_search(value);
    debug_assert!(found.is_ok(), "no {value:?} in {rising:?}");
    found.unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[should_panic(expected = "no 3 in [2, 5]")]
    fn a_value_that_is_in_no_place_is_told() {
        assert_eq!(known_place(&[2, 5], &5), 1);
        known_place(&[2, 5], &3);
    }

    #[test]
    fn values_that_are_there() {
        assert_eq!(known_part(&[7, 8, 9], 1..), [8, 9]);
        assert_eq!(known_part(&[7, 8, 9], 1..1), []);
    }

    #[test]
    #[should_panic(expected = "range 1..4 of 3")]
    fn a_range_that_is_not_there_is_told() {
        known_part(&[7, 8, 9], 1..4);
    }

    #[test]
    fn a_value_that_is_there() {
        assert_eq!(known(&[7, 8], 1), 8);
    }

    #[test]
    #[should_panic(expected = "place 2 of 2")]
    fn a_place_that_is_not_there_is_told() {
        known(&[7, 8], 2);
    }
}
