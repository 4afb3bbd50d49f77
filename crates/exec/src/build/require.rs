//! A condition that must hold: a test of each row in the stream.

use churn_core::Result;
use churn_plan::operators::Require;

use super::{Build, OperatorPlace, named_places};
use crate::pipeline::Pipeline;
use crate::stream;

impl Build for Require {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let condition = self.condition.placed(&pipeline.layout)?;
        let shown = named_places(&pipeline.layout, &self.shown)?;
        let (message, step, text) = (self.message.clone(), place.step(), place.text());
        pipeline.acts = true;
        pipeline.push(Box::new(stream::Require { condition, message, shown, step, text }));
        Ok(pipeline)
    }
}
