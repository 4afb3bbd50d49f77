//! Columns become rows, in the stream.

use churn_core::Result;
use churn_expr::Bound;
use churn_plan::operators::Unpivot;

use super::{Build, OperatorPlace, places};
use crate::pipeline::Pipeline;
use crate::unpivot;

impl Build for Unpivot {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let placed = |by: &Bound| by.placed(&pipeline.layout);
        let value = |i: usize| self.rows.iter().filter_map(|row| row.values.get(i)).map(placed).collect();
        let name = |i: usize| self.rows.iter().filter_map(|row| row.names.get(i).cloned()).collect();
        let op = unpivot::Unpivot {
            kept: places(&pipeline.layout, &self.kept)?,
            names: (0..self.names.len()).map(name).collect(),
            values: (0..self.values.len()).map(value).collect::<Result<_>>()?,
            times: self.rows.len(),
            skip_nulls: self.skip_nulls,
            step: place.step(),
            text: place.text(),
        };
        pipeline.push(Box::new(op));
        pipeline.layout = place.node.columns();
        Ok(pipeline)
    }
}
