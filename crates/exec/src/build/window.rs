//! The pipeline of a window.

use std::sync::Arc;

use churn_core::Result;
use churn_plan::{Node, Window, WindowKey};

use super::{kinds_of, pipeline_of, places};
use crate::context::Context;
use crate::pipeline::{self, Pipeline};
use crate::spill::partitioned::PartitionedSink;
use crate::window as run;

pub(super) fn window(how: &Window, node: &Node, pipeline: Pipeline, context: &Context) -> Result<Pipeline> {
    let mut layout = pipeline.layout.clone();
    let key = |key: &WindowKey| {
        let place = places(&layout, &[key.by])?.first().copied().unwrap_or(0);
        Ok(run::key(place, key.kind.clone(), key.descending, key.nulls_first))
    };
    let call = |call: &churn_plan::Call| {
        Ok(run::Call {
            task: call.task.clone(),
            args: places(&layout, &call.args)?,
            only: places(&layout, call.only.as_slice())?.first().copied(),
            frame: call.frame.clone(),
            kind: call.field.kind.clone(),
        })
    };
    let (by, kinds) = (places(&layout, &how.by)?, kinds_of(node, &how.by));
    let window = run::Window {
        by: by.clone(),
        kinds: kinds.clone(),
        order: how.order.iter().map(key).collect::<Result<_>>()?,
        calls: how.calls.iter().map(call).collect::<Result<_>>()?,
        text: context.step_text(node.step).to_owned(),
        threads: context.threads(),
    };
    let bytes_a_row = window.bytes_a_row();
    let sink = PartitionedSink::sink(by, kinds, (Arc::new(window), bytes_a_row), context);
    layout.extend(how.calls.iter().map(|c| c.field.id));
    Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
}
