//! The first of equal rows: keys that were seen are kept, rows pass in order.

use churn_core::Result;
use churn_plan::operators::Distinct;

use super::first::per_key::FirstPer;
use super::seen_keys::SeenKeys;
use super::{Build, OperatorPlace, places};
use crate::runtime::pipeline::Pipeline;

impl Build for Distinct {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let keys = places(&pipeline.layout, &self.by)?;
        let seen = SeenKeys::new(keys, place.kinds(&self.by), place.context)?;
        let (step, passed) = (place.step(), Vec::new());
        pipeline.push_serial(Box::new(FirstPer { count: 1, seen, passed, distinct: true, step }));
        Ok(pipeline)
    }
}
