//! Columns of another table, which is held, beside those of the input.

use churn_core::readable::plural;
use churn_core::{Batch, Error, ErrorKind, Result};
use churn_io::source::{Morsel, Scan};
use churn_plan::operators as plan;

use super::{Build, OperatorPlace, build, ids, places};
use crate::runtime::materialized::{concat, materialize};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::serial::SerialOp;
use crate::runtime::stream::Pick;

impl Build for plan::Paste {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut other = build(&self.other, place.context)?;
        let columns = places(&other.layout, &ids(&self.added))?;
        other.push(Box::new(Pick(columns)));
        let other = materialize(other, place.context)?.materialized()?.scan();
        let mut pipeline = place.input()?;
        pipeline.layout.extend(ids(&self.added));
        // Only all rows show that there are as many.
        pipeline.acts = true;
        pipeline.push_serial(Box::new(Paste::new(other, place.text())));
        Ok(pipeline)
    }
}

/// Sets the next rows of another table beside those that flow by.
pub(crate) struct Paste {
    other: Box<dyn Scan>,
    morsel: Option<Box<dyn Morsel>>,
    /// Rows that were read but not yet set beside any.
    rest: Option<Batch>,
    rows: u64,
    text: String,
}

impl Paste {
    pub(crate) fn new(other: Box<dyn Scan>, text: String) -> Paste {
        Paste { other, morsel: None, rest: None, rows: 0, text }
    }

    /// The next batch of the other table.
    fn next(&mut self) -> Result<Option<Batch>> {
        if let Some(rest) = self.rest.take() {
            return Ok(Some(rest));
        }
        loop {
            if let Some(morsel) = &mut self.morsel
                && let Some(decoded) = morsel.next(None)?
            {
                return Ok(Some(decoded.batch));
            }
            self.morsel = self.other.next()?;
            if self.morsel.is_none() {
                return Ok(None);
            }
        }
    }

    fn differ(&self, what: &str) -> Error {
        Error::new(ErrorKind::Require, format!("The tables differ in length: {what}."))
            .next("paste sets row beside row; join brings rows together by a key.")
            .in_step(&self.text)
    }
}

impl SerialOp for Paste {
    fn apply(&mut self, mut batch: Batch, _: &mut MorselOutput) -> Result<Batch> {
        let mut parts = Vec::new();
        let mut wanted = batch.rows;
        while wanted > 0 {
            let Some(other) = self.next()? else {
                let there = self.rows + (batch.rows - wanted) as u64;
                return Err(self.differ(&format!("the other one ends after {}", plural(there, "row"))));
            };
            let rows = other.rows.min(wanted);
            parts.push(other.slice(0, rows));
            if rows < other.rows {
                self.rest = Some(other.slice(rows, other.rows - rows));
            }
            wanted -= rows;
        }
        self.rows += batch.rows as u64;
        if parts.is_empty() {
            // No rows, yet all columns.
            parts.extend(self.next()?.map(|other| {
                let none = other.slice(0, 0);
                self.rest = Some(other);
                none
            }));
        }
        if let Some(beside) = concat(parts)?.pop() {
            batch.columns.extend(beside.columns);
        }
        Ok(batch)
    }

    fn finish(&mut self, _: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        while let Some(more) = self.next()? {
            if more.rows > 0 {
                return Err(self.differ(&format!(
                    "this one ends after {}, the other goes on",
                    plural(self.rows, "row")
                )));
            }
        }
        Ok(None)
    }
}
