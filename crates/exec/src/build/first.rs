//! The first rows: counted in the order of rows, the run stopped when there are enough of the whole table.

use churn_core::Result;
use churn_plan::operators::First;

use super::{Build, OperatorPlace, places};
use crate::pipeline::Pipeline;
use crate::serial::{self, SerialOp};

impl Build for First {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let (count, step) = (self.count, place.step());
        let op: Box<dyn SerialOp> = if self.per.is_empty() {
            Box::new(serial::First { skip: self.after, left: count, stops: !pipeline.acts, step })
        } else {
            let keys = places(&pipeline.layout, &self.per)?;
            let seen = serial::SeenKeys::new(keys, place.kinds(&self.per), place.context)?;
            Box::new(serial::FirstPer { count, seen, passed: Vec::new(), distinct: false, step })
        };
        pipeline.push_serial(op);
        Ok(pipeline)
    }
}
