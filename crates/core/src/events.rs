//! What happens to values and rows on the way, counted for the ledger.

/// Something that a step did to a row or a value beside its plain work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Event {
    /// A row whose condition was false.
    NotTrue,
    /// A row whose condition was unknown.
    Unknown,
    /// A row that was not read: the file's statistics show that its condition is not true.
    Skipped,
    /// A row that a filter of groups would leave out, left out before it was grouped.
    Prefiltered,
    /// A division by zero that gave null.
    ZeroDivision,
    /// A value outside a function's domain that gave null.
    OutOfDomain,
    /// A NaN or an infinity that was written as null, as the format has neither.
    NoNumber,
    /// A value that `try_cast` could not turn, now null.
    FailedCast,
    /// A cell that was not of its column's type, now null.
    BadCell,
    /// A row with the wrong number of cells, left out.
    RaggedRow,
    /// A row with too few cells, whose others are null.
    PaddedRow,
    /// A row that was added for a combination of keys that did not occur.
    Made,
    /// A row that was the same as an earlier one.
    Repeated,
    /// A group whose key is null.
    NullGroup,
    /// A row whose key has a value that no column was asked for.
    OtherValue,
    /// A row without any value.
    Empty,
    /// A text with fewer parts than names.
    MissingPart,
    /// A row that matched no row of the other table.
    MatchedNone,
    /// A row that matched several rows of the other table.
    MatchedSeveral,
    /// A row of the other table that no row matched.
    OtherMatchedNone,
}

impl Event {
    /// All events, in the order in which they are told.
    pub const ALL: [Event; 20] = [
        Event::NotTrue,
        Event::Unknown,
        Event::Skipped,
        Event::Prefiltered,
        Event::RaggedRow,
        Event::PaddedRow,
        Event::BadCell,
        Event::FailedCast,
        Event::ZeroDivision,
        Event::OutOfDomain,
        Event::NoNumber,
        Event::Made,
        Event::Repeated,
        Event::NullGroup,
        Event::OtherValue,
        Event::Empty,
        Event::MissingPart,
        Event::MatchedNone,
        Event::MatchedSeveral,
        Event::OtherMatchedNone,
    ];

    /// Its name in the ledger's JSON.
    pub fn name(self) -> &'static str {
        match self {
            Event::NotTrue => "not_true",
            Event::Unknown => "unknown",
            Event::Skipped => "skipped",
            Event::Prefiltered => "left_out_early",
            Event::ZeroDivision => "zero_divisions",
            Event::OutOfDomain => "out_of_domain",
            Event::NoNumber => "no_numbers",
            Event::FailedCast => "failed_casts",
            Event::BadCell => "bad_cells",
            Event::RaggedRow => "ragged_rows",
            Event::PaddedRow => "padded_rows",
            Event::Made => "made",
            Event::Repeated => "repeated",
            Event::NullGroup => "null_groups",
            Event::OtherValue => "other_values",
            Event::Empty => "empty",
            Event::MissingPart => "missing_parts",
            Event::MatchedNone => "matched_none",
            Event::MatchedSeveral => "matched_several",
            Event::OtherMatchedNone => "other_matched_none",
        }
    }
}

/// Counts of events, one for each sort.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Events([u64; Event::ALL.len()]);

impl Events {
    /// Adds to how often an event happened.
    pub fn add(&mut self, event: Event, count: usize) {
        if let Some(slot) = self.0.get_mut(event as usize) {
            *slot += count as u64;
        }
    }

    /// How often an event happened.
    pub fn get(&self, event: Event) -> u64 {
        self.0.get(event as usize).copied().unwrap_or(0)
    }

    /// Adds the counts of `other`.
    pub fn merge(&mut self, other: &Events) {
        for (a, b) in self.0.iter_mut().zip(other.0) {
            *a += b;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn each_event_is_told_once_by_a_name_of_its_own() {
        assert_eq!(Event::ALL.iter().collect::<HashSet<_>>().len(), Event::ALL.len());
        assert_eq!(
            Event::ALL.iter().map(|event| event.name()).collect::<HashSet<_>>().len(),
            Event::ALL.len()
        );
    }

    #[test]
    fn counts_of_each_event_are_kept_apart_and_added() {
        let (mut ours, mut theirs) = (Events::default(), Events::default());
        for (count, event) in Event::ALL.into_iter().enumerate() {
            ours.add(event, count);
            theirs.add(event, 100);
        }
        ours.merge(&theirs);
        ours.add(Event::Made, 1);
        for (count, event) in Event::ALL.into_iter().enumerate() {
            assert_eq!(ours.get(event), 100 + count as u64 + u64::from(event == Event::Made), "{event:?}");
            assert_eq!(theirs.get(event), 100, "{event:?}");
        }
    }
}
