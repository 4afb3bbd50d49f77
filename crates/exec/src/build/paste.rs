//! Columns of another table, which is held, beside those of the input.

use churn_core::Result;
use churn_plan::operators::Paste;

use super::{Build, OperatorPlace, build, ids, places};
use crate::materialized::materialize;
use crate::pipeline::Pipeline;
use crate::{paste, stream};

impl Build for Paste {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut other = build(&self.other, place.context)?;
        let columns = places(&other.layout, &ids(&self.added))?;
        other.push(Box::new(stream::Pick(columns)));
        let other = materialize(other, place.context)?.materialized()?.scan();
        let mut pipeline = place.input()?;
        pipeline.layout.extend(ids(&self.added));
        // Only all rows show that there are as many.
        pipeline.acts = true;
        pipeline.push_serial(Box::new(paste::Paste::new(other, place.text())));
        Ok(pipeline)
    }
}
