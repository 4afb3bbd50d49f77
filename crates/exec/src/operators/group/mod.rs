//! `group`, `total` and `per`: small tables made by the workers, merged in order into a large one.
//!
//! A worker fills a table from the rows of a morsel and closes it when it has grown past the cache, so that what
//! is in which table depends on the data alone. It partitions the table's groups by their keys' hashes. Where a morsel has
//! about as many groups as rows, it passes its rows on instead.
//! The ordered side takes the tables in the order of morsels and merges them, partition by partition on all
//! threads: sums meet in the same order whatever worker made them, and the first place that a group was seen at
//! gives its place in the result.
//!
//! When the budget is used up, what is merged goes to a file for each partition, and the tables that follow
//! behind it, unmerged. At the end one partition after the other is merged, in the same order as in memory, and
//! its groups go to a run; the runs are merged by first appearance.

mod broadcast;
mod external;
mod local;
mod partition;
mod passed;
mod table;

use churn_core::{Result, Type};
use churn_expr::Bound;
use churn_expr::bind::AggregateCall;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace, pipeline_of};
use crate::runtime::pipeline::{self, Pipeline};
pub(super) use external::ExternalStates;
pub(super) use local::{GroupCall, Grouping, Output};
pub(super) use table::sink;

impl Build for plan::Group {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let keys: Vec<Bound> = self.keys.iter().map(|(_, by)| by.clone()).collect();
        let is_read =
            |key: &usize| self.keys.get(*key).is_some_and(|(field, _)| !self.unread.contains(&field.id));
        let output = Output::Groups((0..keys.len()).filter(is_read).collect());
        grouped(place.input()?, &keys, &self.calls, output, place)
    }
}

/// The groups of a pipeline's rows, or its rows with the aggregates of their groups.
pub(super) fn grouped(
    pipeline: Pipeline,
    keys: &[Bound],
    calls: &[AggregateCall],
    output: Output,
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
        output,
        may_pass_rows,
        are_many: false.into(),
        expected: 0.into(),
    };
    let sink = sink(grouping, &context.budget, context.spill.clone(), context.threads().clone())?;
    Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
}
