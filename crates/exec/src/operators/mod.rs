//! The operators of a run: for each logical operator a file, or a folder, of its name, with the pipeline that it becomes
//! and what works in it: in memory, and past the budget.

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
pub(crate) mod pivot;
mod require;
mod require_unique;
mod rows_per_key;
mod sample;
mod scan;
mod seen_keys;
mod shared;
pub(crate) mod sort;
mod top_per_group;
mod totals;
mod unnest;
mod unpivot;
mod window;
pub(crate) mod write;

use churn_core::{ColumnId, Error, ErrorKind, Field, Result, StepId, Type, current_step, deep};
use churn_plan::Node;
use churn_plan::operators::Op;

use crate::runtime::context::Context;
use crate::runtime::materialized::Materialized;
use crate::runtime::pipeline::{Leg, Pipeline};

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
        Op::TopPerGroup(op) => op,
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
pub(crate) fn build(node: &Node, context: &Context) -> Result<Pipeline> {
    let step = context.worked_step(node.step);
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
pub(crate) fn places(layout: &[ColumnId], wanted: &[ColumnId]) -> Result<Vec<usize>> {
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
