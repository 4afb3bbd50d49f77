//! What a window works out for the sorted rows of some partitions.

use std::cell::OnceCell;
use std::iter::repeat_n;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{Array, ArrayRef, Float64Array, Int64Array, UInt32Array};
use arrow_buffer::{BooleanBufferBuilder, NullBuffer};
use churn_core::{Error, ErrorKind, Result, taken};
use churn_expr::aggregates::{FloatFrames, Made, quantiles};
use churn_expr::extend::PartitionFunction;
use churn_expr::windows::{Frame, Nth, Task};
use churn_kernels::known::known_part;

use super::WindowCall;
use super::frames::frames;
use super::order::Ordered;

/// Sorted rows of partitions that stand one after the other.
pub(super) struct WindowPartitions<'a> {
    rows: UInt32Array,
    /// Their places in the order.
    sorted: &'a [u32],
    ends: &'a [u32],
    order: &'a Ordered<'a>,
    columns: &'a [Option<ArrayRef>],
    /// Those of the columns that were put in the order of the sorted rows.
    gathered: Vec<OnceCell<ArrayRef>>,
}

impl<'a> WindowPartitions<'a> {
    pub(super) fn new(
        rows: &[u32],
        sorted: &'a [u32],
        ends: &'a [u32],
        order: &'a Ordered<'a>,
        columns: &'a [Option<ArrayRef>],
    ) -> WindowPartitions<'a> {
        let gathered = vec![OnceCell::new(); columns.len()];
        WindowPartitions { rows: UInt32Array::from(rows.to_vec()), sorted, ends, order, columns, gathered }
    }

    /// A column's values in the order of the sorted rows.
    fn column(&self, place: usize) -> Result<ArrayRef> {
        let lost = || Error::new(ErrorKind::Internal, "A window lacks a column.");
        let gathered = self.gathered.get(place).ok_or_else(lost)?;
        if let Some(column) = gathered.get() {
            return Ok(column.clone());
        }
        let column = taken(self.columns.get(place).and_then(Option::as_ref).ok_or_else(lost)?, &self.rows)?;
        Ok(gathered.get_or_init(|| column).clone())
    }

    fn frames(&self, frame: &Frame) -> Result<Vec<(u32, u32)>> {
        let first = match (frame, &self.order.first) {
            (Frame::Range(..), Some((key, column))) => {
                Some((*key, taken(column, &UInt32Array::from(self.sorted.to_vec()))?))
            }
            _ => None,
        };
        frames(frame, self.ends, first)
    }

    /// The starts and ends of the partitions.
    fn ranges(&self) -> impl Iterator<Item = (usize, usize)> + '_ {
        let starts = std::iter::once(0).chain(self.ends.iter().copied());
        starts.zip(self.ends).map(|(from, to)| (from as usize, *to as usize))
    }

    /// Where each row stands.
    fn places(&self) -> Vec<RowPlace> {
        let mut values = Vec::with_capacity(self.rows.len());
        for (from, to) in self.ranges() {
            let rows = known_part(self.sorted, from..to);
            let (mut first, mut dense) = (0, 0);
            while first < rows.len() {
                let same =
                    |row: &u32| rows.get(first).is_some_and(|start| self.order.are_equal(*start, *row));
                let count = known_part(rows, first..).iter().take_while(|row| same(row)).count();
                let end = first + count.max(1);
                values.resize(values.len() + end - first, RowPlace { first, end, dense, rows: rows.len() });
                (first, dense) = (end, dense + 1);
            }
        }
        values
    }

    /// What a call gives for each row.
    pub(super) fn result(&self, call: &WindowCall) -> Result<ArrayRef> {
        let ints = |values: Vec<usize>| -> ArrayRef {
            Arc::new(Int64Array::from_iter_values(values.into_iter().map(|v| v as i64)))
        };
        Ok(match &call.task {
            Task::RowNumber => ints(self.ranges().flat_map(|(from, to)| 1..=to - from).collect()),
            task @ (Task::Rank | Task::DenseRank | Task::PercentRank | Task::CumeDist) => {
                ranked(task, self.places().into_iter())?
            }
            Task::Ntile(parts) => {
                let part =
                    |(from, to): (usize, usize)| (0..to - from).map(move |row| ntile(row, to - from, *parts));
                ints(self.ranges().flat_map(part).collect())
            }
            Task::Shift(by) => self.shifted(call, *by)?,
            Task::Nth(which) => self.nth(call, *which)?,
            Task::Aggregate(made) => self.aggregate(call, made)?,
            Task::Own(function) => self.own(call, function)?,
        })
    }

    /// What a function of a user's own gives, each partition a piece.
    fn own(&self, call: &WindowCall, function: &PartitionFunction) -> Result<ArrayRef> {
        let args = call.args.iter().map(|place| self.column(*place)).collect::<Result<Vec<_>>>()?;
        let mut results = Vec::with_capacity(self.ends.len());
        for (from, to) in self.ranges() {
            let args: Vec<ArrayRef> = args.iter().map(|arg| arg.slice(from, to - from)).collect();
            results.push(function.start()?.next(&args, to - from)?);
        }
        let results: Vec<&dyn Array> = results.iter().map(|result| &**result).collect();
        arrow_select::concat::concat(&results).map_err(churn_core::arrow_error)
    }

    /// Values of rows so far away, or defaults.
    fn shifted(&self, call: &WindowCall, by: i64) -> Result<ArrayRef> {
        let args = call.args.iter().map(|place| self.column(*place)).collect::<Result<Vec<_>>>()?;
        let Some(values) = args.first() else {
            return Err(Error::new(ErrorKind::Internal, "A window function lacks its argument."));
        };
        let mut places: Vec<u32> = Vec::with_capacity(self.rows.len());
        let mut valid = BooleanBufferBuilder::new(self.rows.len());
        for (from, to) in self.ranges() {
            // Rows for which there is none: the first ones, or the last.
            let none = usize::try_from(by.unsigned_abs()).unwrap_or(usize::MAX).min(to - from);
            let (from, to) = (from as u32, to as u32);
            if by < 0 {
                places.extend(repeat_n(0, none).chain(from..to - none as u32));
                valid.append_n(none, false);
            } else {
                places.extend((from + none as u32..to).chain(repeat_n(0, none)));
            }
            valid.append_n((to - from) as usize - none, true);
            if by >= 0 {
                valid.append_n(none, false);
            }
        }
        let places = UInt32Array::new(places.into(), Some(NullBuffer::new(valid.finish())));
        shifted(values, args.get(1), &places)
    }

    /// Values of certain rows of the frames.
    fn nth(&self, call: &WindowCall, which: Nth) -> Result<ArrayRef> {
        let values = self.column(call.args.first().copied().unwrap_or(usize::MAX))?;
        let place = |(from, to): (u32, u32)| Some(which.of(from as usize..to as usize)? as u32);
        let places: UInt32Array = self.frames(&call.frame)?.into_iter().map(place).collect();
        taken(&values, &places)
    }

    fn aggregate(&self, call: &WindowCall, made: &Made) -> Result<ArrayRef> {
        let mut args = call.args.iter().map(|place| self.column(*place)).collect::<Result<Vec<_>>>()?;
        let mut rows: Option<Vec<u32>> = None;
        if let Some(only) = call.only {
            let kept = trues(&self.column(only)?);
            let places = UInt32Array::from(kept.clone());
            for arg in &mut args {
                *arg = taken(arg, &places)?;
            }
            rows = Some(kept);
        }
        if call.frame != Frame::Partition {
            let frames = self.frames(&call.frame)?;
            let floats = args.first().and_then(|a| a.as_primitive_opt::<Float64Type>());
            if let (Some(p), Some(values)) = (made.quantile, floats) {
                return Ok(Arc::new(quantiles(values, rows.as_deref(), p, &frames)));
            }
            let all = floats.filter(|values| rows.is_none() && values.null_count() == 0);
            let of_frames = |(all, results): (&Float64Array, FloatFrames)| results(all.values(), &frames);
            if let Some(results) = all.zip(made.float_frames).and_then(of_frames) {
                return Ok(results);
            }
            return (made.make)().slide(&args, rows.as_deref(), &frames);
        }
        let mut groups: Vec<u32> = Vec::with_capacity(self.rows.len());
        for (group, (from, to)) in (0u32..).zip(self.ranges()) {
            groups.extend(repeat_n(group, to - from));
        }
        let mut accumulator = (made.make)();
        accumulator.grow(self.ends.len());
        match rows {
            None => accumulator.update(&groups, &args)?,
            Some(rows) => {
                let own: Vec<u32> =
                    rows.iter().filter_map(|row| groups.get(*row as usize).copied()).collect();
                accumulator.update(&own, &args)?;
            }
        }
        let results = accumulator.finish()?;
        taken(&results, &UInt32Array::from(groups))
    }
}

