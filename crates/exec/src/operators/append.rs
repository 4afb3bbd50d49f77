//! Rows of other tables below: one pipeline with a leg for each source.

use churn_core::Result;
use churn_expr::Bound;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace, build};
use crate::runtime::pipeline::Pipeline;
use crate::runtime::stream::{CountRows, Select};

impl Build for plan::Append {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let (serial, ends) = (Vec::new(), Vec::new());
        let layout = place.node.columns();
        let mut all = Pipeline { legs: Vec::new(), serial, ends, acts: false, layout };
        let mut append = |mut pipeline: Pipeline, columns: &[Bound]| {
            let columns = columns.iter().map(|by| by.placed(&pipeline.layout)).collect::<Result<_>>()?;
            pipeline.push(Box::new(Select { columns, step: place.step(), text: place.text() }));
            let pipeline = pipeline.without_serial(place.context)?;
            all.acts |= pipeline.acts;
            all.legs.extend(pipeline.legs);
            all.ends.extend(pipeline.ends);
            Ok(())
        };
        append(place.input()?, &self.own)?;
        self.others.iter().try_for_each(|(other, columns)| append(build(other, place.context)?, columns))?;
        all.push(Box::new(CountRows(place.step())));
        Ok(all)
    }
}
