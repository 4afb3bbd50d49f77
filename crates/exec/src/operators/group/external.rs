//! External aggregation: aggregates whose state is a set of values (median, quantiles, mode, distinct counts) where the
//! states do not fit in memory. Their values are drained into an external sort by group and value, and the results are
//! found in one pass over the sorted values.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use arrow_array::{ArrayRef, Int64Array};
use churn_core::{Batch, Error, ErrorKind, Result, Type};
use churn_expr::aggregates::Accumulator;
use churn_kernels::known::known_part;

use crate::operators::sort::{Changes, OrderKey, Sorter, batches};
use crate::runtime::budget::Reservation;
use crate::runtime::materialized::slices;
use crate::spill::Disk;

/// What the states of some accumulators held, once it did not fit.
#[derive(Default)]
pub(crate) struct ExternalStates {
    values: Vec<Option<SortedValues>>,
    /// Rows that came since states were weighed, which takes a walk over all groups.
    unweighed: usize,
}

/// Rows before states are weighed again.
const WEIGHED: usize = 1 << 16;

/// The values of an aggregate, with the numbers of their groups before them.
struct SortedValues {
    kind: Type,
    sorter: Sorter,
    /// Rows of each group.
    rows: Vec<u64>,
}

impl SortedValues {
    /// Takes the values out of all states.
    fn add(&mut self, accumulator: &mut dyn Accumulator) -> Result<()> {
        let SortedValues { sorter, rows: counts, .. } = self;
        accumulator.drain(&mut |group, columns| {
            let rows = columns.first().map_or(0, |values| values.len());
            if rows == 0 {
                return Ok(());
            }
            if counts.len() <= group {
                counts.resize(group + 1, 0);
            }
            counts.get_mut(group).into_iter().for_each(|count| *count += rows as u64);
            slices(Batch { columns, rows }).into_iter().try_for_each(|mut part| {
                part.columns.insert(0, Arc::new(Int64Array::from(vec![group as i64; part.rows])));
                sorter.push(part)
            })
        })
    }

    /// The results, once no more values come.
    fn results(mut self, accumulator: &mut dyn Accumulator, groups: usize) -> Result<ArrayRef> {
        self.add(accumulator)?;
        self.rows.resize(groups, 0);
        let lost = || Error::new(ErrorKind::Internal, "Values on disk have no aggregate.");
        let mut found = accumulator.sorted(&self.rows).ok_or_else(lost)?;
        let mut changes = Changes::new(&[Type::Int, self.kind])?;
        for batch in batches(self.sorter.finish()?) {
            let batch = batch?;
            let is_new = changes.of(known_part(&batch.columns, ..2), batch.rows)?;
            let (groups, columns) = batch.columns.split_first().ok_or_else(lost)?;
            let groups = groups.as_primitive::<Int64Type>().values();
            let groups: Vec<usize> = groups.iter().map(|group| *group as usize).collect();
            found.add(&groups, &is_new, columns)?;
        }
        found.finish()
    }
}

impl ExternalStates {
    /// Drains the values of all states that can be drained to disk. `bytes` is what the states hold now: it is reserved
    /// first, so that the sorters that are started get what is left of the budget.
    pub(crate) fn take(
        &mut self,
        accumulators: &mut [Box<dyn Accumulator>],
        bytes: usize,
        reservation: &mut Reservation,
        disk: &Disk,
    ) -> Result<()> {
        let _ = reservation.try_hold(bytes);
        self.values.resize_with(accumulators.len(), || None);
        for (values, accumulator) in self.values.iter_mut().zip(accumulators) {
            if let (None, Some(kind)) = (&values, accumulator.external()) {
                let key = |place: usize, kind: Type| OrderKey::column(place, kind, false, false);
                let sorter = Sorter::new(vec![key(0, Type::Int), key(1, kind.clone())], disk)?;
                *values = Some(SortedValues { kind, sorter, rows: Vec::new() });
            }
            if let Some(values) = values {
                values.add(accumulator.as_mut())?;
            }
        }
        Ok(())
    }

    /// Takes out of memory what can be, if the states do not fit after so many more rows.
    pub(crate) fn relieve(
        &mut self,
        rows: usize,
        accumulators: &mut [Box<dyn Accumulator>],
        reservation: &mut Reservation,
        disk: &Disk,
    ) -> Result<()> {
        let memory = |all: &[Box<dyn Accumulator>]| all.iter().map(|a| a.memory()).sum();
        self.unweighed += rows;
        if self.unweighed < WEIGHED {
            return Ok(());
        }
        self.unweighed = 0;
        // While values leave memory, they are there twice.
        let bytes: usize = memory(accumulators);
        if reservation.try_hold(bytes * 2) {
            return Ok(());
        }
        self.take(accumulators, bytes, reservation, disk)?;
        reservation.hold_whole(memory(accumulators))
    }

    /// The results of all groups.
    pub(crate) fn results(
        &mut self,
        accumulators: &mut [Box<dyn Accumulator>],
        groups: usize,
    ) -> Result<Vec<ArrayRef>> {
        let mut values = std::mem::take(&mut self.values);
        values.resize_with(accumulators.len(), || None);
        let result = |(accumulator, values): (&mut Box<dyn Accumulator>, Option<SortedValues>)| {
            accumulator.grow(groups);
            match values {
                Some(values) => values.results(accumulator.as_mut(), groups),
                None => accumulator.finish(),
            }
        };
        accumulators.iter_mut().zip(values).map(result).collect()
    }
}
