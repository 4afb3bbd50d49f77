//! `window`: partitions, each in its order; results go back to where the rows stand.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `distribute` | rows by the hashes of their partitions, as the workers hand them over |
//! | `held`, `bucket` | all rows of some partitions together, worked out while they are near |
//! | `output` | the rows in their order again |
//! | `order`, `frames`, `tasks` | sorted rows, their frames, and what calls give for them |
//! | `external` | a partition that does not fit in memory |
//!
//! Of the rows only the columns that the window reads go to buckets; a column that nothing else reads ends there. A bucket holds
//! its rows in pieces of some thousand. Results stand in pieces as large, in the memory of rows that were worked out. Rows that
//! do not fit in memory are partitioned to files (`spill::partitioned`), of which one after the other is worked out in the same
//! way. Cost: each value that the window reads is copied four times (the batches of a block put together, to their buckets, the
//! pieces of a bucket put together, to their partitions), each result three times; what is looked at in any order are the rows
//! of one block or of one bucket.

mod bucket;
mod distribute;
mod external;
mod frames;
mod held;
mod order;
mod output;
mod tasks;

use std::collections::BTreeSet;
use std::sync::Arc;

use churn_core::parallel::Threads;
use churn_core::{Batch, OrFault, Result, Type};
use churn_expr::windows::{Frame, Task};
use churn_kernels::known::known_place;
use churn_plan::operators::{self as plan, Call, WindowKey};
use distribute::Distribute;
pub(super) use distribute::{BLOCK_ROWS, Block};
pub(super) use held::WindowRows;
pub(super) use order::PlacedKey;
use output::Origin;

use super::{Build, OperatorPlace, pipeline_of, places};
use crate::runtime::context::Context;
use crate::runtime::pipeline::{self, Pipeline};
use crate::spill::partitioned::{
    ExternalOperator, HeldRows, PartitionOperator, PartitionedSink, Transformed,
};
use crate::spill::{Disk, Run};

impl Build for plan::Window {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let pipeline = place.input()?;
        let context = place.context;
        let mut layout = pipeline.layout.clone();
        let key = |key: &WindowKey| {
            let column =
                places(&layout, &[key.by])?.first().copied().or_fault("column of a window's order")?;
            Ok(PlacedKey {
                place: column,
                kind: key.kind.clone(),
                descending: key.descending,
                nulls_first: key.nulls_first,
            })
        };
        let call = |call: &Call| {
            Ok(WindowCall {
                task: call.task.clone(),
                args: places(&layout, &call.args)?,
                only: places(&layout, call.only.as_slice())?.first().copied(),
                frame: call.frame.clone(),
                kind: call.field.kind.clone(),
            })
        };
        let order: Vec<PlacedKey> = self.order.iter().map(key).collect::<Result<_>>()?;
        let calls: Vec<WindowCall> = self.calls.iter().map(call).collect::<Result<_>>()?;
        let is_kept = |place: &usize| layout.get(*place).is_some_and(|id| !self.unread.contains(id));
        let window = Arc::new(Window::new(
            (layout.len(), (0..layout.len()).filter(is_kept).collect()),
            (places(&layout, &self.by)?, place.kinds(&self.by)),
            order,
            calls,
            place.text(),
            context.threads().clone(),
        ));
        let operator = Arc::new(WindowOperator(window.clone()));
        let sink = window.commit(operator, context).with(Distribute(window));
        layout.retain(|id| !self.unread.contains(id));
        layout.extend(self.calls.iter().map(|c| c.field.id));
        Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
    }
}

/// A window, its columns placed among those of its input.
pub struct Window {
    /// How many columns the input has.
    width: usize,
    /// The columns that come out.
    kept: Vec<usize>,
    /// The columns that are in no bucket.
    rest: Vec<usize>,
    /// The columns that are read of rows in buckets.
    used: Vec<usize>,
    pub(crate) by: Vec<usize>,
    pub(crate) kinds: Vec<Type>,
    pub(crate) order: Vec<PlacedKey>,
    pub(crate) calls: Vec<WindowCall>,
    pub(crate) text: String,
    pub(crate) threads: Threads,
}

/// A call, its columns placed.
pub struct WindowCall {
    pub(crate) task: Task,
    pub(crate) args: Vec<usize>,
    pub(crate) only: Option<usize>,
    pub(crate) frame: Frame,
    pub(crate) kind: Type,
}

/// A window as an operator over partitions.
pub(super) struct WindowOperator(pub(super) Arc<Window>);

