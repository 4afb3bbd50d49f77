//! Conditions that a source tests while it reads.

use arrow_array::BooleanArray;
use arrow_buffer::BooleanBuffer;
use churn_core::{Batch, Result};
use churn_io::source::RowTest;

use crate::runtime::morsel_output::MorselOutput;

/// What chooses among rows, also while they are read.
pub(crate) trait ScanFilter: Send + Sync {
    /// Which rows stay; the others are counted.
    fn keep(&self, batch: &Batch, work: &mut MorselOutput) -> Result<BooleanArray>;
    /// Counts rows that were not read, since none of them could stay.
    fn skipped(&self, rows: usize, work: &mut MorselOutput);
}

/// Conditions that a scan tests while it reads, one after the other, each on what the ones before left.
pub(crate) struct ScanTest {
    /// The columns they use, among those that are read.
    pub(crate) columns: Vec<usize>,
    pub(crate) tests: Vec<Box<dyn ScanFilter>>,
}

impl ScanTest {
    /// Runs `f` with the test as a reader sees it.
    pub(crate) fn with<T>(&self, work: &mut MorselOutput, f: impl FnOnce(&mut dyn RowTest) -> T) -> T {
        f(&mut Testing { test: self, work })
    }
}

struct Testing<'a> {
    test: &'a ScanTest,
    work: &'a mut MorselOutput,
}

impl RowTest for Testing<'_> {
    fn columns(&self) -> &[usize] {
        &self.test.columns
    }

    fn test(&mut self, batch: &Batch) -> Result<BooleanArray> {
        let mut tests = self.test.tests.iter();
        let Some(first) = tests.next() else { return Ok(all_rows(batch.rows)) };
        let mut keep = first.keep(batch, self.work)?;
        for test in tests {
            let left = batch.filter(&keep)?;
            let inner = test.keep(&left, self.work)?;
            keep = within(&keep, &inner);
        }
        Ok(keep)
    }
}

/// The mask by which all of so many rows stay.
pub(crate) fn all_rows(rows: usize) -> BooleanArray {
    BooleanArray::new(BooleanBuffer::new_set(rows), None)
}

/// The rows of `outer` that are true, and true in `inner`, which has a row for each of them.
fn within(outer: &BooleanArray, inner: &BooleanArray) -> BooleanArray {
    let mut inner = inner.iter();
    outer.iter().map(|truth| Some(truth == Some(true) && inner.next().flatten() == Some(true))).collect()
}
