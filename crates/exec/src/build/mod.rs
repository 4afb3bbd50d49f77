//! A plan into pipelines, and those run one after the other.

mod reshape;
mod window;
mod write;

use std::path::Path;
use std::sync::{Arc, PoisonError};

use churn_core::parallel::guarded;
use churn_core::{ColumnId, Counters, Error, ErrorKind, Field, Ledger, Result, StepId, Type, deep};
use churn_expr::Bound;
use churn_expr::bind::AggregateCall;
use churn_io::ranges::{Range, ranges};
use churn_io::source::Request;
use churn_io::target::Target as File;
use churn_plan::node::{SampleSize, Scan};
use churn_plan::{Found, Node, Op, Plan, SortKey, Wanted, rules};

use crate::context::Context;
use crate::group::{self, Call, Grouping};
use crate::last::Last;
use crate::ledger::account;
use crate::materialized::{Materialized, MaterializedTable, materialize, materialize_within};
use crate::materialized_source::MaterializedSource;
use crate::options::RunOptions;
use crate::paste::Paste;
use crate::pipeline::{self, Leg, Pipeline};
use crate::sample::SampleRows;
use crate::sink::{Commit, Discard, Sink, Worker};
use crate::sort::{self, Order, OrderKey, Written};
use crate::spill::partitioned::PartitionedSink;
use crate::{join, pivot, rows_per_key, serial, stream, top_k};

/// Runs a plan; the main chain's rows go to the sink.
///
/// # Errors
/// The first thing that went wrong, in the order of rows.
pub fn run<W, C>(
    plan: &Plan,
    options: &RunOptions,
    sink: impl FnOnce() -> Result<Sink<W, C>>,
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
    let combinations = pivot::combinations(sort::batches(kept.materialized()?.scan()), &kinds, wanted)?;
    let source = Arc::new(MaterializedSource::new(&plan.main.fields, kept));
    Ok(Found { source, combinations, counted, ran: plan.main.node.clone() })
}

fn run_counted<W, C>(
    plan: &Plan,
    options: &RunOptions,
    sink: impl FnOnce() -> Result<Sink<W, C>>,
) -> Result<(C::Output, Counters)>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    let context = Context::new(options.clone(), plan);
    let pipeline = deep::with_room_for(plan.length(), || whole(plan, &context))?;
    let output = pipeline::run(pipeline, sink()?, &context)?;
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

/// The pipeline that gives a node's rows; what blocks below it has run when this returns.
fn build(node: &Node, context: &Context) -> Result<Pipeline> {
    deep::guarded(|| build_within(node, context))
}