/// Where a row stands in its partition.
#[derive(Clone, Copy)]
pub(super) struct RowPlace {
    /// The first row that is equal to it in the order.
    pub(super) first: usize,
    /// Behind the last row that is equal to it.
    pub(super) end: usize,
    /// How many different ones were before.
    pub(super) dense: usize,
    pub(super) rows: usize,
}

/// What ranks say of where rows stand.
pub(super) fn ranked(task: &Task, places: impl Iterator<Item = RowPlace>) -> Result<ArrayRef> {
    let share = |p: RowPlace| if p.rows < 2 { 0.0 } else { p.first as f64 / (p.rows - 1) as f64 };
    let ints = |values: Int64Array| -> ArrayRef { Arc::new(values) };
    let floats = |values: Float64Array| -> ArrayRef { Arc::new(values) };
    Ok(match task {
        Task::Rank => ints(places.map(|p| p.first as i64 + 1).collect()),
        Task::DenseRank => ints(places.map(|p| p.dense as i64 + 1).collect()),
        Task::PercentRank => floats(places.map(share).collect()),
        Task::CumeDist => floats(places.map(|p| p.end as f64 / p.rows as f64).collect()),
        _ => return Err(Error::new(ErrorKind::Internal, "A window function is no rank.")),
    })
}

