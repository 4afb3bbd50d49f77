//! `unpivot` and `unnest`: a row becomes several.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, Int32Array, ListArray, StringViewArray, UInt32Array};
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Event, Result, StepId, taken};
use churn_expr::Bound;
use churn_kernels::gather;
use churn_kernels::known::{known, known_part};

use super::morsel_output::MorselOutput;
use super::stream::{StreamOp, Take};

/// Rows that are handed on together, about.
const CHUNK: usize = 1 << 15;

/// Columns become rows.
pub struct Unpivot {
    pub(crate) kept: Vec<usize>,
    /// The texts of each name column, one for each row that a row becomes.
    pub(crate) names: Vec<Vec<String>>,
    /// For each value column what it is in each row that a row becomes.
    pub(crate) values: Vec<Vec<Bound>>,
    /// How many rows a row becomes.
    pub(crate) times: usize,
    pub(crate) skip_nulls: bool,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl Unpivot {
    fn unpivoted(&self, batch: &Batch, work: &mut MorselOutput) -> Result<Batch> {
        let rows = batch.rows * self.times;
        let source = UInt32Array::from_iter_values((0..rows).map(|row| (row / self.times) as u32));
        let mut columns = Vec::new();
        for column in self.kept.iter().filter_map(|place| batch.columns.get(*place)) {
            columns.push(taken(column, &source)?);
        }
        let codes = Int32Array::from_iter_values((0..rows).map(|row| (row % self.times) as i32));
        for names in &self.names {
            let texts: ArrayRef = Arc::new(StringViewArray::from_iter_values(names));
            let coded = gather::coded(codes.clone(), texts);
            columns.push(Arc::new(coded));
        }
        let places: Vec<(usize, usize)> = (0..rows).map(|row| (row % self.times, row / self.times)).collect();
        let first_value = columns.len();
        for values in &self.values {
            let evaluate = |bound: &Bound| {
                work.with_events(self.step, |events| bound.evaluate_array(batch, events))
                    .map_err(|e| e.in_step(&self.text))
            };
            let arrays = values.iter().map(evaluate).collect::<Result<Vec<_>>>()?;
            let arrays: Vec<&dyn Array> = arrays.iter().map(AsRef::as_ref).collect();
            columns.push(
                arrow_select::interleave::interleave(&arrays, &places).map_err(churn_core::arrow_error)?,
            );
        }
        let batch = Batch { columns, rows };
        if !self.skip_nulls {
            return Ok(batch);
        }
        // The validity is the logical one: a column of type null carries no bitmap and has no value.
        let nulls: Vec<_> =
            known_part(&batch.columns, first_value..).iter().map(|column| column.logical_nulls()).collect();
        let has_value = |row| nulls.iter().any(|nulls| nulls.as_ref().is_none_or(|n| n.is_valid(row)));
        let keep: Vec<bool> = (0..rows).map(has_value).collect();
        let kept = batch.filter(&keep.into())?;
        work.counters.event(self.step, Event::Empty, rows - kept.rows);
        Ok(kept)
    }
}

impl StreamOp for Unpivot {
    fn multiplies(&self) -> bool {
        true
    }

    fn each(&self, batch: Batch, work: &mut MorselOutput, take: &mut Take<'_>) -> Result<()> {
        let rows = (CHUNK / self.times.max(1)).max(1);
        for part in super::materialized::slices_of(batch, rows) {
            let part = self.unpivoted(&part, work)?;
            work.counters.rows(self.step, part.rows);
            take(part, work)?;
        }
        Ok(())
    }
}

/// Lists become rows.
pub struct Unnest {
    pub(crate) kept: Vec<usize>,
    pub(crate) lists: Vec<usize>,
    /// What messages call them.
    pub(crate) names: Vec<String>,
    pub(crate) skip_nulls: bool,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

impl Unnest {
    /// How many values the lists of a row have; none is none.
    fn length(&self, lists: &[ListArray], row: usize) -> Result<usize> {
        let length = |list: &ListArray| if list.is_null(row) { 0 } else { list.value_length(row) as usize };
        let mut lengths = lists.iter().map(length);
        let first = lengths.next().unwrap_or(0);
        if let Some((other, name)) =
            lengths.zip(self.names.iter().skip(1)).find(|(length, _)| *length != first)
        {
            let of_first = self.names.first().map(|n| churn_core::names::name(n)).unwrap_or_default();
            let what = "Lists that open together are of different length in a row.";
            return Err(Error::new(ErrorKind::Require, what)
                .why(format!(
                    "{of_first} has {first} values there, {} has {other}.",
                    churn_core::names::name(name)
                ))
                .next("Open one of them first: two unnest steps give every pair of values.")
                .in_step(&self.text));
        }
        Ok(first)
    }

    fn unnested(&self, batch: &Batch, work: &mut MorselOutput) -> Result<Batch> {
        let wide = |place: &usize| {
            let column = batch.columns.get(*place).map(widen).transpose()?;
            let lost = || Error::new(ErrorKind::Internal, "A column to unnest is no list.");
            column.as_ref().and_then(|c| c.as_list_opt::<i32>()).cloned().ok_or_else(lost)
        };
        let lists = self.lists.iter().map(wide).collect::<Result<Vec<ListArray>>>()?;
        let (mut source, mut elements, mut empty) = (Vec::new(), vec![Vec::new(); lists.len()], 0);
        for row in 0..batch.rows {
            let length = self.length(&lists, row)?;
            if length == 0 {
                empty += 1;
                if !self.skip_nulls {
                    source.push(row as u32);
                    elements.iter_mut().for_each(|places| places.push(None));
                }
                continue;
            }
            source.extend(std::iter::repeat_n(row as u32, length));
            for (list, places) in lists.iter().zip(&mut elements) {
                let from = known(list.value_offsets(), row) as u32;
                places.extend((from..from + length as u32).map(Some));
            }
        }
        if self.skip_nulls {
            work.counters.event(self.step, Event::Empty, empty);
        }
        let rows = source.len();
        let source = UInt32Array::from(source);
        let mut columns = Vec::new();
        for column in self.kept.iter().filter_map(|place| batch.columns.get(*place)) {
            columns.push(taken(column, &source)?);
        }
        for (list, places) in lists.iter().zip(elements) {
            columns.push(taken(list.values(), &UInt32Array::from(places))?);
        }
        Ok(Batch { columns, rows })
    }
}

impl StreamOp for Unnest {
    fn multiplies(&self) -> bool {
        true
    }

    fn each(&self, batch: Batch, work: &mut MorselOutput, take: &mut Take<'_>) -> Result<()> {
        for part in super::materialized::slices_of(batch, 1 << 10) {
            let part = self.unnested(&part, work)?;
            work.counters.rows(self.step, part.rows);
            take(part, work)?;
        }
        Ok(())
    }
}
