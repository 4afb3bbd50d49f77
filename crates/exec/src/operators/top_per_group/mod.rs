//! `sort` of which only the first rows of each group are wanted: others are left out while rows are read.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `held` | the ordered side: of each group the first rows so far |
//! | `candidates` | the worker side: rows that may be among them |
//! | `block` | of some rows the first of each of their groups |
//!
//! A worker looks up the groups of its rows, and leaves out those that come behind the last row that is held of a full group. Where
//! most rows would be held, as groups have but a few, or where they do not fit in memory, rows are distributed by their groups, as
//! those of a window, and numbered in each; before that each block of them is left with the first rows of its own groups. Only the
//! rows that are left in the end are sorted.

mod block;
mod candidates;
mod held;

use std::sync::Arc;

use arrow_array::BooleanArray;
use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use churn_core::{Batch, ColumnId, OrFault, Result, Type};
use churn_expr::windows::{Frame, Task};
use churn_plan::operators as plan;

use super::sort::{self, Carried, Order, OrderKey, SortWorkers, order_of};
use super::window::{PlacedKey, Window, WindowCall, WindowOperator};
use super::{Build, OperatorPlace, pipeline_of, places};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::{self, Pipeline};
use crate::runtime::sink::Sink;
use crate::runtime::stream::StreamOp;
use crate::spill::partitioned::{ExternalOperator, PartitionOperator, Transformed};
use candidates::{CandidateFilter, GroupCandidates};
use held::{FirstRows, TopPerGroup};

impl Build for plan::TopPerGroup {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let (layout, context) = (pipeline.layout.clone(), place.context);
        let sink = sink(self, &mut pipeline, place)?;
        let FirstRows { rows, are_numbered } = pipeline::run(pipeline, sink, context)?;
        let mut rows = pipeline_of(rows, layout.clone());
        if are_numbered {
            rows.push(Box::new(FirstNumbers(self.count)));
        }
        // The keys stand behind the columns.
        let key = |(number, key): (usize, &plan::SortKey)| {
            OrderKey::column(layout.len() + number, key.by.kind.clone(), key.descending, key.nulls_first)
        };
        let keys = self.keys.iter().enumerate().map(key).collect();
        let order = Order { keys, step: place.step(), text: place.text() };
        let sorted = sort::sink(order, None, Carried::Before(layout.len()), context)?;
        Ok(pipeline_of(pipeline::run(rows, sorted, context)?, layout))
    }
}

/// The sink that finds the rows. The source of its pipeline leaves rows out, if it can.
fn sink(
    how: &plan::TopPerGroup,
    pipeline: &mut Pipeline,
    place: &OperatorPlace<'_>,
) -> Result<Sink<GroupCandidates, TopPerGroup>> {
    let context = place.context;
    let width = pipeline.layout.len();
    let order = |ids: &[ColumnId]| order_of(&how.keys, ids, place.step(), context);
    let sort = SortWorkers::new(order(&pipeline.layout)?, Carried::All, &context.budget)?;
    let groups = (places(&pipeline.layout, &how.per)?, place.kinds(&how.per));
    let window = Arc::new(row_numbers(how, width, groups, place));
    let operator = FirstOfWindow { rows: WindowOperator(window.clone()), first: FirstNumbers(how.count) };
    let distributed = window.commit(Arc::new(operator), context);
    let window = (window, distributed.spilling().clone());
    let workers = Arc::new(GroupCandidates::new(sort, how.count, window, &context.budget));
    if how.keys.iter().all(|key| key.by.is_infallible()) {
        let mut used = how.per.clone();
        how.keys.iter().for_each(|key| key.by.columns(&mut used));
        pipeline.test_source(&used, |ids| {
            let (order, groups) = (order(ids)?, places(ids, &how.per)?);
            Ok(Box::new(CandidateFilter::new(workers.clone(), order, groups)))
        })?;
    }
    Ok(Sink { commit: TopPerGroup::new(workers.clone(), distributed, context), worker: workers })
}

/// The window that numbers the rows of each group in their order. Its input has so many columns, and behind them the keys.
fn row_numbers(
    how: &plan::TopPerGroup,
    width: usize,
    groups: (Vec<usize>, Vec<Type>),
    place: &OperatorPlace<'_>,
) -> Window {
    let key = |(number, key): (usize, &plan::SortKey)| PlacedKey {
        place: width + number,
        kind: key.by.kind.clone(),
        descending: key.descending,
        nulls_first: key.nulls_first,
    };
    let order: Vec<PlacedKey> = how.keys.iter().enumerate().map(key).collect();
    let all = width + order.len();
    let number = WindowCall {
        task: Task::RowNumber,
        args: Vec::new(),
        only: None,
        frame: Frame::Partition,
        kind: Type::Int,
    };
    let threads = place.context.threads().clone();
    Window::new((all, (0..all).collect()), groups, order, vec![number], place.text(), threads)
}

/// Keeps the rows whose number in their group, which stands behind all columns, is at most this.
struct FirstNumbers(usize);

impl FirstNumbers {
    /// Which rows are kept.
    fn test(&self, batch: &Batch) -> Result<BooleanArray> {
        let numbers = batch.columns.last().or_fault("numbers of rows in their groups")?;
        let most = self.0 as i64;
        let numbers = numbers.as_primitive::<Int64Type>().values().iter();
        Ok(numbers.map(|number| *number <= most).collect::<Vec<bool>>().into())
    }
}

impl StreamOp for FirstNumbers {
    fn apply(&self, mut batch: Batch, _: &mut MorselOutput) -> Result<Batch> {
        let kept = self.test(&batch)?;
        batch.columns.pop();
        if kept.true_count() == batch.rows { Ok(batch) } else { batch.filter(&kept) }
    }
}

/// The window over rows that do not fit in memory: others than the first of each group need not be kept.
struct FirstOfWindow {
    rows: WindowOperator,
    first: FirstNumbers,
}

impl PartitionOperator for FirstOfWindow {
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        let first = |(batch, _): Transformed| {
            let kept = self.first.test(&batch)?;
            Ok((batch.filter(&kept)?, Some(kept)))
        };
        self.rows.rows(batches)?.into_iter().map(first).collect()
    }

    /// Of a group that does not fit all rows come out.
    fn external(&self) -> Option<&dyn ExternalOperator> {
        self.rows.external()
    }
}
