//! `window`: partitions, each in its order; results go back to where the rows stand.
//!
//! All rows of a partition meet in memory, in one file after the other if not all partitions fit (`spill::partitioned`). Of the
//! rows only the columns that the window uses are put together; partitions are sorted and worked out on all threads.

mod external;
mod frames;
mod order;
mod partitions;
mod results;
mod tasks;

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use arrow_array::{Array, ArrayRef, UInt32Array};
use churn_core::parallel::Threads;
use churn_core::{Batch, Error, ErrorKind, OrFault, Result, Type, taken};
use churn_expr::windows::{Frame, Task};
use churn_plan::operators::{self as plan, Call, WindowKey};
use order::{Ordered, PlacedKey};
use partitions::{PartitionChunk, chunks};
use results::Results;

use super::{Build, OperatorPlace, pipeline_of, places};
use crate::runtime::materialized::concat;
use crate::runtime::pipeline::{self, Pipeline};
use crate::spill::partitioned::{ExternalOperator, PartitionOperator, PartitionedSink, Transformed};
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
        let (by, kinds) = (places(&layout, &self.by)?, place.kinds(&self.by));
        let window = Window {
            by: by.clone(),
            kinds: kinds.clone(),
            order: self.order.iter().map(key).collect::<Result<_>>()?,
            calls: self.calls.iter().map(call).collect::<Result<_>>()?,
            text: place.text(),
            threads: context.threads().clone(),
        };
        let bytes_a_row = window.bytes_a_row();
        let sink = PartitionedSink::sink(by, kinds, (Arc::new(window), bytes_a_row), context);
        layout.extend(self.calls.iter().map(|c| c.field.id));
        Ok(pipeline_of(pipeline::run(pipeline, sink, context)?, layout))
    }
}

/// A window, its columns placed.
pub struct Window {
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

impl PartitionOperator for Window {
    /// Each batch with the results behind its columns.
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        let rows: usize = batches.iter().map(|b| b.rows).sum();
        if u32::try_from(rows).is_err() {
            let what = "More than 4 billion rows meet in one window.";
            return Err(Error::new(ErrorKind::Memory, what).in_step(&self.text));
        }
        self.with_results(batches, rows)
    }

    fn external(&self) -> Option<&dyn ExternalOperator> {
        Some(self)
    }
}

impl ExternalOperator for Window {
    fn run_external(&self, run: &Run, disk: &Disk) -> Result<Run> {
        external::run_external(self, run, disk).map_err(|e| e.in_step(&self.text))
    }
}

impl Window {
    /// Bytes that it holds for each row beside the row, about.
    pub(crate) fn bytes_a_row(&self) -> usize {
        let used: usize = self.calls.iter().map(|call| 24 + call.args.len() * 16).sum();
        16 + self.order.len() * 24 + used
    }

    /// The batches with the results of all calls behind their columns.
    fn with_results(&self, mut batches: Vec<Batch>, rows: usize) -> Result<Vec<Transformed>> {
        if rows == 0 {
            let empty = |call: &WindowCall| arrow_array::new_empty_array(&call.kind.arrow());
            let with_empty = |batch: &Batch| {
                let columns = batch.columns.iter().cloned().chain(self.calls.iter().map(empty)).collect();
                (Batch { columns, rows: 0 }, None)
            };
            return Ok(batches.iter().map(with_empty).collect());
        }
        let (starts, mut places) = self.partitions(&batches, rows)?;
        let columns = self.columns(&mut batches)?;
        let results: Vec<Option<Results>> =
            self.calls.iter().map(|call| Results::new(&call.kind, rows)).collect();
        // Where the results of other types stand, in the order of the partitions.
        let back: Vec<AtomicU32> = match results.iter().all(Option::is_some) {
            true => Vec::new(),
            false => std::iter::repeat_with(AtomicU32::default).take(rows).collect(),
        };
        let worked = self.threads.each(chunks(&starts, &mut places).into_iter(), |chunk| {
            let PartitionChunk { from, places, ends } = chunk;
            let order = Ordered::new(&self.order, &columns, places)?;
            let sorted = order.sorted(&ends);
            order.rows(&sorted, places);
            for (place, row) in (from..).zip(&*places) {
                back.get(*row as usize).into_iter().for_each(|slot| slot.store(place, Ordering::Relaxed));
            }
            let partitions = tasks::WindowPartitions::new(places, &sorted, &ends, &order, &columns);
            let mut others = Vec::new();
            for (call, results) in self.calls.iter().zip(&results) {
                let result = partitions.result(call).map_err(|e| e.in_step(&self.text))?;
                match results {
                    Some(results) => results.put(places, &result)?,
                    None => others.push(result),
                }
            }
            Ok(others)
        })?;
        drop(columns);
        drop(places);
        let others = self.gathered(&worked, back)?;
        drop(worked);
        let mut others = others.into_iter();
        let column = |results: Option<Results>| results.map(Results::finish).or_else(|| others.next());
        let results: Vec<ArrayRef> = results.into_iter().filter_map(column).collect();
        let mut start = 0;
        let with_results = |mut batch: Batch| {
            batch.columns.extend(results.iter().map(|column| column.slice(start, batch.rows)));
            start += batch.rows;
            (batch, None)
        };
        Ok(batches.into_iter().map(with_results).collect())
    }

    /// Results that stand in the order of the partitions, a column a call; each row takes its own from where it is `back`.
    fn gathered(&self, worked: &[Vec<ArrayRef>], back: Vec<AtomicU32>) -> Result<Vec<ArrayRef>> {
        let back: Vec<u32> = back.into_iter().map(AtomicU32::into_inner).collect();
        let back = UInt32Array::from(back);
        let calls = worked.first().map_or(0, Vec::len);
        self.threads.each(0..calls, |call| {
            let parts: Vec<&dyn Array> =
                worked.iter().filter_map(|results| results.get(call)).map(AsRef::as_ref).collect();
            taken(&arrow_select::concat::concat(&parts).map_err(churn_core::arrow_error)?, &back)
        })
    }

    /// The columns that the window uses, each in one piece, at their places; the batches have slices of them from now on.
    fn columns(&self, batches: &mut [Batch]) -> Result<Vec<Option<ArrayRef>>> {
        let width = batches.first().map_or(0, |b| b.columns.len());
        let mut used = vec![false; width];
        let of_calls = self.calls.iter().flat_map(|call| call.args.iter().chain(&call.only));
        for place in self.order.iter().map(|key| &key.place).chain(of_calls) {
            if let Some(used) = used.get_mut(*place) {
                *used = true;
            }
        }
        let parts: &[Batch] = batches;
        let whole = self.threads.each(used.into_iter().enumerate(), |(place, used)| {
            let parts = parts.iter().filter(|_| used).filter_map(|batch| {
                let column = churn_core::widen::widen(batch.columns.get(place)?);
                Some(column.map(|column| Batch { columns: vec![column], rows: batch.rows }))
            });
            Ok(concat(parts.collect::<Result<_>>()?)?.pop().and_then(|mut whole| whole.columns.pop()))
        })?;
        for (place, whole) in whole.iter().enumerate() {
            let Some(whole) = whole else { continue };
            let mut start = 0;
            for batch in &mut *batches {
                let own = batch.columns.get_mut(place).filter(|own| own.data_type() == whole.data_type());
                own.into_iter().for_each(|own| *own = whole.slice(start, batch.rows));
                start += batch.rows;
            }
        }
        Ok(whole)
    }
}