fn build_within(node: &Node, context: &Context) -> Result<Pipeline> {
    let step = node.step;
    let text = || context.step_text(step).to_owned();
    let below = || match &node.input {
        Some(input) => build(input, context),
        None => Err(Error::new(ErrorKind::Internal, "An operator has no input.")),
    };
    match &node.op {
        Op::Scan(scan) => build_scan(scan, step, context),
        Op::Shared { table, input, columns, kept } => {
            let (inner, layout): (Vec<_>, Vec<_>) = columns.iter().map(|(id, f)| (*id, f.id)).unzip();
            let rows = shared(*table, input, kept, context)?.materialized()?;
            let mut pipeline = pipeline_of(rows, kept.clone());
            pipeline.push(Box::new(stream::Pick(places(kept, &inner)?)));
            Ok(Pipeline { layout, ..pipeline })
        }
        Op::Compute(columns) => {
            let mut pipeline = below()?;
            let mut placed = Vec::new();
            for (field, by) in columns {
                placed.push(by.placed(&pipeline.layout)?);
                pipeline.layout.push(field.id);
            }
            pipeline.push(Box::new(stream::Compute { columns: placed, step, text: text() }));
            Ok(pipeline)
        }
        Op::Filter(condition) | Op::Prefilter(condition) => {
            let mut pipeline = below()?;
            let condition = condition.placed(&pipeline.layout)?;
            let early = matches!(node.op, Op::Prefilter(_));
            pipeline.push(Box::new(stream::Filter(stream::Test { condition, step, text: text(), early })));
            Ok(pipeline)
        }
        Op::Sort { keys, keep } => build_sort(below()?, keys, *keep, None, step, context),
        Op::First { count, after, per } => {
            let mut pipeline = below()?;
            let op: Box<dyn serial::SerialOp> = if per.is_empty() {
                Box::new(serial::First { skip: *after, left: *count, stops: !pipeline.acts, step })
            } else {
                let keys = places(&pipeline.layout, per)?;
                let seen = serial::SeenKeys::new(keys, kinds_of(node, per), context)?;
                Box::new(serial::FirstPer { count: *count, seen, passed: Vec::new(), distinct: false, step })
            };
            pipeline.serial.push(op);
            Ok(pipeline)
        }
        Op::Last { count, per } => {
            let pipeline = below()?;
            let layout = pipeline.layout.clone();
            if per.is_empty() {
                let rows = pipeline::run(pipeline, Last::sink(*count, step, context), context)?;
                return Ok(pipeline_of(rows, layout));
            }
            let keys = places(&layout, per)?;
            let kinds = kinds_of(node, per);
            let process = rows_per_key::last_rows(keys.clone(), kinds.clone(), *count);
            let sink = PartitionedSink::sink(keys, kinds, (process, 8), context);
            let mut pipeline = pipeline_of(pipeline::run(pipeline, sink, context)?, layout);
            pipeline.push(Box::new(stream::CountRows(step)));
            Ok(pipeline)
        }
        Op::Sample { size, seed } => {
            let mut pipeline = below()?;
            match size {
                SampleSize::Percent(percent) => {
                    pipeline.serial.push(Box::new(serial::SamplePercent {
                        percent: *percent,
                        seed: *seed,
                        row: 0,
                        step,
                    }));
                    Ok(pipeline)
                }
                SampleSize::Rows(count) => {
                    let layout = pipeline.layout.clone();
                    let sink = SampleRows::sink(*count, *seed, step, context);
                    Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
                }
            }
        }
        Op::Distinct(by) => {
            let mut pipeline = below()?;
            let keys = places(&pipeline.layout, by)?;
            let seen = serial::SeenKeys::new(keys, kinds_of(node, by), context)?;
            let passed = Vec::new();
            pipeline.serial.push(Box::new(serial::FirstPer { count: 1, seen, passed, distinct: true, step }));
            Ok(pipeline)
        }
        Op::Group { keys, calls } => {
            let pipeline = below()?;
            let mut layout: Vec<ColumnId> = keys.iter().map(|(f, _)| f.id).collect();
            layout.extend(calls.iter().map(|c| c.field.id));
            let keys: Vec<Bound> = keys.iter().map(|(_, by)| by.clone()).collect();
            grouped(pipeline, &keys, calls, false, layout, step, context)
        }
        Op::Per { keys, calls } => {
            let pipeline = below()?;
            let mut layout = pipeline.layout.clone();
            layout.extend(calls.iter().map(|c| c.field.id));
            let kinds = kinds_of(node, keys);
            let column = |(id, kind): (&ColumnId, Type)| Bound { node: churn_expr::Node::Column(*id), kind };
            let keys: Vec<Bound> = keys.iter().zip(kinds).map(column).collect();
            grouped(pipeline, &keys, calls, true, layout, step, context)
        }
        Op::Require { condition, message, shown } => {
            let mut pipeline = below()?;
            let condition = condition.placed(&pipeline.layout)?;
            let shown = named_places(&pipeline.layout, shown)?;
            let message = message.clone();
            pipeline.acts = true;
            pipeline.push(Box::new(stream::Require { condition, message, shown, step, text: text() }));
            Ok(pipeline)
        }
        Op::RequireUnique { by, shown } => {
            let mut pipeline = below()?;
            let keys = places(&pipeline.layout, &ids(by))?;
            let kinds = by.iter().map(|f| f.kind.clone()).collect();
            pipeline.acts = true;
            pipeline.serial.push(Box::new(serial::RequireUnique {
                seen: serial::SeenKeys::new(keys, kinds, context)?,
                names: by.iter().map(|f| f.name.clone()).collect(),
                shown: named_places(&pipeline.layout, shown)?,
                text: text(),
            }));
            Ok(pipeline)
        }
        Op::Write(target) => write::write(target, node, below()?, context),
        Op::Unpivot(how) => reshape::unpivot(how, node, below()?, context),
        Op::Unnest(how) => reshape::unnest(how, node, below()?, context),
        Op::Totals(how) => reshape::totals(how, node, below()?, context),
        Op::Pivot(how) => reshape::pivot(how, node, below()?, context),
        Op::Window(how) => window::window(how, node, below()?, context),
        Op::Join(how) => {
            let other = build(&how.other, context)?;
            let left = below()?;
            let kinds = kinds_of(node, &left.layout);
            join::joined(how, left, other, &kinds, step, context)
        }
        Op::Append { fields, own, others } => {
            let (serial, ends) = (Vec::new(), Vec::new());
            let mut all = Pipeline { legs: Vec::new(), serial, ends, acts: false, layout: ids(fields) };
            let mut append = |mut pipeline: Pipeline, columns: &[Bound]| {
                let columns = columns.iter().map(|by| by.placed(&pipeline.layout)).collect::<Result<_>>()?;
                pipeline.push(Box::new(stream::Select { columns, step, text: text() }));
                let pipeline = pipeline.without_serial(context)?;
                all.acts |= pipeline.acts;
                all.legs.extend(pipeline.legs);
                all.ends.extend(pipeline.ends);
                Ok(())
            };
            append(below()?, own)?;
            others.iter().try_for_each(|(other, columns)| append(build(other, context)?, columns))?;
            all.push(Box::new(stream::CountRows(step)));
            Ok(all)
        }
        Op::Paste { other, added } => {
            let mut other = build(other, context)?;
            let columns = places(&other.layout, &ids(added))?;
            other.push(Box::new(stream::Pick(columns)));
            let other = materialize(other, context)?.materialized()?.scan();
            let mut pipeline = below()?;
            pipeline.layout.extend(ids(added));
            // Only all rows show that there are as many.
            pipeline.acts = true;
            pipeline.serial.push(Box::new(Paste::new(other, text())));
            Ok(pipeline)
        }
    }
}

