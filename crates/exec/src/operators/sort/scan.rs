//! Sorted rows, put in order and gathered as they are taken.

use std::sync::{Arc, Mutex, PoisonError};

use churn_core::Result;
use churn_core::parallel::Threads;
use churn_io::source::{Capability, Decoded, Guess, Morsel, RowTest, Scan};
use churn_kernels::known::known_part;

use super::ranges::Ranges;
use super::table::ROWS;
use crate::runtime::budget::Reservation;

/// Rows of a range from which on several workers gather them, a part each.
const LARGE: usize = 1 << 17;

/// Sorted rows.
pub(super) struct SortedScan {
    rows: Arc<SortedRows>,
    next: Mutex<NextRange>,
    /// The rows that it gives.
    all: u64,
    _reservation: Reservation,
}

struct SortedRows {
    ranges: Ranges,
    /// The rows of large ranges, in order.
    large: Vec<Option<Vec<u128>>>,
    /// How many rows are handed on together.
    together: usize,
}

/// What comes next, and how many rows are still wanted.
struct NextRange {
    range: usize,
    from: usize,
    wanted: usize,
    /// The rows that were given.
    given: u64,
}

impl SortedScan {
    /// The first `keep` rows, or all.
    pub(super) fn new(
        ranges: Ranges,
        keep: Option<usize>,
        threads: &Threads,
        reservation: Reservation,
    ) -> Result<SortedScan> {
        let large = threads.each(ranges.sizes.iter().enumerate(), |(range, rows)| {
            Ok((*rows > LARGE).then(|| ranges.in_order(range)))
        })?;
        let next = NextRange { range: 0, from: 0, wanted: keep.unwrap_or(usize::MAX), given: 0 };
        let rows = ranges.sizes.iter().sum::<usize>().min(next.wanted) as u64;
        Ok(SortedScan {
            rows: Arc::new(SortedRows { together: ranges.table.rows_together(), ranges, large }),
            next: Mutex::new(next),
            all: rows,
            _reservation: reservation,
        })
    }
}

impl NextRange {
    /// Some small ranges, or a part of a large one.
    fn slice(&mut self, rows: &Arc<SortedRows>) -> Option<Slice> {
        let (first, from) = (self.range, self.from);
        let mut taken = 0;
        while let Some(size) = rows.ranges.sizes.get(self.range).filter(|_| taken < ROWS) {
            if *size > LARGE {
                if taken == 0 {
                    taken = (size - from).min(2 * ROWS);
                    self.from += taken;
                    if self.from == *size {
                        (self.range, self.from) = (first + 1, 0);
                    }
                }
                break;
            }
            taken += size;
            self.range += 1;
        }
        let wanted = taken.min(self.wanted);
        self.wanted -= wanted;
        self.given += wanted as u64;
        (wanted > 0).then(|| Slice { rows: rows.clone(), first, from, wanted, numbers: None, at: 0 })
    }
}

impl Scan for SortedScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(next.slice(&self.rows).map(|slice| Box::new(slice) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.next.lock().unwrap_or_else(PoisonError::into_inner).given, Some(self.all))
    }
}

/// Some sorted rows, not yet put in order or gathered.
struct Slice {
    rows: Arc<SortedRows>,
    /// The first range of them, and the first row of it.
    first: usize,
    from: usize,
    wanted: usize,
    numbers: Option<Vec<u128>>,
    at: usize,
}

impl Slice {
    fn in_order(&self) -> Vec<u128> {
        let SortedRows { ranges, large, .. } = &*self.rows;
        if let Some(numbers) = large.get(self.first).and_then(Option::as_ref) {
            return known_part(numbers, self.from..self.from + self.wanted).to_vec();
        }
        let mut numbers = Vec::new();
        for range in self.first..ranges.sizes.len() {
            if numbers.len() >= self.wanted {
                break;
            }
            numbers.append(&mut ranges.in_order(range));
        }
        numbers.truncate(self.wanted);
        numbers
    }
}

impl Morsel for Slice {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, _: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let numbers = match self.numbers.take() {
            Some(numbers) => numbers,
            None => self.in_order(),
        };
        let end = (self.at + self.rows.together).min(numbers.len());
        let some = known_part(&numbers, self.at..end);
        if some.is_empty() {
            return Ok(None);
        }
        let batch = self.rows.ranges.table.gathered(some)?;
        self.at += some.len();
        self.numbers = Some(numbers);
        let rows = batch.rows;
        Ok(Some(Decoded::of(batch, rows)))
    }
}
