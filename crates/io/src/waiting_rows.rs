//! Rows that wait to be written until there are enough of them for a part.
//!
//! Where a part ends is told by the rows alone: how they came in batches, how many threads made them and how much memory
//! there is do not change what is written.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, Field as ArrowField, Schema};
use churn_core::{Batch, Field, Result};

use super::merge_schemas::cast_to;

/// Where a part ends: with the row that makes it so many rows, or rows with so many bytes of values.
#[derive(Clone, Copy, Debug)]
pub(crate) struct PartEnd {
    pub(crate) rows: usize,
    pub(crate) bytes: usize,
}

impl PartEnd {
    /// What columnar files are written in.
    pub(crate) const OF_FILES: PartEnd = PartEnd { rows: 1 << 16, bytes: 4 << 20 };
    /// Nowhere: the rows are taken when they are wanted.
    pub(crate) const NOWHERE: PartEnd = PartEnd { rows: usize::MAX, bytes: usize::MAX };
}

/// Rows that wait, of columns whose types do not change from batch to batch.
pub(crate) struct WaitingRows {
    schema: Arc<Schema>,
    end: PartEnd,
    batches: Vec<Batch>,
    rows: usize,
    bytes: usize,
}

impl WaitingRows {
    pub(crate) fn new(fields: &[Field], end: PartEnd) -> WaitingRows {
        let field = |f: &Field| ArrowField::new(&f.name, stored(&f.data), true);
        let schema = Arc::new(Schema::new(fields.iter().map(field).collect::<Vec<_>>()));
        WaitingRows { schema, end, batches: Vec::new(), rows: 0, bytes: 0 }
    }

    pub(crate) fn schema(&self) -> Arc<Schema> {
        self.schema.clone()
    }

    /// Bytes of the values that wait.
    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    /// Takes rows, in the types of the schema; gives the parts that they complete.
    pub(crate) fn push(&mut self, batch: Batch) -> Result<Vec<Vec<Batch>>> {
        let columns = batch.columns.into_iter().zip(self.schema.fields());
        let columns = columns.map(|(c, f)| cast_to(c, f.data_type())).collect::<Result<_>>()?;
        let mut rest = Batch { columns, rows: batch.rows };
        let mut parts = Vec::new();
        while rest.rows > 0 {
            let bytes = bytes_of(&rest);
            if self.rows + rest.rows < self.end.rows && self.bytes + bytes < self.end.bytes {
                self.add(rest, bytes);
                break;
            }
            let missing = self.missing(&rest);
            let last = rest.slice(0, missing);
            self.add(last, 0);
            parts.push(self.take());
            rest = rest.slice(missing, rest.rows - missing);
        }
        Ok(parts)
    }

    fn add(&mut self, batch: Batch, bytes: usize) {
        self.rows += batch.rows;
        self.bytes += bytes;
        self.batches.push(batch);
    }

    /// How many of these rows complete a part, or all of them.
    fn missing(&self, rows: &Batch) -> usize {
        let most = (self.end.rows - self.rows).min(rows.rows);
        first_enough(most, |count| self.bytes + bytes_of(&rows.slice(0, count)) >= self.end.bytes)
    }

    /// The rows that wait.
    pub(crate) fn take(&mut self) -> Vec<Batch> {
        (self.rows, self.bytes) = (0, 0);
        std::mem::take(&mut self.batches)
    }
}

/// The least count from 1 to `most` that is enough, or else `most`. More than what is enough is enough.
pub(crate) fn first_enough(most: usize, is_enough: impl Fn(usize) -> bool) -> usize {
    if most == 0 || !is_enough(most) {
        return most;
    }
    let (mut too_few, mut enough) = (0, most);
    while enough - too_few > 1 {
        let middle = too_few + (enough - too_few) / 2;
        if is_enough(middle) { enough = middle } else { too_few = middle }
    }
    enough
}

/// The columns of rows, each in one piece; `None` if there are none.
pub(crate) fn in_one_piece(batches: &[Batch]) -> Result<Option<Vec<ArrayRef>>> {
    let Some(first) = batches.first() else { return Ok(None) };
    let column = |i: usize| {
        let parts: Vec<&dyn Array> =
            batches.iter().filter_map(|b| b.columns.get(i)).map(AsRef::as_ref).collect();
        arrow_select::concat::concat(&parts).map_err(churn_core::arrow_error)
    };
    (0..first.columns.len()).map(column).collect::<Result<Vec<_>>>().map(Some)
}

/// Bytes of the values of rows, wherever they stand in memory: those of two batches are those of the batch of both.
pub(crate) fn bytes_of(rows: &Batch) -> usize {
    rows.columns.iter().map(|column| bytes_of_column(column.as_ref())).sum()
}

/// Bytes of the values of a column.
pub(crate) fn bytes_of_column(column: &dyn Array) -> usize {
    const VIEW: usize = 16;
    match column.data_type() {
        DataType::Utf8View => {
            let texts = column.as_string_view();
            // The length of a text is the lower half of the first word of its view.
            let lengths = texts.views().iter().map(|view| *view as u32 as usize);
            let bytes: usize = match texts.nulls().filter(|nulls| nulls.null_count() > 0) {
                None => lengths.sum(),
                Some(nulls) => {
                    lengths.zip(nulls).map(|(bytes, is_valid)| if is_valid { bytes } else { 0 }).sum()
                }
            };
            bytes + texts.len() * VIEW
        }
        DataType::List(_) => {
            let lists = column.as_list::<i32>();
            let offset = |row: usize| lists.value_offsets().get(row).map_or(0, |offset| *offset as usize);
            let (from, to) = (offset(0), offset(lists.len()));
            lists.len() * size_of::<i32>() + bytes_of_column(lists.values().slice(from, to - from).as_ref())
        }
        fixed => column.len() * fixed.primitive_width().unwrap_or(1),
    }
}

/// The type that a column is written in: as it is carried, but texts plainly.
fn stored(data: &DataType) -> DataType {
    match data {
        DataType::Dictionary(_, _) => churn_core::Type::of(data).map_or(DataType::Utf8View, |t| t.arrow()),
        other => other.clone(),
    }
}
