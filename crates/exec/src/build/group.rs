//! Aggregates of groups: one row a group.

use churn_core::{Result, Type};
use churn_expr::Bound;
use churn_expr::bind::AggregateCall;
use churn_plan::operators::Group;

use super::{Build, OperatorPlace, pipeline_of};
use crate::group::{self, GroupCall, Grouping};
use crate::pipeline::{self, Pipeline};

impl Build for Group {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let keys: Vec<Bound> = self.keys.iter().map(|(_, by)| by.clone()).collect();
        grouped(place.input()?, &keys, &self.calls, false, place)
    }
}

/// The groups of a pipeline's rows, or its rows with the aggregates of their groups.
pub(super) fn grouped(
    pipeline: Pipeline,
    keys: &[Bound],
    calls: &[AggregateCall],
    is_broadcast: bool,
    at: &OperatorPlace<'_>,
) -> Result<Pipeline> {
    let context = at.context;
    let layout = at.node.columns();
    let place = |bound: &Bound| bound.placed(&pipeline.layout);
    let is_fixed = |arg: &Bound| arg.kind.is_number() || arg.kind.is_temporal() || arg.kind == Type::Bool;
    let may_pass_rows = calls.iter().all(|call| call.only.is_none() && call.made.args.iter().all(is_fixed));
    let calls = calls.iter().map(|call| {
        Ok(GroupCall {
            args: call.made.args.iter().map(place).collect::<Result<_>>()?,
            only: call.only.as_ref().map(place).transpose()?,
            make: call.made.make.clone(),
        })
    });
    let grouping = Grouping {
        keys: keys.iter().map(place).collect::<Result<_>>()?,
        kinds: keys.iter().map(|k| k.kind.clone()).collect(),
        calls: calls.collect::<Result<_>>()?,
        step: at.step(),
        text: at.text(),
        is_broadcast,
        may_pass_rows,
        are_many: false.into(),
        expected: 0.into(),
    };
    let sink = group::sink(grouping, &context.budget, context.spill.clone(), context.threads().clone())?;
    Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
}
