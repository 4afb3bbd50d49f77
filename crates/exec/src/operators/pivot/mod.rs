//! Rows of groups become columns: groups by partitions, each a table of its own.

mod operator;

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use churn_core::{ColumnId, Error, Event, OrFault, Result, Type};
use churn_plan::operators::{Cell, Pivot};

use super::{Build, OperatorPlace, pipeline_of, places};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::{self, Pipeline};
use crate::runtime::stream::CountRows;
use crate::spill::partitioned::PartitionedSink;
pub(crate) use operator::combinations;

impl Build for Pivot {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let pipeline = place.input()?;
        let (layout, step, context) = (pipeline.layout.clone(), place.step(), place.context);
        let by: Vec<ColumnId> = self.by.iter().map(|f| f.id).collect();
        let keys: Vec<ColumnId> = self.keys.iter().map(|(id, _)| *id).collect();
        let position =
            |id: Option<ColumnId>| Ok::<_, Error>(places(&layout, id.as_slice())?.first().copied());
        let name = |id: &ColumnId| {
            place.node.input.as_ref().and_then(|n| n.field(*id)).map(|f| f.name.clone()).unwrap_or_default()
        };
        let cell = |cell: &Cell| {
            Ok(operator::Cell {
                combination: cell.combination,
                value: position(Some(cell.value))?.or_fault("column of a cell")?,
                only: cell.only.clone(),
                fill: cell.fill.clone(),
                kind: cell.field.kind.clone(),
            })
        };
        let kinds: Vec<Type> = self.by.iter().map(|f| f.kind.clone()).collect();
        let left_out = Arc::new(AtomicUsize::new(0));
        let operator = operator::PivotOperator {
            by: places(&layout, &by)?,
            by_kinds: kinds.clone(),
            keys: places(&layout, &keys)?,
            key_kinds: self.keys.iter().map(|(_, kind)| kind.clone()).collect(),
            key_names: keys.iter().map(name).collect(),
            by_names: self.by.iter().map(|f| f.name.clone()).collect(),
            combinations: self.combinations.clone(),
            cells: self.cells.iter().map(cell).collect::<Result<_>>()?,
            count: position(self.count)?,
            of_keys: position(self.of_keys)?,
            left_out: left_out.clone(),
            text: place.text(),
        };
        // If each row has a key of its own: its number, its place in each combination, and its wide row.
        let bytes_a_row = 48 + self.combinations.len() * 4 + self.by.len() * 16 + self.cells.len() * 9;
        let places = places(&layout, &by)?;
        let sink = PartitionedSink::sink(places, kinds, (Arc::new(operator), bytes_a_row), context);
        let rows = pipeline::run(pipeline, sink, context)?;
        let mut work = MorselOutput::new(context.steps());
        work.counters.event(step, Event::OtherValue, left_out.load(Ordering::Relaxed));
        context.absorb(&mut work)?;
        let mut pipeline = pipeline_of(rows, place.node.columns());
        pipeline.push(Box::new(CountRows(step)));
        Ok(pipeline)
    }
}
