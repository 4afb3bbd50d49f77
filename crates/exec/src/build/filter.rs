//! A filter: a test of each row in the stream.

use churn_core::Result;
use churn_plan::operators::Filter;

use super::{Build, OperatorPlace};
use crate::pipeline::Pipeline;
use crate::stream;

impl Build for Filter {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let condition = self.condition.placed(&pipeline.layout)?;
        let test = stream::Test { condition, step: place.step(), text: place.text(), early: self.early };
        pipeline.push(Box::new(stream::Filter(test)));
        Ok(pipeline)
    }
}
