//! Lists become rows, in the stream.

use arrow_array::cast::AsArray;
use arrow_array::{Array, ListArray, UInt32Array};
use churn_core::widen::widen;
use churn_core::{Batch, ColumnId, Error, ErrorKind, Event, Result, StepId, taken};
use churn_kernels::known::known;
use churn_plan::operators as plan;

use super::{Build, OperatorPlace, places};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::Pipeline;
use crate::runtime::stream::{StreamOp, Take};

impl Build for plan::Unnest {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let mut pipeline = place.input()?;
        let lists: Vec<ColumnId> = self.lists.iter().map(|(id, _)| *id).collect();
        let op = Unnest {
            kept: places(&pipeline.layout, &self.kept)?,
            lists: places(&pipeline.layout, &lists)?,
            names: self.lists.iter().map(|(_, f)| f.name.clone()).collect(),
            skip_nulls: self.skip_nulls,
            step: place.step(),
            text: place.text(),
        };
        pipeline.push(Box::new(op));
        pipeline.layout = place.node.columns();
        Ok(pipeline)
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
        for part in crate::runtime::materialized::slices_of(batch, 1 << 10) {
            let part = self.unnested(&part, work)?;
            work.counters.rows(self.step, part.rows);
            take(part, work)?;
        }
        Ok(())
    }
}
