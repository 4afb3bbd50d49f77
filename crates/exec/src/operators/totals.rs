//! Rows also for the totals that they are in, in the stream.

use std::sync::Arc;

use arrow_array::BooleanArray;
use churn_core::{Batch, Field, Result, StepId, Type};
use churn_expr::Bound;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::stream::{StreamOp, Take};

impl Build for plan::Totals {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let placed = |columns: &[(Field, Bound)]| {
            let placed = |(f, by): &(Field, Bound)| Ok((by.placed(&pipeline.layout)?, f.kind.clone()));
            columns.iter().map(placed).collect::<Result<Vec<_>>>()
        };
        let op = Totals {
            counted: self.counted.as_ref().map(|counted| counted.placed(&pipeline.layout)).transpose()?,
            has_row: self.has_row,
            by: placed(&self.by)?,
            keys: placed(&self.keys)?,
            step: place.step(),
            text: place.text(),
        };
        pipeline.push(Box::new(op));
        pipeline.layout = place.node.columns();
        Ok(pipeline)
    }
}

/// Each row four times, for the totals of rows and columns; those without a cell once.
pub struct Totals {
    /// Which rows have a cell, if not all.
    pub(crate) counted: Option<Bound>,
    pub(crate) has_row: bool,
    /// Each with its type.
    pub(crate) by: Vec<(Bound, Type)>,
    pub(crate) keys: Vec<(Bound, Type)>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl StreamOp for Totals {
    fn multiplies(&self) -> bool {
        true
    }

    fn each(&self, batch: Batch, work: &mut MorselOutput, take: &mut Take<'_>) -> Result<()> {
        let counted = match &self.counted {
            None => batch.clone(),
            Some(counted) => {
                let keep = work.with_events(self.step, |events| counted.evaluate(&batch, events));
                batch.filter(&keep.map_err(|e| e.in_step(&self.text))?.bools(batch.rows))?
            }
        };
        for (of_keys, of_rows) in [(false, false), (true, false), (false, true), (true, true)] {
            if of_rows && !self.has_row {
                continue;
            }
            let batch = if of_keys || of_rows { &counted } else { &batch };
            let mut part = batch.clone();
            for (bounds, is_total) in [(&self.by, of_rows), (&self.keys, of_keys)] {
                for (bound, kind) in bounds {
                    part.columns.push(if is_total {
                        arrow_array::new_null_array(&kind.arrow(), batch.rows)
                    } else {
                        work.with_events(self.step, |events| bound.evaluate_array(batch, events))
                            .map_err(|e| e.in_step(&self.text))?
                    });
                }
            }
            for mark in [of_keys, of_rows] {
                part.columns.push(Arc::new(BooleanArray::from(vec![mark; batch.rows])));
            }
            take(part, work)?;
        }
        Ok(())
    }
}
