//! `join`: the other table is gathered with an index of its keys, and left rows go by it.
//!
//! Left rows keep their order, whatever worker finds their matches. If the other table does not fit in memory, both
//! are partitioned to files by their keys (`spilled`). Rows of the other table that matched none come when all left rows
//! were seen.

mod bands;
mod build_side;
mod external_asof;
mod index;
mod key_pushdown;
mod left_first;
mod prefilter;
mod probe;
mod spec;
mod spilled;

use std::sync::{Arc, Mutex};

use build_side::{BuildInput, BuildSink};
use churn_core::{ColumnId, Event, Result, StepId, Type};
use churn_expr::Bound;
use churn_plan::operators::{self as plan, Join};
use prefilter::Prefilter;
use probe::{CountAlone, Probe, Unmatched};
use spec::{JoinKey, JoinSpec, JoinTest};
use spilled::WithKeys;

use super::{Build, OperatorPlace, build};
use crate::runtime::context::Context;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::{self, Leg, Pipeline};
use crate::runtime::stream::Select;
use crate::spill::Disk;
use crate::spill::merge::Merge;

impl Build for plan::Join {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let other = build(&self.other, place.context)?;
        let left = place.input()?;
        let kinds = place.kinds(&left.layout);
        joined(self, left, other, &kinds, place.step(), place.context)
    }
}

/// The pipeline of a join, over those of its two tables; `left_kinds` are the types of the left one's columns.
pub(super) fn joined(
    join: &Join,
    left: Pipeline,
    mut other: Pipeline,
    left_kinds: &[Type],
    step: StepId,
    context: &Context,
) -> Result<Pipeline> {
    let how = Arc::new(placed(join, &left.layout, step, context)?);
    let columns = join.added.iter().map(Bound::column);
    let columns = columns.chain(join.keys.iter().map(|k| k.other.clone()));
    let columns = columns.chain(join.tests.iter().map(|t| t.other.clone()));
    let columns = columns.map(|bound| bound.placed(&other.layout)).collect::<Result<Vec<_>>>()?;
    other.push(Box::new(Select { columns, step, text: how.text.clone() }));
    let mut left = left_first::run_left_first(left, &mut other, &how, context)?;
    left.acts |= join.expects();
    let made = pipeline::run(other, BuildSink::sink(&how, context), context)?;
    let mut layout = left.layout.clone();
    if how.kind.keeps_other() {
        // Null columns are made as wide as these.
        let wide = left_kinds
            .iter()
            .zip(&layout)
            .map(|(kind, id)| Bound { node: churn_expr::Node::Column(*id), kind: kind.clone() });
        let columns = wide.map(|bound| bound.placed(&layout)).collect::<Result<Vec<_>>>()?;
        left.push(Box::new(Select { columns, step, text: how.text.clone() }));
    }
    layout.extend(join.added.iter().map(|f| f.id));
    layout.extend(join.merged.iter().map(|(f, _)| f.id));
    match made {
        BuildInput::InMemory(side) => {
            let shared = (how.clone(), Arc::new(*side));
            key_pushdown::push(join, &mut left, &shared)?;
            left.push(Box::new(Probe(shared.clone())));
            left.layout = layout;
            if !how.kind.keeps_other() {
                let matched = shared.1.matched.clone();
                let told = move |work: &mut MorselOutput| {
                    work.counters.event(step, Event::OtherMatchedNone, matched.left());
                };
                left.ends.push(Box::new(told));
                return Ok(left);
            }
            let mut left = left.without_serial(context)?;
            let scan = Unmatched { shared, left_kinds: left_kinds.to_vec(), next: Mutex::new(0) };
            let mut leg = Leg { waits: true, ..Leg::of(Box::new(scan)) };
            leg.stream.push(Arc::new(CountAlone(step)));
            left.legs.push(leg);
            Ok(left)
        }
        BuildInput::Partitioned(other) => {
            left.push(Box::new(WithKeys(how.clone())));
            let acts = left.acts;
            let sink = spilled::left_sink(&how, left.layout.len(), context)?;
            let (runs, error) = pipeline::run_to_error(left, sink, context)?;
            let joined = spilled::join(&how, runs, other, left_kinds, context)?;
            let mut work = MorselOutput::new(context.steps());
            spilled::tell(&how, &joined, &mut work);
            context.absorb(&mut work)?;
            let disk = Disk { spill: &context.spill, budget: &context.budget, threads: context.threads() };
            let matched = Leg::of(Box::new(Merge::new(joined.matched, None, &disk)?));
            // Rows of the other table alone are known once all left rows were read.
            let last = match error {
                Some(error) => pipeline::failing(error),
                None => Leg::of(Box::new(Merge::new(joined.alone, None, &disk)?)),
            };
            let legs = vec![matched, last];
            Ok(Pipeline { legs, serial: Vec::new(), ends: Vec::new(), acts, layout })
        }
    }
}

/// The join with its left expressions placed.
fn placed(join: &Join, left: &[ColumnId], step: StepId, context: &Context) -> Result<JoinSpec> {
    let key = |key: &churn_plan::operators::KeyPair| {
        Ok(JoinKey { left: key.left.placed(left)?, kind: key.kind.clone(), text: key.text.clone() })
    };
    let test = |test: &churn_plan::operators::Comparison| {
        Ok(JoinTest { left: test.left.placed(left)?, op: test.op, kind: test.kind.clone() })
    };
    Ok(JoinSpec {
        kind: join.kind,
        // Which row is nearest means nothing to kinds that only ask whether there is one.
        asof: join.asof && !join.kind.only_filters(),
        expect_one: join.expect_one,
        expect_all: join.expect_all,
        other_name: join.other_name.clone(),
        keys: join.keys.iter().map(key).collect::<Result<_>>()?,
        tests: join.tests.iter().map(test).collect::<Result<_>>()?,
        added: join.added.iter().map(|f| f.kind.clone()).collect(),
        merged: join.merged.iter().map(|(_, key)| *key).collect(),
        unread: join.unread.iter().filter_map(|id| left.iter().position(|own| own == id)).collect(),
        prefilter: Prefilter::new(join, left)?,
        step,
        text: context.step_text(step).to_owned(),
    })
}
