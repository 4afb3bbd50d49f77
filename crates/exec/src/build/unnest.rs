//! Lists become rows, in the stream.

use churn_core::{ColumnId, Result};
use churn_plan::operators::Unnest;

use super::{Build, OperatorPlace, places};
use crate::pipeline::Pipeline;
use crate::unpivot;

impl Build for Unnest {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let lists: Vec<ColumnId> = self.lists.iter().map(|(id, _)| *id).collect();
        let op = unpivot::Unnest {
            kept: places(&pipeline.layout, &self.kept)?,
            lists: places(&pipeline.layout, &lists)?,
            names: self.lists.iter().map(|(_, f)| f.name.clone()).collect(),
            skip_nulls: self.skip_nulls,
            step: place.step(),
            text: place.text(),
        };
        pipeline.push(Box::new(op));
        pipeline.layout = place.node.columns();
        Ok(pipeline)
    }
}
