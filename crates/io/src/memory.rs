//! Batches that are there already: literal tables, results of earlier steps, a user's own record batches.

use std::sync::Mutex;

use churn_core::widen::check_range;
use churn_core::{Batch, Result};

use super::source::{
    About, Capability, Decoded, Guess, Morsel, Request, RowTest, Scan, Source, SourceColumn,
};

/// Batches as a source; each is a morsel.
#[derive(Debug)]
pub struct Memory {
    columns: Vec<SourceColumn>,
    batches: Vec<Batch>,
    about: About,
}

impl Memory {
    /// A source of these batches.
    pub fn new(columns: Vec<SourceColumn>, batches: Vec<Batch>) -> Memory {
        let rows = batches.iter().map(|b| b.rows as u64).sum();
        Memory { columns, batches, about: About { rows: Some(rows), ..About::default() } }
    }
}

impl Source for Memory {
    fn columns(&self) -> &[SourceColumn] {
        &self.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    /// # Errors
    /// A value of a column that is asked for does not fit: a user's own batches are looked at here.
    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        for column in &request.columns {
            let name = self.columns.get(*column).map_or("", |c| &c.name);
            for part in self.batches.iter().filter_map(|batch| batch.columns.get(*column)) {
                check_range(part).map_err(|e| e.why(format!("It is the column {name}.")))?;
            }
        }
        let pick = |batch: &Batch| Batch { columns: batch.columns_at(&request.columns), rows: batch.rows };
        let batches: Vec<Batch> = self.batches.iter().map(pick).collect();
        Ok(Box::new(Batches::new(batches)))
    }
}

/// Batches handed out one by one.
pub struct Batches {
    left: Mutex<std::vec::IntoIter<Batch>>,
    /// Rows of all of them.
    rows: u64,
}

fn rows_of(batches: &[Batch]) -> u64 {
    batches.iter().map(|batch| batch.rows as u64).sum()
}

impl Batches {
    /// A scan of these batches, one a morsel.
    pub fn new(batches: Vec<Batch>) -> Batches {
        Batches { rows: rows_of(&batches), left: Mutex::new(batches.into_iter()) }
    }
}

impl Scan for Batches {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut left = self.left.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        Ok(left.next().map(|batch| Box::new(Ready::new(batch)) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        let left = self.left.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        (self.rows - rows_of(left.as_slice()), Some(self.rows))
    }
}

/// A batch that needs no decoding; `None` once it was given.
pub struct Ready(Option<Batch>);

impl Ready {
    /// A morsel of this batch.
    pub fn new(batch: Batch) -> Ready {
        Ready(Some(batch))
    }
}

impl Morsel for Ready {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        self.0.take().map(|batch| Decoded::tested(batch, test)).transpose()
    }
}
