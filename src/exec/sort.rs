//! `sort`: stable, by keys that compare as bytes; with a number of rows to keep, never much more than those.
//!
//! Blocks. Time n log n; holds all rows and their keys, or about twice the rows that are kept. Does not spill.
//!
//! Where only the first rows are wanted, workers leave out what cannot be among them: rows behind the worst
//! of those that are kept so far, and rows behind so many of their own batch.

use std::cmp::Ordering;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{Array, UInt32Array};
use arrow_row::{OwnedRow, Row, RowConverter, Rows, SortField};
use arrow_schema::SortOptions;

use super::budget::{Budget, Reservation};
use super::held::compacted;
use super::keys::normal;
use super::pipeline::{Commit, Part, Prepare, Sink};
use super::tally::Work;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, Bound, Type};
use crate::plan::StepId;

/// What is sorted by, placed.
pub(crate) struct Order {
    pub(crate) keys: Vec<(Bound, bool, bool)>,
    pub(crate) keep: Option<usize>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

/// A batch with its keys.
struct Keyed {
    batch: Batch,
    keys: Rows,
}

struct Encode {
    order: Arc<Order>,
    converter: Arc<RowConverter>,
    worst: Worst,
}

/// The key of the last row that is kept so far, once there are as many as are wanted.
type Worst = Arc<Mutex<Option<OwnedRow>>>;

impl Encode {
    /// The rows of a batch that may be among the first `keep`, in their order.
    fn candidates(&self, keys: &Rows, keep: usize) -> Vec<u32> {
        let worst = self.worst.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let mut rows: Vec<u32> = (0..keys.num_rows() as u32).collect();
        if let Some(worst) = worst {
            // A later row that equals the worst one comes after it.
            rows.retain(|row| keys.row(*row as usize) < worst.row());
        }
        if keep > 0 && rows.len() > keep {
            let order = |a: &u32, b: &u32| keys.row(*a as usize).cmp(&keys.row(*b as usize)).then(a.cmp(b));
            rows.select_nth_unstable_by(keep - 1, order);
            rows.truncate(keep);
            rows.sort_unstable();
        }
        rows
    }
}

impl Prepare for Encode {
    fn prepare(&self, batch: Batch, work: &mut Work) -> Result<Part> {
        let Order { keys, step, text, .. } = &*self.order;
        let mut columns = Vec::new();
        for (by, _, _) in keys {
            let array = work
                .with_events(*step, |events| by.evaluate_array(&batch, events))
                .map_err(|e| e.in_step(text))?;
            columns.push(normal(&array)?);
        }
        let keys = self.converter.convert_columns(&columns).map_err(crate::expr::arrow_error)?;
        let Some(keep) = self.order.keep else {
            return Ok(Box::new(Keyed { batch: compacted(batch), keys }));
        };
        let rows = self.candidates(&keys, keep);
        let mut kept = self.converter.empty_rows(rows.len(), rows.len() * 16);
        rows.iter().for_each(|row| kept.push(keys.row(*row as usize)));
        let batch = batch.take(&UInt32Array::from(rows))?;
        Ok(Box::new(Keyed { batch: compacted(batch), keys: kept }))
    }
}

struct Sort {
    order: Arc<Order>,
    converter: Arc<RowConverter>,
    worst: Worst,
    held: Reservation,
    parts: Vec<Keyed>,
    rows: usize,
    threads: usize,
}

/// The sink of `sort`.
pub(crate) fn sink(order: Order, kinds: &[Type], budget: &Budget, threads: usize) -> Result<Sink> {
    let fields = order.keys.iter().zip(kinds).map(|((_, descending, nulls_first), kind)| {
        let options = SortOptions { descending: *descending, nulls_first: *nulls_first };
        SortField::new_with_options(kind.arrow(), options)
    });
    let converter = Arc::new(RowConverter::new(fields.collect()).map_err(crate::expr::arrow_error)?);
    let order = Arc::new(order);
    let worst = Worst::default();
    let commit = Sort {
        order: order.clone(),
        converter: converter.clone(),
        worst: worst.clone(),
        held: budget.reservation(),
        parts: Vec::new(),
        rows: 0,
        threads,
    };
    Ok(Sink { prepare: Arc::new(Encode { order, converter, worst }), commit: Box::new(commit) })
}

/// Rows over twice the wanted ones before those that cannot be among them are dropped.
///
/// Few enough that the worst row is known after the first batches, enough that dropping costs little.
const SURPLUS: usize = 1 << 11;

/// A row of a part, with the start of its key, which settles most comparisons without a look at the rest.
#[derive(Clone, Copy)]
struct Place {
    start: u64,
    part: u32,
    row: u32,
}

/// The first bytes of a key as a number that compares as they do.
fn start_of(key: &[u8]) -> u64 {
    let mut start = [0; 8];
    for (to, from) in start.iter_mut().zip(key) {
        *to = *from;
    }
    u64::from_be_bytes(start)
}

impl Sort {
    fn key(&self, at: &Place) -> Option<Row<'_>> {
        self.parts.get(at.part as usize).map(|p| p.keys.row(at.row as usize))
    }

    fn compare(&self, a: &Place, b: &Place) -> Ordering {
        // Of equal rows the earlier one comes first: the sort is stable whatever is done in parallel.
        a.start
            .cmp(&b.start)
            .then_with(|| self.key(a).cmp(&self.key(b)))
            .then_with(|| (a.part, a.row).cmp(&(b.part, b.row)))
    }

