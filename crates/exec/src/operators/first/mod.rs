//! The first rows: counted in the order of rows, the run stopped when there are enough of the whole table.

pub(super) mod per_key;

use churn_core::{Batch, Result, StepId};
use churn_plan::operators as plan;
use per_key::FirstPer;

use super::seen_keys::SeenKeys;
use super::{Build, OperatorPlace, places};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::serial::SerialOp;
use crate::runtime::stream::CountRows;

impl Build for plan::First {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let (count, step) = (self.count, place.step());
        if self.is_settled {
            pipeline.push(Box::new(CountRows(step)));
            return Ok(pipeline);
        }
        let op: Box<dyn SerialOp> = if self.per.is_empty() {
            Box::new(First { skip: self.after, left: count, stops: !pipeline.acts, step })
        } else {
            let keys = places(&pipeline.layout, &self.per)?;
            let seen = SeenKeys::new(keys, place.kinds(&self.per), place.context)?;
            Box::new(FirstPer { count, seen, passed: Vec::new(), distinct: false, step })
        };
        pipeline.push_serial(op);
        Ok(pipeline)
    }
}

/// `first N after M`.
pub(crate) struct First {
    pub(crate) skip: usize,
    pub(crate) left: usize,
    /// Whether the run may stop when it is full: not where a step below must see every row.
    pub(crate) stops: bool,
    pub(crate) step: StepId,
}

impl SerialOp for First {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let from = self.skip.min(batch.rows);
        self.skip -= from;
        let rows = self.left.min(batch.rows - from);
        self.left -= rows;
        work.counters.rows(self.step, rows);
        Ok(if rows == batch.rows { batch } else { batch.slice(from, rows) })
    }

    fn is_full(&self) -> bool {
        self.stops && self.left == 0
    }
}
