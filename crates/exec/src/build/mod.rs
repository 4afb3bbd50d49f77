//! A plan into pipelines, and those run one after the other.

mod append;
mod compute;
mod densify;
mod distinct;
mod filter;
mod first;
mod group;
mod join;
mod last;
mod paste;
mod per;
mod pivot;
mod require;
mod require_unique;
mod sample;
mod scan;
mod shared;
mod sort;
mod totals;
mod unnest;
mod unpivot;
mod window;
mod write;

use std::sync::{Arc, PoisonError};

use churn_core::current_step;
use churn_core::parallel::guarded;
use churn_core::{ColumnId, Counters, Error, ErrorKind, Field, Ledger, Result, StepId, Type, deep};
use churn_io::binary::WriterResources;
use churn_plan::operators::Op;
use churn_plan::{Found, Node, Plan, Wanted};

use crate::context::Context;
use crate::ledger::account;
use crate::materialized::{Materialized, materialize_within};
use crate::materialized_source::MaterializedSource;
use crate::options::RunOptions;
use crate::pipeline::{self, Leg, Pipeline};
use crate::pivot::combinations;
use crate::sink::{Commit, Discard, Sink, Worker};
use crate::sort::batches;
use crate::stream;

/// Runs a plan; the main chain's rows go to the sink.
///
/// # Errors
/// The first thing that went wrong, in the order of rows.
pub fn run<W, C>(
    plan: &Plan,
    options: &RunOptions,
    sink: impl FnOnce(&WriterResources) -> Result<Sink<W, C>>,
) -> Result<(C::Output, Ledger)>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    let (output, counters) = guarded(|| options.cancelled().within(|| run_counted(plan, options, sink)))?;
    Ok((output, account(plan, &counters)))
}

/// Runs a plan to find the values of some of its columns.
///
/// # Errors
/// As [`run`].
pub fn find(plan: &Plan, options: &RunOptions, wanted: &Wanted) -> Result<Found> {
    guarded(|| options.cancelled().within(|| find_within(plan, options, wanted)))
}

fn find_within(plan: &Plan, options: &RunOptions, wanted: &Wanted) -> Result<Found> {
    let context = Context::new(options.clone(), plan);
    let pipeline = deep::with_room_for(plan.length(), || whole(plan, &context))?;
    let kept = materialize_within(context.budget.between_runs(), pipeline, &context)?;
    let counted = ended(context)?;
    let kinds: Vec<Type> =
        wanted.columns.iter().filter_map(|i| plan.main.fields.get(*i)).map(|f| f.kind.clone()).collect();
    let combinations = combinations(batches(kept.materialized()?.scan()), &kinds, wanted)?;
    let source = Arc::new(MaterializedSource::new(&plan.main.fields, kept));
    Ok(Found { source, combinations, counted, ran: plan.main.node.clone() })
}

fn run_counted<W, C>(
    plan: &Plan,
    options: &RunOptions,
    sink: impl FnOnce(&WriterResources) -> Result<Sink<W, C>>,
) -> Result<(C::Output, Counters)>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    let context = Context::new(options.clone(), plan);
    let pipeline = deep::with_room_for(plan.length(), || whole(plan, &context))?;
    let output = pipeline::run(pipeline, sink(&context.resources)?, &context)?;
    Ok((output, ended(context)?))
}

/// The pipeline of the main chain, with its columns as they are told; the others have run for their effect.
fn whole(plan: &Plan, context: &Context) -> Result<Pipeline> {
    for other in &plan.others {
        pipeline::run(write::build_for_effect(&other.node, context)?, Discard::sink(), context)?;
    }
    let wanted: Vec<ColumnId> = plan.main.fields.iter().map(|f| f.id).collect();
    let mut pipeline = build(&plan.main.node, context)?;
    let places = places(&pipeline.layout, &wanted)?;
    if places.len() != pipeline.layout.len() || places.iter().enumerate().any(|(i, p)| i != *p) {
        pipeline.push(Box::new(stream::Pick(places)));
    }
    pipeline.layout = wanted;
    Ok(pipeline)
}

/// Runs a plan for what its steps write and require.
///
/// # Errors
/// As [`run`].
pub fn run_for_effect(plan: &Plan, options: &RunOptions) -> Result<Ledger> {
    guarded(|| options.cancelled().within(|| run_for_effect_within(plan, options)))
}

