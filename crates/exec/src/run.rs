//! A plan, run: its pipelines one after the other, its rows to a sink.

use std::sync::{Arc, PoisonError};

use churn_core::parallel::guarded;
use churn_core::{ColumnId, Counters, Ledger, Result, Type, deep};
use churn_io::binary::WriterResources;
use churn_plan::{Found, Plan, Wanted};

use crate::operators::pivot::combinations;
use crate::operators::sort::batches;
use crate::operators::{build, places, write};
use crate::runtime::context::Context;
use crate::runtime::figures::RunFigures;
use crate::runtime::ledger::account;
use crate::runtime::materialized::materialize_within;
use crate::runtime::materialized_source::MaterializedSource;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::settings::RunSettings;
use crate::runtime::sink::{Commit, Discard, Sink, Worker};
use crate::runtime::{pipeline, stream};

/// What a run leaves beside its rows.
pub struct Ran {
    /// What became of every row.
    pub ledger: Ledger,
    /// What it took.
    pub figures: RunFigures,
}

/// Runs a plan; the main chain's rows go to the sink.
///
/// # Errors
/// The first thing that went wrong, in the order of rows.
pub fn run<W, C>(
    plan: &Plan,
    options: &RunSettings,
    sink: impl FnOnce(&WriterResources) -> Result<Sink<W, C>>,
) -> Result<(C::Output, Ran)>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    let (output, ended) = guarded(|| options.cancelled().within(|| run_counted(plan, options, sink)))?;
    Ok((output, ended.of(plan)))
}

/// Runs a plan to find the values of some of its columns.
///
/// # Errors
/// As [`run`].
pub fn find(plan: &Plan, options: &RunSettings, wanted: &Wanted) -> Result<Found> {
    guarded(|| options.cancelled().within(|| find_within(plan, options, wanted)))
}

fn find_within(plan: &Plan, options: &RunSettings, wanted: &Wanted) -> Result<Found> {
    let context = Context::new(options.clone(), plan);
    let pipeline = deep::with_room_for(plan.length(), || whole(plan, &context))?;
    let kept = materialize_within(context.budget.between_runs(), pipeline, &context)?;
    let Ended { counters: counted, .. } = ended(context)?;
    let kinds: Vec<Type> =
        wanted.columns.iter().filter_map(|i| plan.main.fields.get(*i)).map(|f| f.kind.clone()).collect();
    let combinations = combinations(batches(kept.materialized()?.scan()), &kinds, wanted)?;
    let source = Arc::new(MaterializedSource::new(&plan.main.fields, kept));
    Ok(Found { source, combinations, counted, ran: plan.main.node.clone() })
}

fn run_counted<W, C>(
    plan: &Plan,
    options: &RunSettings,
    sink: impl FnOnce(&WriterResources) -> Result<Sink<W, C>>,
) -> Result<(C::Output, Ended)>
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
pub fn run_for_effect(plan: &Plan, options: &RunSettings) -> Result<Ran> {
    guarded(|| options.cancelled().within(|| run_for_effect_within(plan, options)))
}

fn run_for_effect_within(plan: &Plan, options: &RunSettings) -> Result<Ran> {
    let context = Context::new(options.clone(), plan);
    deep::with_room_for(plan.length(), || {
        plan.others.iter().chain([&plan.main]).try_for_each(|relation| {
            let pipeline = write::build_for_effect(&relation.node, &context)?;
            pipeline::run(pipeline, Discard::sink(), &context).map(drop)
        })
    })?;
    Ok(ended(context)?.of(plan))
}

/// What was counted of a run.
struct Ended {
    counters: Counters,
    figures: RunFigures,
}

impl Ended {
    fn of(self, plan: &Plan) -> Ran {
        Ran { ledger: account(plan, &self.counters), figures: self.figures }
    }
}

/// Gives the files that were written their names; gives what was counted.
fn ended(context: Context) -> Result<Ended> {
    context.finish_outputs()?;
    let figures = context.figures();
    Ok(Ended { counters: context.counters.into_inner().unwrap_or_else(PoisonError::into_inner), figures })
}
