//! Columns computed row by row.

use churn_core::Result;
use churn_plan::operators::Compute;

use super::{Build, OperatorPlace};
use crate::pipeline::Pipeline;
use crate::stream;

impl Build for Compute {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let mut columns = Vec::new();
        for (field, by) in &self.columns {
            columns.push(by.placed(&pipeline.layout)?);
            pipeline.layout.push(field.id);
        }
        pipeline.push(Box::new(stream::Compute { columns, step: place.step(), text: place.text() }));
        Ok(pipeline)
    }
}
