//! A join: which of its forms runs is chosen in `crate::join`.

use churn_core::Result;
use churn_plan::operators::Join;

use super::{Build, OperatorPlace, build};
use crate::join;
use crate::pipeline::Pipeline;

impl Build for Join {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let other = build(&self.other, place.context)?;
        let left = place.input()?;
        let kinds = place.kinds(&left.layout);
        join::joined(self, left, other, &kinds, place.step(), place.context)
    }
}
