//! A sort: top-k where only the first rows are wanted, sorted runs and their merge otherwise.

use churn_core::{Result, StepId};
use churn_plan::operators::{Sort, SortKey};

use super::{Build, OperatorPlace, pipeline_of};
use crate::context::Context;
use crate::pipeline::{self, Pipeline};
use crate::sort::{self, Order, OrderKey, Written};
use crate::top_k;

impl Build for Sort {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        sorted(place.input()?, self, None, place.step(), place.context)
    }
}

/// The rows of a pipeline in the order of a sort. Where they are written as text and nobody else takes them, `written`
/// says what is carried in place of their columns.
pub(super) fn sorted(
    pipeline: Pipeline,
    how: &Sort,
    written: Option<Written>,
    step: StepId,
    context: &Context,
) -> Result<Pipeline> {
    let layout = pipeline.layout.clone();
    let key = |key: &SortKey| {
        Ok(OrderKey {
            by: key.by.placed(&layout)?,
            kind: key.by.kind.clone(),
            descending: key.descending,
            nulls_first: key.nulls_first,
        })
    };
    let keys = how.keys.iter().map(key).collect::<Result<_>>()?;
    let order = Order { keys, step, text: context.step_text(step).to_owned() };
    let rows = match how.keep {
        Some(keep) if keep <= top_k::MOST => {
            pipeline::run(pipeline, top_k::sink(order, keep, context)?, context)
        }
        keep => pipeline::run(pipeline, sort::sink(order, keep, written, context)?, context),
    };
    Ok(pipeline_of(rows?, layout))
}
