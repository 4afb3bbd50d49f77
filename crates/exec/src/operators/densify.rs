//! `densify`: rows pass, and the combinations of keys that did not occur follow behind them.
//!
//! The different keys are held, and the rows that are added, by their keys alone. Groups come in the order in which they
//! first occurred, and the combinations of each in the order of the values, the last key changing fastest.

use std::cmp::Ordering;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{Array, ArrayRef, BooleanArray, Int64Array, new_null_array};
use churn_core::scalar::array_of;
use churn_core::widen::widen;
use churn_core::{Batch, Column, Error, ErrorKind, Event, Events, Result, Scalar, StepId, Type};
use churn_expr::arithmetic::{shift_dates, shift_timestamps};
use churn_expr::compare::order_of;
use churn_io::memory::Ready;
use churn_io::source::{Capability, Morsel, Scan};
use churn_plan::operators::{self as plan, Series, SeriesStep};

use super::rows_per_key::numbers_of;
use super::{Build, OperatorPlace, places};
use crate::keys::{KeyTable, UNKNOWN};
use crate::runtime::budget::Reservation;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::serial::SerialOp;

impl Build for plan::Densify {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let wanted: Vec<_> = self.per.iter().copied().chain(self.keys.iter().map(|key| key.column)).collect();
        let keys = (places(&pipeline.layout, &wanted)?, self.per.len());
        let series = self.keys.iter().map(|key| key.series.clone()).collect();
        let columns = place.kinds(&pipeline.layout);
        let told = (place.step(), place.text());
        let op = Densify::new(keys, series, columns, place.context.budget.reservation(), told);
        pipeline.push_serial(Box::new(op));
        Ok(pipeline)
    }
}

/// Rows that are added, at most.
const MOST: usize = 10_000_000;

/// Combinations that are looked up together.
const TOGETHER: usize = 8192;

/// The operator, and the keys that it has seen.
pub(crate) struct Densify {
    /// Places of the columns that make a group, then of the keys.
    places: Vec<usize>,
    /// Their types.
    kinds: Vec<Type>,
    /// How many of them make a group.
    per: usize,
    /// The series of each key, if it is one.
    series: Vec<Option<Series>>,
    /// The types of all columns.
    columns: Vec<Type>,
    seen: KeyTable,
    /// The rows of the keys that were new, of these columns.
    distinct: Vec<Batch>,
    /// Bytes of them.
    bytes: usize,
    reservation: Reservation,
    step: StepId,
    text: String,
}

/// A group: the values of its columns, and of each key those that it has.
struct Group {
    of: Vec<Scalar>,
    values: Vec<Vec<Scalar>>,
}

impl Densify {
    /// Nothing is seen yet. `places` are those of the `per` columns that make a group, then of the keys.
    pub(crate) fn new(
        (places, per): (Vec<usize>, usize),
        series: Vec<Option<Series>>,
        columns: Vec<Type>,
        reservation: Reservation,
        (step, text): (StepId, String),
    ) -> Densify {
        let kinds: Vec<Type> = places.iter().filter_map(|place| columns.get(*place).cloned()).collect();
        let seen = KeyTable::new(kinds.clone());
        Densify {
            places,
            kinds,
            per,
            series,
            columns,
            seen,
            distinct: Vec::new(),
            bytes: 0,
            reservation,
            step,
            text,
        }
    }

    /// Notes the keys of some rows.
    fn note(&mut self, batch: &Batch) -> Result<()> {
        let known = self.seen.len();
        let columns = self.places.iter().filter_map(|place| batch.columns.get(*place)).map(widen);
        let keys = Batch { columns: columns.collect::<Result<_>>()?, rows: batch.rows };
        let mut numbers = Vec::with_capacity(batch.rows);
        self.seen.numbers(&keys.columns, batch.rows, &mut numbers)?;
        // A new key is that of the first row that has its number.
        let mut next = known as u32;
        let is_new = numbers.iter().map(|number| {
            let is_new = *number == next;
            next += u32::from(is_new);
            Some(is_new)
        });
        let is_new: BooleanArray = is_new.collect();
        if is_new.true_count() > 0 {
            let keys = keys.filter(&is_new)?.compacted();
            self.bytes += keys.memory();
            self.distinct.push(keys);
        }
        self.reservation.hold_whole(self.bytes + self.seen.memory())
    }