/// The values at some places; where there is none, the default that stands at the row itself, or null.
pub(super) fn shifted(
    values: &ArrayRef,
    defaults: Option<&ArrayRef>,
    places: &UInt32Array,
) -> Result<ArrayRef> {
    let Some(defaults) = defaults else { return taken(values, places) };
    let place = |(row, place): (usize, Option<u32>)| match place {
        Some(place) => (0, place as usize),
        None => (1, row),
    };
    let places: Vec<(usize, usize)> = places.iter().enumerate().map(place).collect();
    let sources: [&dyn Array; 2] = [values, defaults];
    arrow_select::interleave::interleave(&sources, &places).map_err(churn_core::arrow_error)
}

/// The rows where a condition is true.
pub(super) fn trues(truth: &ArrayRef) -> Vec<u32> {
    let truth = truth.as_boolean();
    let is_true = |row: &u32| truth.is_valid(*row as usize) && truth.value(*row as usize);
    (0..truth.len() as u32).filter(is_true).collect()
}

/// The part that a row is in, from 1: the first parts have one row more where they are not all as large.
pub(super) fn ntile(row: usize, rows: usize, parts: usize) -> usize {
    let (small, larger) = (rows / parts, rows % parts);
    if row < larger * (small + 1) {
        row / (small + 1) + 1
    } else {
        larger + (row - larger * (small + 1)) / small.max(1) + 1
    }
}
