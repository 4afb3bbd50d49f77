//! The last rows: a ring of them for the whole table, partitions by key for those of groups.

mod tail;

use churn_core::Result;
use churn_plan::operators::Last;

use super::{Build, OperatorPlace, pipeline_of, places, rows_per_key};
use crate::runtime::pipeline::{self, Pipeline};
use crate::runtime::stream::CountRows;
use crate::spill::partitioned::PartitionedSink;

impl Build for Last {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let (pipeline, context, step) = (place.input()?, place.context, place.step());
        let layout = pipeline.layout.clone();
        if self.per.is_empty() {
            let rows = pipeline::run(pipeline, tail::Last::sink(self.count, step, context), context)?;
            return Ok(pipeline_of(rows, layout));
        }
        let (keys, kinds) = (places(&layout, &self.per)?, place.kinds(&self.per));
        let process = rows_per_key::last_rows(keys.clone(), kinds.clone(), self.count);
        let sink = PartitionedSink::sink(keys, kinds, (process, 8), context);
        let mut pipeline = pipeline_of(pipeline::run(pipeline, sink, context)?, layout);
        pipeline.push(Box::new(CountRows(step)));
        Ok(pipeline)
    }
}