    /// The groups in the order in which they came, with the values that occur in each.
    fn groups(&self) -> Result<Vec<Group>> {
        let group_places: Vec<usize> = (0..self.per).collect();
        let mut table = KeyTable::new(self.kinds.get(..self.per).unwrap_or_default().to_vec());
        let mut groups: Vec<Group> = Vec::new();
        let keys = self.places.len() - self.per;
        for batch in &self.distinct {
            let numbers = numbers_of(&mut table, batch, &group_places)?;
            for (row, number) in numbers.iter().enumerate() {
                let value = |column: &ArrayRef| Scalar::from_array(column, row);
                if *number as usize == groups.len() {
                    let of = batch.columns.iter().take(self.per).map(value).collect();
                    groups.push(Group { of, values: vec![Vec::new(); keys] });
                }
                let Some(group) = groups.get_mut(*number as usize) else { continue };
                for (values, column) in group.values.iter_mut().zip(batch.columns.iter().skip(self.per)) {
                    values.extend(Some(value(column)).filter(|value| !value.is_null()));
                }
            }
        }
        if self.per == 0 && groups.is_empty() {
            groups.push(Group { of: Vec::new(), values: vec![Vec::new(); keys] });
        }
        for values in groups.iter_mut().flat_map(|group| &mut group.values) {
            values.sort_by(order_of);
            values.dedup_by(|a, b| order_of(a, b) == Ordering::Equal);
        }
        Ok(groups)
    }

    /// The combinations that do not occur, by their keys.
    fn lacking(&mut self) -> Result<Vec<Batch>> {
        let (mut made, mut rows, mut bytes) = (Vec::new(), 0, 0);
        for mut group in self.groups()? {
            for (values, (series, kind)) in
                group.values.iter_mut().zip(self.series.iter().zip(self.kinds.iter().skip(self.per)))
            {
                if let Some(series) = series {
                    *values = steps_of(series, values, kind).ok_or_else(|| self.too_many())?;
                }
            }
            let all = group.values.iter().try_fold(1usize, |all, values| all.checked_mul(values.len()));
            let all = all.filter(|all| *all <= MOST).ok_or_else(|| self.too_many())?;
            for from in (0..all).step_by(TOGETHER) {
                let batch = self.combinations(&group, from..(from + TOGETHER).min(all));
                let mut numbers = Vec::with_capacity(batch.rows);
                self.seen.find(&batch.columns, batch.rows, &mut numbers)?;
                let lacks: BooleanArray = numbers.iter().map(|number| Some(*number == UNKNOWN)).collect();
                let batch = batch.filter(&lacks)?;
                rows += batch.rows;
                bytes += batch.memory();
                if rows > MOST {
                    return Err(self.too_many());
                }
                self.reservation.hold_whole(self.bytes + self.seen.memory() + bytes)?;
                made.extend(Some(batch).filter(|batch| batch.rows > 0));
            }
        }
        Ok(made)
    }

    /// Some of a group's combinations, by their numbers: the last key changes fastest.
    fn combinations(&self, group: &Group, numbers: Range<usize>) -> Batch {
        let rows = numbers.len();
        let mut columns: Vec<ArrayRef> =
            group.of.iter().zip(&self.kinds).map(|(value, kind)| value.to_array(kind, rows)).collect();
        let mut repeats = group.values.iter().map(Vec::len).product::<usize>();
        for (values, kind) in group.values.iter().zip(self.kinds.iter().skip(self.per)) {
            repeats /= values.len().max(1);
            let value = |number: usize| values.get(number / repeats.max(1) % values.len().max(1));
            let values: Vec<&Scalar> = numbers.clone().filter_map(value).collect();
            columns.push(array_of(&values, kind));
        }
        Batch { columns, rows }
    }

