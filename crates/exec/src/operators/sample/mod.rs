//! Random rows: each with a chance in the stream, or so many of all.

mod per_key;
mod percent;
mod rows;

use std::sync::Arc;

use churn_core::Result;
use churn_kernels::hash::Seed;
use churn_plan::operators::{Sample, SampleSize};
use per_key::{AddLots, SamplePerKey};
use percent::SamplePercent;
use rows::SampleRows;

use super::{Build, OperatorPlace, pipeline_of, places};
use crate::runtime::pipeline::{self, Pipeline};
use crate::runtime::stream::{CountRows, Pick};
use crate::spill::partitioned::PartitionedSink;

impl Build for Sample {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let (mut pipeline, context, step) = (place.input()?, place.context, place.step());
        match self.size {
            SampleSize::Percent(percent) => {
                let op = SamplePercent { percent, seed: self.seed, row: 0, step };
                pipeline.push_serial(Box::new(op));
                Ok(pipeline)
            }
            SampleSize::Rows(count) if !self.per.is_empty() => {
                let layout = pipeline.layout.clone();
                let (keys, kinds) = (places(&layout, &self.per)?, place.kinds(&self.per));
                pipeline.push_serial(Box::new(AddLots::new(self.seed)));
                let process = Arc::new(SamplePerKey { keys: keys.clone(), kinds: kinds.clone(), count });
                let sink = PartitionedSink::sink(keys, kinds, (process, 2 * size_of::<u64>()), context);
                let columns = (0..layout.len()).collect();
                let mut pipeline = pipeline_of(pipeline::run(pipeline, sink, context)?, layout);
                pipeline.push(Box::new(Pick(columns)));
                pipeline.push(Box::new(CountRows(step)));
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

/// The random number of a row, the same in every run.
fn lot(seed: u64, row: u64) -> u64 {
    Seed::FIXED.of_u128(u128::from(seed) << 64 | u128::from(row))
}