    /// The places of all rows, in order.
    fn sorted(&self) -> Vec<Place> {
        let mut all: Vec<Place> = Vec::with_capacity(self.rows);
        for (part, keyed) in (0u32..).zip(&self.parts) {
            let places = keyed.keys.iter().zip(0u32..);
            all.extend(places.map(|(key, row)| Place { start: start_of(key.as_ref()), part, row }));
        }
        let share = all.len().div_ceil(self.threads.max(1)).max(1 << 13);
        std::thread::scope(|scope| {
            for run in all.chunks_mut(share) {
                scope.spawn(|| run.sort_unstable_by(|a, b| self.compare(a, b)));
            }
        });
        let mut runs: Vec<Vec<Place>> = all.chunks(share).map(<[Place]>::to_vec).collect();
        while runs.len() > 1 {
            let mut merged = Vec::with_capacity(runs.len().div_ceil(2));
            let mut pairs = runs.into_iter();
            while let Some(a) = pairs.next() {
                merged.push(match pairs.next() {
                    Some(b) => self.merged(&a, &b),
                    None => a,
                });
            }
            runs = merged;
        }
        runs.pop().unwrap_or_default()
    }

    fn merged(&self, a: &[Place], b: &[Place]) -> Vec<Place> {
        let mut out = Vec::with_capacity(a.len() + b.len());
        let (mut a, mut b) = (a.iter().copied().peekable(), b.iter().copied().peekable());
        while let (Some(x), Some(y)) = (a.peek(), b.peek()) {
            let next = if self.compare(x, y).is_le() { a.next() } else { b.next() };
            out.extend(next);
        }
        out.extend(a);
        out.extend(b);
        out
    }

    /// The rows at these places, in batches, made by all threads.
    fn batches(&self, places: &[Place]) -> Result<Vec<Batch>> {
        let chunks: Vec<&[Place]> = places.chunks(1 << 14).collect();
        let share = chunks.len().div_ceil(self.threads.max(1)).max(1);
        let made: Vec<Result<Vec<Batch>>> = std::thread::scope(|scope| {
            let workers: Vec<_> = chunks
                .chunks(share)
                .map(|chunks| scope.spawn(|| chunks.iter().map(|chunk| self.gathered(chunk)).collect()))
                .collect();
            let lost =
                || Err(Error::new(ErrorKind::Internal, "A worker failed while it gathered sorted rows."));
            workers.into_iter().map(|worker| worker.join().unwrap_or_else(|_| lost())).collect()
        });
        let mut batches = Vec::with_capacity(chunks.len());
        for part in made {
            batches.extend(part?);
        }
        Ok(batches)
    }

    /// The rows at these places, as one batch.
    fn gathered(&self, places: &[Place]) -> Result<Batch> {
        let width = self.parts.first().map_or(0, |p| p.batch.columns.len());
        let places: Vec<(usize, usize)> =
            places.iter().map(|at| (at.part as usize, at.row as usize)).collect();
        let mut columns = Vec::with_capacity(width);
        for i in 0..width {
            let sources: Vec<&dyn Array> =
                self.parts.iter().filter_map(|p| p.batch.columns.get(i)).map(AsRef::as_ref).collect();
            let column =
                arrow_select::interleave::interleave(&sources, &places).map_err(crate::expr::arrow_error)?;
            columns.push(column);
        }
        Ok(Batch { columns, rows: places.len() })
    }

    /// Drops all rows but those that may still be among the kept ones.
    fn shrink(&mut self, keep: usize) -> Result<()> {
        let mut best = self.sorted();
        best.truncate(keep);
        if let (Some(last), true) = (best.last(), best.len() == keep) {
            let key = self.key(last).map(|key| key.owned());
            *self.worst.lock().unwrap_or_else(PoisonError::into_inner) = key;
        }
        // In order of place, so that rows that are equal keep the order they came in.
        best.sort_unstable_by_key(|at| (at.part, at.row));
        let batch = compacted(self.gathered(&best)?);
        let mut keys = self.converter.empty_rows(best.len(), best.len() * 16);
        best.iter().filter_map(|at| self.key(at)).for_each(|key| keys.push(key));
        self.rows = batch.rows;
        self.parts = vec![Keyed { batch, keys }];
        self.hold()
    }

    fn hold(&mut self) -> Result<()> {
        let bytes: usize = self.parts.iter().map(|p| p.batch.memory() + p.keys.size()).sum();
        self.held.hold(bytes + self.rows * 16)
    }
}

impl Commit for Sort {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let Ok(keyed) = part.downcast::<Keyed>() else {
            return Err(Error::new(ErrorKind::Internal, "A sort was handed something else than rows."));
        };
        if keyed.batch.rows > 0 {
            self.held.add(keyed.batch.memory() + keyed.keys.size() + keyed.batch.rows * 16)?;
            self.rows += keyed.batch.rows;
            self.parts.push(*keyed);
        }
        if let Some(keep) = self.order.keep
            && self.rows > keep * 2 + SURPLUS
        {
            self.shrink(keep)?;
        }
        Ok(true)
    }

    fn finish(self: Box<Self>, _: &mut Work) -> Result<Vec<Batch>> {
        let mut places = self.sorted();
        if let Some(keep) = self.order.keep {
            places.truncate(keep);
        }
        self.batches(&places)
    }
}
