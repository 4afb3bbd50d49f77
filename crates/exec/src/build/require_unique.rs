//! Keys that must be unique: keys that were seen are kept, rows pass in order.

use churn_core::Result;
use churn_plan::operators::RequireUnique;

use super::{Build, OperatorPlace, ids, named_places, places};
use crate::pipeline::Pipeline;
use crate::serial;

impl Build for RequireUnique {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let keys = places(&pipeline.layout, &ids(&self.by))?;
        let kinds = self.by.iter().map(|f| f.kind.clone()).collect();
        pipeline.acts = true;
        pipeline.push_serial(Box::new(serial::RequireUnique {
            seen: serial::SeenKeys::new(keys, kinds, place.context)?,
            names: self.by.iter().map(|f| f.name.clone()).collect(),
            shown: named_places(&pipeline.layout, &self.shown)?,
            text: place.text(),
        }));
        Ok(pipeline)
    }
}
