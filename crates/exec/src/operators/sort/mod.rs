//! `sort`: stable, on all threads, by keys that are packed into one number wherever they fit.
//!
//! Workers gather the rows of a morsel into a part with its keys (`sort_keys`: words of numbers and of texts, or rows of bytes),
//! partitioned to ranges of the keys (`part`, `bounds`). At the end each row becomes one number of 128 bits: as much of its key as
//! there is room for, in the highest bits, and its place. The numbers of a range are put in order when its rows are taken (`ranges`,
//! `scan`); what the bits of the key do not settle is settled by the keys behind them (`ties`). Rows are gathered in their new order
//! only then.
//!
//! When the budget is used up, what is held goes to disk as sorted runs; at the end the runs are merged. Where only the first rows are
//! wanted, others are left out on the way (`top_k`).

mod bounds;
mod changes;
mod order;
mod part;
mod ranges;
mod scan;
mod sort_keys;
mod sorter;
mod table;
mod text_words;
mod ties;
mod top_k;
mod words;

use std::sync::Arc;

use churn_core::parallel::Threads;
use churn_core::{ColumnId, Result, StepId};
use churn_kernels::memory;
use churn_plan::operators::{self as plan, SortKey};
use ranges::Ranges;
use scan::SortedScan;
use table::{Keyed, SortTable};

use super::{Build, OperatorPlace, pipeline_of};
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::{self, Pipeline};
use crate::runtime::sink::{Commit, Sink};
use crate::spill::merge::Merge;
use crate::spill::{Disk, Run, Spill};
pub(crate) use changes::Changes;
pub(crate) use order::{Order, OrderKey, is_word};
pub(crate) use part::{Carried, SortWorkers};
pub(crate) use sort_keys::SortKeys;
pub(crate) use sorter::{Sorter, batches};
pub(crate) use words::words_of;

impl Build for plan::Sort {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        sorted(place.input()?, self, Carried::All, place.step(), place.context)
    }
}

/// The rows of a pipeline in the order of a sort, of which this is carried.
pub(super) fn sorted(
    pipeline: Pipeline,
    how: &plan::Sort,
    carried: Carried,
    step: StepId,
    context: &Context,
) -> Result<Pipeline> {
    let layout = pipeline.layout.clone();
    let order = order_of(&how.keys, &layout, step, context)?;
    let rows = match how.keep {
        Some(keep) if keep <= top_k::MOST => {
            pipeline::run(pipeline, top_k::sink(order, keep, context)?, context)
        }
        keep => pipeline::run(pipeline, sink(order, keep, carried, context)?, context),
    };
    Ok(pipeline_of(rows?, layout))
}

/// What rows are sorted by, placed among these columns.
pub(super) fn order_of(
    keys: &[SortKey],
    layout: &[ColumnId],
    step: StepId,
    context: &Context,
) -> Result<Order> {
    let key = |key: &SortKey| {
        Ok(OrderKey {
            by: key.by.placed(layout)?,
            kind: key.by.kind.clone(),
            descending: key.descending,
            nulls_first: key.nulls_first,
        })
    };
    let keys = keys.iter().map(key).collect::<Result<_>>()?;
    Ok(Order { keys, step, text: context.step_text(step).to_owned() })
}

/// The ordered side.
pub(crate) struct SortSink {
    /// The most rows that are wanted.
    keep: Option<usize>,
    reservation: Reservation,
    spill: Spill,
    threads: Threads,
    parts: Vec<Keyed>,
    runs: Vec<Run>,
}

/// The sink of `sort`.
pub(crate) fn sink(
    order: Order,
    keep: Option<usize>,
    carried: Carried,
    context: &Context,
) -> Result<Sink<SortWorkers, SortSink>> {
    let commit = SortSink::new(keep, context.budget.reservation(), &context.spill, context.threads().clone());
    let workers = SortWorkers::new(order, carried, &context.budget)?;
    Ok(Sink { worker: Arc::new(workers), commit })
}

/// Bytes of a row from which on free memory is given back while rows come.
const WIDE: usize = 512;

impl SortSink {
    fn new(keep: Option<usize>, reservation: Reservation, spill: &Spill, threads: Threads) -> SortSink {
        SortSink { keep, reservation, spill: spill.clone(), threads, parts: Vec::new(), runs: Vec::new() }
    }

    /// Puts what is held on disk, in order.
    fn spill_held(&mut self) -> Result<()> {
        let table = SortTable::new(std::mem::take(&mut self.parts));
        self.runs.extend(Ranges::new(table, &self.threads)?.spilled(&self.spill, &self.threads)?);
        self.reservation.hold(0)
    }
}

impl Commit for SortSink {
    type Part = Keyed;
    type Output = Materialized;

    fn commit(&mut self, keyed: Keyed, _: &mut MorselOutput) -> Result<bool> {
        if keyed.batch.rows > 0 {
            let memory = keyed.memory();
            if memory >= keyed.batch.rows * WIDE {
                // The many small columns that such rows are read into leave holes between the parts that stay.
                memory::passed(memory);
            }
            self.parts.push(keyed);
            if !self.reservation.try_add(memory) {
                self.spill_held()?;
            }
        }
        Ok(true)
    }

    fn finish(mut self, _: &mut MorselOutput) -> Result<Materialized> {
        if self.runs.is_empty() {
            let ranges = Ranges::new(SortTable::new(self.parts), &self.threads)?;
            return Ok(Materialized::Scan(Box::new(SortedScan::new(
                ranges,
                self.keep,
                &self.threads,
                self.reservation,
            )?)));
        }
        self.spill_held()?;
        let disk = Disk { spill: &self.spill, budget: self.reservation.budget(), threads: &self.threads };
        Ok(Materialized::Scan(Box::new(Merge::new(self.runs, self.keep, &disk)?)))
    }
}
