//! Rows also for the totals that they are in, in the stream.

use churn_core::{Field, Result};
use churn_expr::Bound;
use churn_plan::operators::Totals;

use super::{Build, OperatorPlace};
use crate::pipeline::Pipeline;
use crate::pivot;

impl Build for Totals {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let placed = |columns: &[(Field, Bound)]| {
            let placed = |(f, by): &(Field, Bound)| Ok((by.placed(&pipeline.layout)?, f.kind.clone()));
            columns.iter().map(placed).collect::<Result<Vec<_>>>()
        };
        let op = pivot::Totals {
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
