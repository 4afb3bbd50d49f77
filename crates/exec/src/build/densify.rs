//! Combinations of keys that do not occur, behind the rows that do.

use churn_core::Result;
use churn_plan::operators::Densify;

use super::{Build, OperatorPlace, places};
use crate::densify;
use crate::pipeline::Pipeline;

impl Build for Densify {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let wanted: Vec<_> = self.per.iter().copied().chain(self.keys.iter().map(|key| key.column)).collect();
        let keys = (places(&pipeline.layout, &wanted)?, self.per.len());
        let series = self.keys.iter().map(|key| key.series.clone()).collect();
        let columns = place.kinds(&pipeline.layout);
        let told = (place.step(), place.text());
        let op = densify::Densify::new(keys, series, columns, place.context.budget.reservation(), told);
        pipeline.push_serial(Box::new(op));
        Ok(pipeline)
    }
}
