//! A window: partitions by key, functions over each in its order.

use std::sync::Arc;

use churn_core::{OrFault, Result};
use churn_plan::operators::{Call, Window, WindowKey};

use super::{Build, OperatorPlace, pipeline_of, places};
use crate::pipeline::{self, Pipeline};
use crate::spill::partitioned::PartitionedSink;
use crate::window as run;

impl Build for Window {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let pipeline = place.input()?;
        let context = place.context;
        let mut layout = pipeline.layout.clone();
        let key = |key: &WindowKey| {
            let column =
                places(&layout, &[key.by])?.first().copied().or_fault("column of a window's order")?;
            Ok(run::key(column, key.kind.clone(), key.descending, key.nulls_first))
        };
        let call = |call: &Call| {
            Ok(run::WindowCall {
                task: call.task.clone(),
                args: places(&layout, &call.args)?,
                only: places(&layout, call.only.as_slice())?.first().copied(),
                frame: call.frame.clone(),
                kind: call.field.kind.clone(),
            })
        };
        let (by, kinds) = (places(&layout, &self.by)?, place.kinds(&self.by));
        let window = run::Window {
            by: by.clone(),
            kinds: kinds.clone(),
            order: self.order.iter().map(key).collect::<Result<_>>()?,
            calls: self.calls.iter().map(call).collect::<Result<_>>()?,
            text: place.text(),
            threads: context.threads().clone(),
        };
        let bytes_a_row = window.bytes_a_row();
        let sink = PartitionedSink::sink(by, kinds, (Arc::new(window), bytes_a_row), context);
        layout.extend(self.calls.iter().map(|c| c.field.id));
        Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
    }
}
