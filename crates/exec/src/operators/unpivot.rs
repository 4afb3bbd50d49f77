//! Columns become rows, in the stream.

use std::sync::Arc;

use arrow_array::{Array, ArrayRef, Int32Array, StringViewArray, UInt32Array};
use churn_core::{Batch, Event, Result, StepId, taken};
use churn_expr::Bound;
use churn_kernels::gather;
use churn_kernels::known::known_part;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace, places};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::stream::{StreamOp, Take};

impl Build for plan::Unpivot {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let placed = |by: &Bound| by.placed(&pipeline.layout);
        let value = |i: usize| self.rows.iter().filter_map(|row| row.values.get(i)).map(placed).collect();
        let name = |i: usize| self.rows.iter().filter_map(|row| row.names.get(i).cloned()).collect();
        let op = Unpivot {
            kept: places(&pipeline.layout, &self.kept)?,
            names: (0..self.names.len()).map(name).collect(),
            values: (0..self.values.len()).map(value).collect::<Result<_>>()?,
            times: self.rows.len(),
            skip_nulls: self.skip_nulls,
            step: place.step(),
            text: place.text(),
        };
        pipeline.push(Box::new(op));
        pipeline.layout = place.node.columns();
        Ok(pipeline)
    }
}

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
        for part in crate::runtime::materialized::slices_of(batch, rows) {
            let part = self.unpivoted(&part, work)?;
            work.counters.rows(self.step, part.rows);
            take(part, work)?;
        }
        Ok(())
    }
}
