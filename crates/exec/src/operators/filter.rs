//! A filter: a test of each row in the stream.

use arrow_array::{Array, BooleanArray};
use churn_core::{Batch, Event, Result, StepId};
use churn_expr::Bound;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::scan_test::ScanFilter;
use crate::runtime::stream::StreamOp;

impl Build for plan::Filter {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let condition = self.condition.placed(&pipeline.layout)?;
        let test = Test { condition, step: place.step(), text: place.text(), early: self.early };
        pipeline.push(Box::new(Filter(test)));
        Ok(pipeline)
    }
}

/// A filter's condition: what it keeps is counted for its step.
#[derive(Clone)]
pub(crate) struct Test {
    pub(crate) condition: Bound,
    pub(crate) step: StepId,
    pub(crate) text: String,
    /// Whether the filter itself comes later.
    pub(crate) early: bool,
}

impl ScanFilter for Test {
    fn skipped(&self, rows: usize, work: &mut MorselOutput) {
        work.counters.event(self.step, Event::Skipped, rows);
    }

    fn keep(&self, batch: &Batch, work: &mut MorselOutput) -> Result<BooleanArray> {
        let truth = work
            .with_events(self.step, |events| self.condition.evaluate(batch, events))
            .map_err(|e| e.in_step(&self.text))?
            .bools(batch.rows);
        let kept = truth.true_count();
        if self.early {
            work.counters.event(self.step, Event::Prefiltered, batch.rows - kept);
            return Ok(truth);
        }
        let unknown = truth.null_count();
        work.counters.rows(self.step, kept);
        work.counters.event(self.step, Event::Unknown, unknown);
        work.counters.event(self.step, Event::NotTrue, batch.rows - kept - unknown);
        Ok(truth)
    }
}

/// Keeps the rows where a condition is true.
pub(crate) struct Filter(pub(crate) Test);

impl StreamOp for Filter {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let keep = self.0.keep(&batch, work)?;
        if keep.true_count() == batch.rows { Ok(batch) } else { batch.filter(&keep) }
    }
}
