//! The pipelines of wide to long, long to wide, and lists to rows.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use churn_core::{ColumnId, Error, Event, Field, Result, Type};
use churn_expr::Bound;
use churn_plan::{Node, Pivot, Totals, Unnest, Unpivot};

use super::{pipeline_of, places};
use crate::context::Context;
use crate::morsel_output::MorselOutput;
use crate::pipeline::{self, Pipeline};
use crate::spill::partitioned::PartitionedSink;
use crate::{pivot, stream, unpivot};

pub(super) fn unpivot(
    how: &Unpivot,
    node: &Node,
    mut pipeline: Pipeline,
    context: &Context,
) -> Result<Pipeline> {
    let placed = |by: &Bound| by.placed(&pipeline.layout);
    let value = |i: usize| how.rows.iter().filter_map(|row| row.values.get(i)).map(placed).collect();
    let name = |i: usize| how.rows.iter().filter_map(|row| row.names.get(i).cloned()).collect();
    let op = unpivot::Unpivot {
        kept: places(&pipeline.layout, &how.kept)?,
        names: (0..how.names.len()).map(name).collect(),
        values: (0..how.values.len()).map(value).collect::<Result<_>>()?,
        times: how.rows.len(),
        skip_nulls: how.skip_nulls,
        step: node.step,
        text: context.step_text(node.step).to_owned(),
    };
    pipeline.push(Box::new(op));
    pipeline.layout = node.columns();
    Ok(pipeline)
}

pub(super) fn unnest(
    how: &Unnest,
    node: &Node,
    mut pipeline: Pipeline,
    context: &Context,
) -> Result<Pipeline> {
    let lists: Vec<ColumnId> = how.lists.iter().map(|(id, _)| *id).collect();
    let op = unpivot::Unnest {
        kept: places(&pipeline.layout, &how.kept)?,
        lists: places(&pipeline.layout, &lists)?,
        names: how.lists.iter().map(|(_, f)| f.name.clone()).collect(),
        skip_nulls: how.skip_nulls,
        step: node.step,
        text: context.step_text(node.step).to_owned(),
    };
    pipeline.push(Box::new(op));
    pipeline.layout = node.columns();
    Ok(pipeline)
}

pub(super) fn totals(
    how: &Totals,
    node: &Node,
    mut pipeline: Pipeline,
    context: &Context,
) -> Result<Pipeline> {
    let placed = |columns: &[(Field, Bound)]| {
        let placed = |(f, by): &(Field, Bound)| Ok((by.placed(&pipeline.layout)?, f.kind.clone()));
        columns.iter().map(placed).collect::<Result<Vec<_>>>()
    };
    let op = pivot::Totals {
        counted: how.counted.as_ref().map(|counted| counted.placed(&pipeline.layout)).transpose()?,
        has_row: how.has_row,
        by: placed(&how.by)?,
        keys: placed(&how.keys)?,
        step: node.step,
        text: context.step_text(node.step).to_owned(),
    };
    pipeline.push(Box::new(op));
    pipeline.layout.extend(how.made().map(|f| f.id));
    Ok(pipeline)
}

pub(super) fn pivot(how: &Pivot, node: &Node, pipeline: Pipeline, context: &Context) -> Result<Pipeline> {
    let (layout, step) = (pipeline.layout.clone(), node.step);
    let by: Vec<ColumnId> = how.by.iter().map(|f| f.id).collect();
    let keys: Vec<ColumnId> = how.keys.iter().map(|(id, _)| *id).collect();
    let place = |id: Option<ColumnId>| Ok::<_, Error>(places(&layout, id.as_slice())?.first().copied());
    let name = |id: &ColumnId| {
        node.input.as_ref().and_then(|n| n.field(*id)).map(|f| f.name.clone()).unwrap_or_default()
    };
    let cell = |cell: &churn_plan::Cell| {
        Ok(pivot::Cell {
            combination: cell.combination,
            value: place(Some(cell.value))?.unwrap_or(0),
            only: cell.only.clone(),
            fill: cell.fill.clone(),
            kind: cell.field.kind.clone(),
        })
    };
    let kinds: Vec<Type> = how.by.iter().map(|f| f.kind.clone()).collect();
    let left_out = Arc::new(AtomicUsize::new(0));
    let operator = pivot::PivotOperator {
        by: places(&layout, &by)?,
        by_kinds: kinds.clone(),
        keys: places(&layout, &keys)?,
        key_kinds: how.keys.iter().map(|(_, kind)| kind.clone()).collect(),
        key_names: keys.iter().map(name).collect(),
        by_names: how.by.iter().map(|f| f.name.clone()).collect(),
        combinations: how.combinations.clone(),
        cells: how.cells.iter().map(cell).collect::<Result<_>>()?,
        count: place(how.count)?,
        of_keys: place(how.of_keys)?,
        left_out: left_out.clone(),
        text: context.step_text(step).to_owned(),
    };
    let bytes_a_row = 16 + how.combinations.len() * 4;
    let places = places(&layout, &by)?;
    let sink = PartitionedSink::sink(places, kinds, (Arc::new(operator), bytes_a_row), context);
    let rows = pipeline::run(pipeline, sink, context)?;
    let mut work = MorselOutput::new(context.steps());
    work.counters.event(step, Event::OtherValue, left_out.load(Ordering::Relaxed));
    context.absorb(&mut work)?;
    let mut pipeline = pipeline_of(rows, node.columns());
    pipeline.push(Box::new(stream::CountRows(step)));
    Ok(pipeline)
}