fn build_scan(scan: &Scan, step: StepId, context: &Context) -> Result<Pipeline> {
    let layout: Vec<ColumnId> = scan.columns.iter().map(|(_, f)| f.id).collect();
    let request = Request {
        columns: scan.columns.iter().map(|(place, _)| *place).collect(),
        block_bytes: context.options.block_bytes,
        ranges: if context.options.first_rows.is_some() { Vec::new() } else { wanted_ranges(scan) },
    };
    let named = |e: Error| e.in_step(context.step_text(step));
    let opened = scan.source.open(request).map_err(named)?;
    let first_rows = context.options.first_rows;
    let limit = scan.limit.into_iter().chain(first_rows).min();
    let mut leg = Leg { scan_step: Some(step), limit, ..Leg::of(opened) };
    if let Some(path) = &scan.rejects {
        leg.rejects = Some(rejects(path, context)?);
    }
    let tests = |layout: &[ColumnId]| -> Result<Vec<stream::Test>> {
        let placed = scan.conditions.iter().map(|condition| {
            let text = context.step_text(condition.step).to_owned();
            let (step, early) = (condition.step, condition.early);
            Ok(stream::Test { condition: condition.test.placed(layout)?, step, text, early })
        });
        placed.collect()
    };
    if first_rows.is_none() && !scan.conditions.is_empty() {
        let mut used = Vec::new();
        scan.conditions.iter().for_each(|c| c.test.columns(&mut used));
        let sieves =
            tests(&used)?.into_iter().map(|test| Box::new(test) as Box<dyn stream::ScanFilter>).collect();
        leg.test = Some(stream::ScanTest { columns: places(&layout, &used)?, tests: sieves });
    }
    let acts = scan.rejects.is_some();
    let mut pipeline = Pipeline { acts, ..Pipeline::of(leg, layout) };
    if let Some(rows) = first_rows {
        // A trial on the first rows of a source: conditions see those rows only.
        pipeline.serial.push(Box::new(serial::First { skip: 0, left: rows, stops: true, step: usize::MAX }));
        for test in tests(&pipeline.layout)? {
            pipeline.push(Box::new(stream::Filter(test)));
        }
    }
    Ok(pipeline)
}

