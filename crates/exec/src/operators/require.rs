//! A condition that must hold: a test of each row in the stream.

use arrow_array::Array;
use churn_core::{Batch, Error, ErrorKind, OrFault, Result, Scalar, StepId};
use churn_expr::Bound;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace, named_places};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::stream::StreamOp;

impl Build for plan::Require {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let condition = self.condition.placed(&pipeline.layout)?;
        let shown = named_places(&pipeline.layout, &self.shown)?;
        let (message, step, text) = (self.message.clone(), place.step(), place.text());
        pipeline.acts = true;
        pipeline.push(Box::new(Require { condition, message, shown, step, text }));
        Ok(pipeline)
    }
}

/// Stops unless a condition is true in every row.
pub(crate) struct Require {
    pub(crate) condition: Bound,
    pub(crate) message: Option<String>,
    /// Columns to show of an offending row, with their names.
    pub(crate) shown: Vec<(String, usize)>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl StreamOp for Require {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let truth = work
            .with_events(self.step, |events| self.condition.evaluate(&batch, events))
            .map_err(|e| e.in_step(&self.text))?
            .bools(batch.rows);
        if truth.true_count() == batch.rows {
            return Ok(batch);
        }
        let offends = |row: &usize| truth.is_null(*row) || !truth.value(*row);
        let first = (0..batch.rows).find(offends).or_fault("row that offends")?;
        let what = self.message.clone().unwrap_or_else(|| "A row does not hold what is required.".into());
        Err(offending(what, &batch, &self.shown, first).in_step(&self.text))
    }
}

/// The error that shows a row, the first that offends. The next ones are in other batches, perhaps, and which of them
/// were looked at says nothing.
pub(crate) fn offending(what: String, batch: &Batch, shown: &[(String, usize)], row: usize) -> Error {
    let cells = shown.iter().filter_map(|(name, column)| {
        let value = batch.columns.get(*column).and_then(|c| churn_core::widen::widen(c).ok())?;
        Some(format!("{} = {}", churn_core::names::name(name), Scalar::from_array(&value, row)))
    });
    let cells = churn_core::names::comma(cells);
    Error::new(ErrorKind::Require, what).why("The first row that offends:").why(format!("  {cells}"))
}
