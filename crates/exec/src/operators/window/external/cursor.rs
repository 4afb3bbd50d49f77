//! Rows of a file from front to back.

use std::collections::VecDeque;
use std::ops::Range;

use arrow_array::cast::AsArray;
use arrow_array::types::UInt64Type;
use arrow_array::{ArrayRef, UInt32Array};
use churn_core::{Batch, Error, ErrorKind, Result, taken};
use churn_kernels::known::known;

use super::PIECE;
use crate::runtime::materialized::concat;

/// A reader that goes on and never back.
pub(super) struct PartitionCursor {
    left: Box<dyn Iterator<Item = Result<Batch>>>,
    /// The columns that are asked for, as places of those that are read; they may come twice.
    columns: Vec<usize>,
    /// Batches that are read, with the place of their first row; the last one stays.
    read: VecDeque<(usize, Batch)>,
    end: usize,
}

impl PartitionCursor {
    pub(super) fn new(
        batches: impl Iterator<Item = Result<Batch>> + 'static,
        columns: Vec<usize>,
    ) -> PartitionCursor {
        PartitionCursor { left: Box::new(batches), columns, read: VecDeque::new(), end: 0 }
    }

    /// Reads the next batch.
    fn advance(&mut self) -> Result<()> {
        let lost = || Error::new(ErrorKind::Internal, "A window looked behind the end of a file.");
        let batch = self.left.next().ok_or_else(lost)??;
        let columns = batch.columns_at(&self.columns);
        let rows = batch.rows;
        self.read.push_back((self.end, Batch { columns, rows }));
        self.end += rows;
        Ok(())
    }

    /// Lets go of what is before a row, and reads up to another.
    fn hold(&mut self, rows: Range<usize>) -> Result<()> {
        while self.read.is_empty() || self.end < rows.end {
            self.advance()?;
        }
        while self.read.len() > 1
            && self.read.front().is_some_and(|(at, batch)| at + batch.rows <= rows.start)
        {
            self.read.pop_front();
        }
        Ok(())
    }

    /// These rows, of which none is before the first of those that were asked for last.
    pub(super) fn rows(&mut self, rows: Range<usize>) -> Result<Batch> {
        self.hold(rows.clone())?;
        let part = |(at, batch): &(usize, Batch)| {
            let from = rows.start.clamp(*at, at + batch.rows) - at;
            let to = rows.end.clamp(*at, at + batch.rows) - at;
            batch.slice(from, to.saturating_sub(from))
        };
        let mut parts: Vec<Batch> = self.read.iter().map(part).collect();
        if parts.len() > 1 {
            parts.retain(|part| part.rows > 0);
        }
        let lost = || Error::new(ErrorKind::Internal, "A window looked for rows that are gone.");
        match parts.len() {
            0 => Ok(self.read.front().map(|(_, batch)| batch.slice(0, 0)).ok_or_else(lost)?),
            1 => parts.pop().ok_or_else(lost),
            _ => concat(parts)?.pop().ok_or_else(lost),
        }
    }

    /// The first column's values at some places, which only rise; null where there is none.
    pub(super) fn values_at(&mut self, places: impl Iterator<Item = Option<usize>>) -> Result<ArrayRef> {
        let mut parts: Vec<ArrayRef> = Vec::new();
        let mut here: Vec<Option<u32>> = Vec::new();
        for place in places {
            let Some(place) = place else {
                here.push(None);
                continue;
            };
            if self.read.front().is_none_or(|(at, batch)| place >= at + batch.rows) {
                parts.extend(self.taken(&mut here)?);
                self.hold(place..place + 1)?;
            }
            here.push(self.read.front().map(|(at, _)| (place - at) as u32));
        }
        if self.read.is_empty() {
            self.advance()?;
        }
        parts.extend(self.taken(&mut here)?);
        let parts: Vec<_> = parts.iter().map(AsRef::as_ref).collect();
        arrow_select::concat::concat(&parts).map_err(churn_core::arrow_error)
    }

    /// Values of the first batch that is held; without one, the places stay.
    fn taken(&self, places: &mut Vec<Option<u32>>) -> Result<Option<ArrayRef>> {
        let Some(column) = self.read.front().and_then(|(_, batch)| batch.columns.first()) else {
            return Ok(None);
        };
        taken(column, &UInt32Array::from(std::mem::take(places))).map(Some)
    }
}

/// Numbers that are looked at one by one, from front to back.
pub(super) struct Numbers {
    cursor: PartitionCursor,
    from: usize,
    here: Vec<u64>,
    rows: usize,
}

impl Numbers {
    pub(super) fn new(cursor: PartitionCursor, rows: usize) -> Numbers {
        Numbers { cursor, from: 0, here: Vec::new(), rows }
    }

    /// The number of a row, which is not before the one asked for last.
    pub(super) fn at(&mut self, row: usize) -> Result<u64> {
        if row < self.from || row >= self.from + self.here.len() {
            let batch = self.cursor.rows(row..self.rows.min(row + PIECE))?;
            self.from = row;
            self.here = numbers(&batch, 0);
        }
        Ok(known(&self.here, row - self.from))
    }
}

/// A column of numbers.
pub(super) fn numbers(batch: &Batch, column: usize) -> Vec<u64> {
    let column = batch.columns.get(column).and_then(|c| c.as_primitive_opt::<UInt64Type>());
    column.map(|c| c.values().to_vec()).unwrap_or_default()
}