    fn too_many(&self) -> Error {
        let most = churn_core::readable::grouped(MOST as u64);
        Error::new(ErrorKind::Data, format!("More than {most} rows would be added."))
            .in_step(&self.text)
            .why("Each combination of the keys' values that does not occur becomes a row.")
            .next("Name fewer keys, take a longer step, or combine within groups: densify … per farm.")
    }
}

impl SerialOp for Densify {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        self.note(&batch)?;
        work.counters.rows(self.step, batch.rows);
        Ok(batch)
    }

    fn finish(&mut self, work: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        let keys = self.lacking()?;
        let rows = keys.iter().map(|batch| batch.rows).sum();
        work.counters.rows(self.step, rows);
        work.counters.event(self.step, Event::Made, rows);
        Ok(Some(Box::new(Lacking {
            keys: Mutex::new(keys.into_iter()),
            places: self.places.clone(),
            columns: self.columns.clone(),
        })))
    }
}

/// The rows that are added: held by their keys, given with all columns.
struct Lacking {
    keys: Mutex<std::vec::IntoIter<Batch>>,
    places: Vec<usize>,
    columns: Vec<Type>,
}

impl Scan for Lacking {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let next = self.keys.lock().unwrap_or_else(PoisonError::into_inner).next();
        let Some(keys) = next else { return Ok(None) };
        let column = |(place, kind): (usize, &Type)| {
            let key = self.places.iter().position(|own| *own == place).and_then(|key| keys.columns.get(key));
            key.cloned().unwrap_or_else(|| new_null_array(&kind.arrow(), keys.rows))
        };
        let columns = self.columns.iter().enumerate().map(column).collect();
        Ok(Some(Box::new(Ready::new(Batch { columns, rows: keys.rows }))))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}

/// The values of a series in a group with these values, which rise; `None` if they are more than may be added.
fn steps_of(series: &Series, values: &[Scalar], kind: &Type) -> Option<Vec<Scalar>> {
    let bounds = series.from.as_ref().or(values.first()).zip(series.to.as_ref().or(values.last()));
    let Some((from, to)) = bounds else { return Some(Vec::new()) };
    let mut found = Vec::new();
    for first in (0..).step_by(TOGETHER) {
        let next = moved(from, series.step, first..first + TOGETHER as i64, kind);
        for row in 0..next.len() {
            let value = Scalar::from_array(&next, row);
            // Past the end of its type a series ends.
            if value.is_null() || order_of(&value, to).is_gt() {
                return Some(found);
            }
            if found.len() >= MOST {
                return None;
            }
            found.push(value);
        }
    }
    Some(found)
}

/// A value so many steps later; null past the end of its type.
fn moved(from: &Scalar, step: SeriesStep, counts: Range<i64>, kind: &Type) -> ArrayRef {
    let (rows, mut events) = ((counts.end - counts.start) as usize, Events::default());
    match (from, step) {
        (Scalar::Int(from), SeriesStep::Number(step)) => {
            let value = |count: i64| step.checked_mul(count).and_then(|by| from.checked_add(by));
            Arc::new(counts.map(value).collect::<Int64Array>())
        }
        (from, SeriesStep::Time(by)) => {
            let from = Column::Constant(from.clone(), kind.clone());
            // One that is too long for a column leads past the end as well.
            let steps: Vec<Scalar> =
                counts.map(|count| by.times(count).map_or(Scalar::Null, Scalar::Interval)).collect();
            let by = Column::Array(array_of(&steps.iter().collect::<Vec<_>>(), &Type::Interval));
            let moved = match kind {
                Type::Date => shift_dates(&from, &by, rows, &mut events),
                _ => shift_timestamps(&from, &by, rows, &mut events),
            };
            moved.into_array(rows)
        }
        // The check lets no other pair through.
        _ => new_null_array(&kind.arrow(), rows),
    }
}