/// What the first condition says of columns on their own. The first alone: rows that are left out for a later one
/// would be missing from its account.
fn wanted_ranges(scan: &Scan) -> Vec<(usize, Range)> {
    let found = scan.conditions.first().map(|c| ranges(&c.test)).unwrap_or_default();
    let place = |id| scan.columns.iter().find(|(_, f)| f.id == id).map(|(place, _)| *place);
    found.into_iter().filter_map(|(id, range)| Some((place(id)?, range))).collect()
}

/// Opens the file of rejected rows.
fn rejects(path: &Path, context: &Context) -> Result<usize> {
    context.text_output(File::create(path, churn_io::target::Mode::Replace)?, b"", b"", b"")
}

fn build_sort(
    pipeline: Pipeline,
    keys: &[SortKey],
    keep: Option<usize>,
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
    let keys = keys.iter().map(key).collect::<Result<_>>()?;
    let order = Order { keys, step, text: context.step_text(step).to_owned() };
    let rows = match keep {
        Some(keep) if keep <= top_k::MOST => {
            pipeline::run(pipeline, top_k::sink(order, keep, context)?, context)
        }
        keep => pipeline::run(pipeline, sort::sink(order, keep, written, context)?, context),
    };
    Ok(pipeline_of(rows?, layout))
}

fn grouped(
    pipeline: Pipeline,
    keys: &[Bound],
    calls: &[AggregateCall],
    is_broadcast: bool,
    layout: Vec<ColumnId>,
    step: StepId,
    context: &Context,
) -> Result<Pipeline> {
    let place = |bound: &Bound| bound.placed(&pipeline.layout);
    let calls = calls.iter().map(|call| {
        Ok(Call {
            args: call.made.args.iter().map(place).collect::<Result<_>>()?,
            only: call.only.as_ref().map(place).transpose()?,
            make: call.made.make.clone(),
        })
    });
    let grouping = Grouping {
        keys: keys.iter().map(place).collect::<Result<_>>()?,
        kinds: keys.iter().map(|k| k.kind.clone()).collect(),
        calls: calls.collect::<Result<_>>()?,
        step,
        text: context.step_text(step).to_owned(),
        is_broadcast,
        are_many: false.into(),
        expected: 0.into(),
    };
    let sink = group::sink(grouping, &context.budget, context.spill.clone(), context.threads())?;
    Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
}

/// A pipeline over rows that a sink holds.
fn pipeline_of(rows: Materialized, layout: Vec<ColumnId>) -> Pipeline {
    Pipeline::of(Leg::of(rows.scan()), layout)
}

/// The rows of a table that is used more than once; the first use runs it.
fn shared(table: usize, input: &Node, columns: &[ColumnId], context: &Context) -> Result<MaterializedTable> {
    if let Some(kept) = context.table(table) {
        return Ok(kept);
    }
    let (node, _) = rules::rewrite(input.clone(), columns);
    let mut pipeline = build(&node, context)?;
    let places = places(&pipeline.layout, columns)?;
    pipeline.push(Box::new(stream::Pick(places)));
    let kept = materialize(pipeline, context)?;
    context.keep_table(table, kept.clone());
    Ok(kept)
}

/// The types of columns below a node.
fn kinds_of(node: &Node, columns: &[ColumnId]) -> Vec<Type> {
    columns.iter().map(|id| node.field(*id).map_or(Type::Text, |f| f.kind.clone())).collect()
}

fn named_places(layout: &[ColumnId], fields: &[Field]) -> Result<Vec<(String, usize)>> {
    let places = places(layout, &ids(fields))?;
    Ok(fields.iter().map(|f| f.name.clone()).zip(places).collect())
}
