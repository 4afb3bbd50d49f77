//! Chunks of columns that are fetched from a store before they are decoded.

use std::io::Result;
use std::ops::Range;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::RowSelection;
use parquet::file::metadata::ParquetMetaData;

use crate::store::{RemoteFile, aside};

/// Parts that are nearer to each other are fetched together: a request costs more than these bytes.
const NEAR: u64 = 1 << 12;

/// What was fetched of a row group, for all of its morsels.
#[derive(Debug, Default)]
pub(super) struct FetchedChunks {
    parts: Mutex<Parts>,
    /// Notified when ranges were fetched, or could not be.
    arrived: Condvar,
}

#[derive(Debug, Default)]
struct Parts {
    /// Each part with the place in the file where it starts.
    here: Vec<(u64, Bytes)>,
    /// Ranges that a thread is fetching.
    asked_for: Vec<Range<u64>>,
}

impl FetchedChunks {
    /// Fetches ranges, but for those that were fetched before. Whoever needs what another thread fetches waits for it.
    ///
    /// # Errors
    /// As [`RemoteFile::fetch_all`].
    pub(super) fn fetch(&self, file: &RemoteFile, wanted: &[Range<u64>]) -> Result<()> {
        loop {
            let mut parts = self.parts();
            let is_here =
                |range: &Range<u64>| found(&parts.here, range).is_some_and(|known| known.end() >= range.end);
            let missing: Vec<Range<u64>> =
                wanted.iter().filter(|range| !range.is_empty() && !is_here(range)).cloned().collect();
            if missing.is_empty() {
                return Ok(());
            }
            let is_asked_for = |range: &Range<u64>| {
                parts.asked_for.iter().any(|asked| asked.start <= range.start && range.end <= asked.end)
            };
            let own = together(missing.into_iter().filter(|range| !is_asked_for(range)).collect());
            if own.is_empty() {
                drop(aside::wait(&self.arrived, parts)?);
                continue;
            }
            parts.asked_for.extend(own.iter().cloned());
            drop(parts);
            let fetched = file.fetch_all(own.clone());
            let mut parts = self.parts();
            parts.asked_for.retain(|range| !own.contains(range));
            self.arrived.notify_all();
            parts.here.extend(own.iter().map(|range| range.start).zip(fetched?));
        }
    }

    fn parts(&self) -> MutexGuard<'_, Parts> {
        self.parts.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The bytes from the start of a range on, as many of them as were fetched in one part; `None` if the first was not fetched.
    pub(super) fn from(&self, range: Range<u64>) -> Option<Bytes> {
        let parts = self.parts();
        let known = found(&parts.here, &range)?;
        let from = usize::try_from(range.start - known.start).ok()?;
        let to = usize::try_from(range.end.min(known.end()) - known.start).ok()?;
        Some(known.bytes.slice(from..to))
    }
}

/// A part that was fetched.
struct Known<'a> {
    start: u64,
    bytes: &'a Bytes,
}

impl Known<'_> {
    fn end(&self) -> u64 {
        self.start + self.bytes.len() as u64
    }
}

/// The part that goes on furthest of those that hold the start of a range.
fn found<'a>(parts: &'a [(u64, Bytes)], range: &Range<u64>) -> Option<Known<'a>> {
    let all = parts.iter().map(|(start, bytes)| Known { start: *start, bytes });
    all.filter(|known| known.start <= range.start && range.start < known.end()).max_by_key(Known::end)
}

/// Ranges in order, those that meet or nearly do as one.
fn together(mut ranges: Vec<Range<u64>>) -> Vec<Range<u64>> {
    ranges.sort_by_key(|range| range.start);
    let mut joined: Vec<Range<u64>> = Vec::new();
    for range in ranges.into_iter().filter(|range| !range.is_empty()) {
        match joined.last_mut() {
            Some(last) if range.start <= last.end.saturating_add(NEAR) => last.end = last.end.max(range.end),
            _ => joined.push(range),
        }
    }
    joined
}

/// Where some columns of some rows of a row group are in the file: whole chunks, or of those whose pages an index tells, their
/// dictionary and the pages with the rows.
pub(super) fn ranges(
    metadata: &ParquetMetaData,
    group: usize,
    mask: &ProjectionMask,
    selection: Option<&RowSelection>,
) -> Vec<Range<u64>> {
    let mut ranges = Vec::new();
    let columns = metadata.row_groups().get(group).map_or(&[][..], |group| group.columns());
    for (leaf, column) in columns.iter().enumerate().filter(|(leaf, _)| mask.leaf_included(*leaf)) {
        let (start, length) = column.byte_range();
        let pages = super::page_by_page::pages(metadata, group, leaf).filter(|pages| !pages.is_empty());
        match (pages, selection) {
            (Some(pages), Some(selection)) => {
                let first = pages.first().and_then(|page| u64::try_from(page.offset).ok());
                ranges.extend(first.map(|first| start..first.max(start)));
                ranges.extend(selection.scan_ranges(pages));
            }
            _ => ranges.push(start..start.saturating_add(length)),
        }
    }
    ranges
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(vec![], vec![])]
    #[case(vec![10..20, 0..5], vec![0..20])]
    #[case(vec![0..5, 5..5, 9_000..9_001], vec![0..5, 9_000..9_001])]
    #[case(vec![0..9_000, 100..200, 9_001..9_002], vec![0..9_002])]
    fn near_ranges_are_one(#[case] ranges: Vec<Range<u64>>, #[case] expected: Vec<Range<u64>>) {
        assert_eq!(together(ranges), expected);
    }

    #[test]
    fn what_was_fetched_is_found_from_its_start_on() {
        let bytes = |length: usize| Bytes::from((0..length).map(|n| n as u8).collect::<Vec<u8>>());
        let parts = FetchedChunks::default();
        parts.parts().here.extend([(100, bytes(10)), (105, bytes(20)), (300, bytes(1))]);
        for (range, expected) in [
            (100..104, Some(vec![0, 1, 2, 3])),
            (107..109, Some(vec![2, 3])),
            (122..900, Some(vec![17, 18, 19])),
            (99..101, None),
            (125..126, None),
            (300..301, Some(vec![0])),
        ] {
            assert_eq!(parts.from(range.clone()).map(|bytes| bytes.to_vec()), expected, "{range:?}");
        }
    }
}