fn run_for_effect_within(plan: &Plan, options: &RunOptions) -> Result<Ledger> {
    let context = Context::new(options.clone(), plan);
    deep::with_room_for(plan.length(), || {
        plan.others.iter().chain([&plan.main]).try_for_each(|relation| {
            let pipeline = write::build_for_effect(&relation.node, &context)?;
            pipeline::run(pipeline, Discard::sink(), &context).map(drop)
        })
    })?;
    Ok(account(plan, &ended(context)?))
}

/// Gives the files that were written their names; gives what was counted.
fn ended(context: Context) -> Result<Counters> {
    context.finish_outputs()?;
    Ok(context.counters.into_inner().unwrap_or_else(PoisonError::into_inner))
}

/// Steps of a plan whose pipelines are held against it in debug builds.
const CHECKED_STEPS: usize = 200;

/// What the run makes of a logical operator.
pub(crate) trait Build {
    /// The pipeline that gives the operator's rows, its layout the columns of the node. What must run before the first
    /// of them has run when this returns.
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline>;
}

/// The catalogue: how each operator runs stands in the file of its name.
fn of(op: &Op) -> &dyn Build {
    match op {
        Op::Append(op) => op,
        Op::Compute(op) => op,
        Op::Densify(op) => op,
        Op::Distinct(op) => op,
        Op::Filter(op) => op,
        Op::First(op) => op,
        Op::Group(op) => op,
        Op::Join(op) => op,
        Op::Last(op) => op,
        Op::Paste(op) => op,
        Op::Per(op) => op,
        Op::Pivot(op) => op,
        Op::Require(op) => op,
        Op::RequireUnique(op) => op,
        Op::Sample(op) => op,
        Op::Scan(op) => op,
        Op::Shared(op) => op,
        Op::Sort(op) => op,
        Op::Totals(op) => op,
        Op::Unnest(op) => op,
        Op::Unpivot(op) => op,
        Op::Window(op) => op,
        Op::Write(op) => op,
    }
}

/// Where an operator stands: its node in the plan, and the run.
pub(crate) struct OperatorPlace<'a> {
    node: &'a Node,
    context: &'a Context,
}

impl OperatorPlace<'_> {
    /// The step that the operator belongs to.
    fn step(&self) -> StepId {
        self.node.step
    }

    /// The text of that step, for messages.
    fn text(&self) -> String {
        self.context.step_text(self.node.step).to_owned()
    }

    /// The pipeline that gives the rows of its input.
    fn input(&self) -> Result<Pipeline> {
        match &self.node.input {
            Some(input) => build(input, self.context),
            None => Err(Error::new(ErrorKind::Internal, "An operator has no input.")),
        }
    }

    /// The types of columns below or at the operator.
    fn kinds(&self, columns: &[ColumnId]) -> Vec<Type> {
        columns.iter().map(|id| self.node.field(*id).map_or(Type::Text, |f| f.kind.clone())).collect()
    }
}

/// The pipeline that gives a node's rows; what blocks below it has run when this returns.
fn build(node: &Node, context: &Context) -> Result<Pipeline> {
    let step = Some(Arc::from(context.step_text(node.step)));
    let build = || of(&node.op).build(&OperatorPlace { node, context });
    let pipeline = current_step::within(&step, || deep::guarded(build))?;
    // Of long chains not, as each node's columns are found by a walk over all below it.
    debug_assert!(
        context.steps() > CHECKED_STEPS || pipeline.layout == node.columns(),
        "the pipeline of {:?} gives other columns than its plan",
        context.step_text(node.step)
    );
    Ok(pipeline)
}

/// The places of columns in a layout.
fn places(layout: &[ColumnId], wanted: &[ColumnId]) -> Result<Vec<usize>> {
    let place = |id: &ColumnId| {
        let lost = || Error::new(ErrorKind::Internal, format!("The plan lost column {id}."));
        layout.iter().position(|l| l == id).ok_or_else(lost)
    };
    wanted.iter().map(place).collect()
}

fn ids(fields: &[Field]) -> Vec<ColumnId> {
    fields.iter().map(|f| f.id).collect()
}

/// A pipeline over rows that a sink holds.
fn pipeline_of(rows: Materialized, layout: Vec<ColumnId>) -> Pipeline {
    Pipeline::of(Leg::of(rows.scan()), layout)
}

fn named_places(layout: &[ColumnId], fields: &[Field]) -> Result<Vec<(String, usize)>> {
    let places = places(layout, &ids(fields))?;
    Ok(fields.iter().map(|f| f.name.clone()).zip(places).collect())
}
