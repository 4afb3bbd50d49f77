//! Columns of equal length: what flows from one operator to the next.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, BooleanArray, UInt32Array};
use arrow_schema::ArrowError;
use churn_kernels::views;

use crate::{Error, ErrorKind, Result};

/// Columns of equal length.
#[derive(Clone, Debug)]
pub struct Batch {
    /// The columns, of one length each.
    pub columns: Vec<ArrayRef>,
    /// The number of rows, also where there is no column.
    pub rows: usize,
}

impl Batch {
    /// The rows where `keep` is set.
    pub fn filter(&self, keep: &BooleanArray) -> Result<Batch> {
        let predicate = arrow_select::filter::FilterBuilder::new(keep).optimize().build();
        let columns = self
            .columns
            .iter()
            .map(|c| predicate.filter(c))
            .collect::<Result<_, _>>()
            .map_err(arrow_error)?;
        Ok(Batch { columns, rows: predicate.count() })
    }

    /// A part of the rows, without a copy.
    pub fn slice(&self, from: usize, rows: usize) -> Batch {
        Batch { columns: self.columns.iter().map(|c| c.slice(from, rows)).collect(), rows }
    }

    /// The columns at these places, which it has.
    pub fn columns_at(&self, places: &[usize]) -> Vec<ArrayRef> {
        places.iter().filter_map(|place| self.columns.get(*place).cloned()).collect()
    }

    /// The rows at these indices.
    pub fn take(&self, indices: &UInt32Array) -> Result<Batch> {
        let columns = self
            .columns
            .iter()
            .map(|c| arrow_select::take::take(c, indices, None))
            .collect::<Result<_, _>>()
            .map_err(arrow_error)?;
        Ok(Batch { columns, rows: indices.len() })
    }

    /// Bytes that the batch keeps alive; of a part of a larger one, its share.
    pub fn memory(&self) -> usize {
        self.columns.iter().map(memory).sum()
    }

    /// The batch with its texts copied out where a few of them would hold a whole block.
    pub fn compacted(self) -> Batch {
        let compact = |column: ArrayRef| match column.as_string_view_opt().and_then(views::compact) {
            Some(small) => Arc::new(small) as ArrayRef,
            None => column,
        };
        Batch { columns: self.columns.into_iter().map(compact).collect(), rows: self.rows }
    }
}

/// Bytes that a column keeps alive. Parts of one column hold it together: each counts with what it shows of it.
fn memory(column: &ArrayRef) -> usize {
    let whole = column.get_buffer_memory_size();
    let rows = column.len();
    let shown = if let Some(list) = column.as_list_opt::<i32>() {
        let offsets = list.value_offsets();
        let values = offsets.last().zip(offsets.first()).map_or(0, |(last, first)| (last - first) as usize);
        rows * 5 + memory(list.values()) / list.values().len().max(1) * values
    } else if let Some(texts) = column.as_string_view_opt() {
        rows * 17 + texts.data_buffers().iter().map(arrow_buffer::Buffer::len).sum::<usize>()
    } else {
        column.data_type().primitive_width().map_or(whole, |width| rows * (width + 1))
    };
    // Room to spare is no larger part.
    if whole > shown * 2 { shown } else { whole }
}

/// The values of a column at some places; null where a place is.
pub fn taken(column: &ArrayRef, places: &dyn Array) -> Result<ArrayRef> {
    arrow_select::take::take(column, places, None).map_err(arrow_error)
}

/// Turns an error of the Arrow crates, which only a fault of ours can cause, into ours.
pub fn arrow_error(error: ArrowError) -> Error {
    Error::new(ErrorKind::Internal, format!("A column could not be rearranged: {error}.")).caused_by(error)
}