impl PartitionOperator for WindowOperator {
    /// The columns of each batch that come out, with the results behind them.
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        if batches.iter().all(|batch| batch.rows == 0) {
            return Ok(batches.iter().map(|batch| (self.0.without_rows(batch), None)).collect());
        }
        let buckets = self.0.buckets_of(batches.iter().map(|batch| batch.rows).sum());
        let mut held = WindowRows::new(self.0.clone(), buckets);
        let (mut block, mut rows) = (Vec::new(), 0);
        for batch in batches {
            rows += batch.rows;
            block.push(batch);
            if rows >= BLOCK_ROWS {
                rows = 0;
                held.push(self.0.distributed(std::mem::take(&mut block), buckets)?)?;
            }
        }
        if !block.is_empty() {
            held.push(self.0.distributed(block, buckets)?)?;
        }
        Ok(held.worked_out()?.all()?.into_iter().map(|batch| (batch, None)).collect())
    }

    fn external(&self) -> Option<&dyn ExternalOperator> {
        Some(self)
    }
}

impl ExternalOperator for WindowOperator {
    fn run_external(&self, run: &Run, disk: &Disk) -> Result<Run> {
        external::run_external(&self.0, run, disk).map_err(|e| e.in_step(&self.0.text))
    }
}

impl Window {
    /// A window over rows of so many columns, of which some come out; `by` are the keys of its partitions and their types.
    pub(super) fn new(
        (width, kept): (usize, Vec<usize>),
        (by, kinds): (Vec<usize>, Vec<Type>),
        order: Vec<PlacedKey>,
        calls: Vec<WindowCall>,
        text: String,
        threads: Threads,
    ) -> Window {
        let of_call = |call: &WindowCall| call.args.iter().chain(&call.only).copied().collect::<Vec<_>>();
        let used: BTreeSet<usize> =
            order.iter().map(|key| key.place).chain(calls.iter().flat_map(of_call)).collect();
        let is_rest = |place: &usize| !used.contains(place) && (kept.contains(place) || !by.contains(place));
        let rest = (0..width).filter(is_rest).collect();
        let used = used.into_iter().collect();
        Window { width, kept, rest, used, by, kinds, order, calls, text, threads }
    }

    /// The ordered side of a sink of its rows; the operator works on those that do not fit in memory.
    pub(super) fn commit(
        self: &Arc<Window>,
        operator: Arc<dyn PartitionOperator>,
        context: &Context,
    ) -> PartitionedSink<WindowRows> {
        let keys = (self.by.clone(), self.kinds.clone());
        let held = WindowRows::new(self.clone(), self.most_buckets());
        PartitionedSink::new(keys, held, (operator, self.bytes_a_row()), context)
    }

    /// Bytes that it holds for each row beside the row, about.
    pub(crate) fn bytes_a_row(&self) -> usize {
        let used: usize = self.calls.iter().map(|call| 24 + call.args.len() * 16).sum();
        16 + self.order.len() * 24 + used
    }

    /// The output of a batch that has no rows.
    fn without_rows(&self, batch: &Batch) -> Batch {
        let kept = batch.columns_at(&self.kept).into_iter();
        let results = self.calls.iter().map(|call| arrow_array::new_empty_array(&call.kind.arrow()));
        Batch { columns: kept.chain(results).collect(), rows: 0 }
    }

    /// The columns that are read of rows in buckets and that come out.
    fn read_and_kept(&self) -> impl Iterator<Item = usize> + '_ {
        self.used.iter().copied().filter(|place| self.kept.contains(place))
    }

    /// Where the columns of the output come from: those of the input that come out, then the results.
    fn origins(&self) -> Vec<Origin> {
        let read: Vec<usize> = self.read_and_kept().collect();
        let kept = self.kept.iter().map(|place| match read.binary_search(place) {
            Ok(number) => Origin::Bucket(number),
            Err(_) => Origin::Rest(known_place(&self.rest, place)),
        });
        kept.chain((read.len()..read.len() + self.calls.len()).map(Origin::Bucket)).collect()
    }

    /// Where the columns of the input come from, if the keys of partitions stand behind the columns of a bucket.
    fn input_origins(&self) -> Vec<Origin> {
        let origin = |place: usize| match (self.used.binary_search(&place), self.rest.binary_search(&place)) {
            (Ok(number), _) => Origin::Bucket(number),
            (_, Ok(number)) => Origin::Rest(number),
            _ => Origin::Bucket(self.used.len() + self.by.iter().position(|by| *by == place).unwrap_or(0)),
        };
        (0..self.width).map(origin).collect()
    }
}
