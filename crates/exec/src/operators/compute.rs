//! Columns computed row by row.

use churn_core::{Batch, Result, StepId};
use churn_expr::Bound;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::stream::StreamOp;

impl Build for plan::Compute {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let mut columns = Vec::new();
        for (field, by) in &self.columns {
            columns.push(by.placed(&pipeline.layout)?);
            pipeline.layout.push(field.id);
        }
        pipeline.push(Box::new(Compute { columns, step: place.step(), text: place.text() }));
        Ok(pipeline)
    }
}

/// Adds computed columns; a later one may use an earlier one.
pub(crate) struct Compute {
    pub(crate) columns: Vec<Bound>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl StreamOp for Compute {
    fn apply(&self, mut batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        for bound in &self.columns {
            let array = work
                .with_events(self.step, |events| bound.evaluate_array(&batch, events))
                .map_err(|e| e.in_step(&self.text))?;
            batch.columns.push(array);
        }
        Ok(batch)
    }
}
