//! The first of equal rows: keys that were seen are kept, rows pass in order.

use churn_core::Result;
use churn_plan::operators::Distinct;

use super::{Build, OperatorPlace, places};
use crate::pipeline::Pipeline;
use crate::serial;

impl Build for Distinct {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let keys = places(&pipeline.layout, &self.by)?;
        let seen = serial::SeenKeys::new(keys, place.kinds(&self.by), place.context)?;
        let (step, passed) = (place.step(), Vec::new());
        pipeline.push_serial(Box::new(serial::FirstPer { count: 1, seen, passed, distinct: true, step }));
        Ok(pipeline)
    }
}
