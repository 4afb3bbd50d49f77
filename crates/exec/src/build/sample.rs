//! Random rows: each with a chance in the stream, or so many of all.

use churn_core::Result;
use churn_plan::operators::{Sample, SampleSize};

use super::{Build, OperatorPlace, pipeline_of};
use crate::pipeline::{self, Pipeline};
use crate::sample::SampleRows;
use crate::serial;

impl Build for Sample {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let (mut pipeline, context, step) = (place.input()?, place.context, place.step());
        match self.size {
            SampleSize::Percent(percent) => {
                let op = serial::SamplePercent { percent, seed: self.seed, row: 0, step };
                pipeline.push_serial(Box::new(op));
                Ok(pipeline)
            }
            SampleSize::Rows(count) => {
                let layout = pipeline.layout.clone();
                let sink = SampleRows::sink(count, self.seed, step, context);
                Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
            }
        }
    }
}
