//! Values at places that must be there.

/// The value at a place that other code has made sure of, as the number of a key that a table gave out. A place that is
/// not there is a fault of the caller: a panic in debug builds. A loop that is hot cannot afford to say so otherwise; it
/// gets the type's default.
#[inline(always)]
pub fn known<T: Copy + Default>(values: &[T], place: usize) -> T {
    debug_assert!(place < values.len(), "place {place} of {}", values.len());
    values.get(place).copied().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

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
