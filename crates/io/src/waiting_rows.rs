//! Rows that wait to be written until there are enough of them for a part.
//!
//! Where a part ends is told by the rows alone: how they came in batches, how many threads made them and how much memory
//! there is do not change what is written.

use std::ops::Range;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, Field as ArrowField, Schema};
use churn_core::{Batch, Field, Result};
use churn_kernels::known::known;

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

/// Rows that are written together, and bytes of their values.
pub(crate) struct WaitingPart {
    pub(crate) batches: Vec<Batch>,
    pub(crate) bytes: usize,
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
    pub(crate) fn push(&mut self, batch: Batch) -> Result<Vec<WaitingPart>> {
        let columns = batch.columns.into_iter().zip(self.schema.fields());
        let columns = columns.map(|(c, f)| cast_to(c, f.data_type())).collect::<Result<_>>()?;
        let mut rest = Batch { columns, rows: batch.rows };
        let mut parts = Vec::new();
        while rest.rows > 0 {
            let most = (self.end.rows - self.rows).min(rest.rows);
            let bytes = |rows: Range<usize>| bytes_of(&rest.slice(rows.start, rows.len()));
            let (rows, bytes) = first_reaching(most, self.end.bytes - self.bytes, bytes);
            (self.rows, self.bytes) = (self.rows + rows, self.bytes + bytes);
            self.batches.push(rest.slice(0, rows));
            if self.rows >= self.end.rows || self.bytes >= self.end.bytes {
                parts.push(self.take());
            }
            rest = rest.slice(rows, rest.rows - rows);
        }
        Ok(parts)
    }

    /// The rows that wait.
    pub(crate) fn take(&mut self) -> WaitingPart {
        self.rows = 0;
        WaitingPart { batches: std::mem::take(&mut self.batches), bytes: std::mem::take(&mut self.bytes) }
    }
}

/// How many of the first `most` rows reach `wanted` bytes, or all of them, and the bytes of those; `bytes` tells those of
/// some rows.
fn first_reaching(most: usize, wanted: usize, bytes: impl Fn(Range<usize>) -> usize) -> (usize, usize) {
    // Rows that are looked at together: fewer where all of them are too many.
    let mut step = 1 << 10;
    let (mut rows, mut held) = (0, 0);
    while rows < most {
        let end = (rows + step).min(most);
        let more = bytes(rows..end);
        if held + more >= wanted && end - rows > 1 {
            step = (end - rows) / 2;
            continue;
        }
        (rows, held) = (end, held + more);
        if held >= wanted {
            break;
        }
    }
    (rows, held)
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

fn bytes_of_column(column: &dyn Array) -> usize {
    const VIEW: usize = 16;
    match column.data_type() {
        DataType::Utf8View => {
            let texts = column.as_string_view();
            // The length of a text is the lower half of the first word of its view.
            let length = |views: &[u128]| views.iter().map(|view| *view as u32 as usize).sum::<usize>();
            let bytes: usize = match texts.nulls().filter(|nulls| nulls.null_count() > 0) {
                None => length(texts.views()),
                Some(nulls) => {
                    let some = |(from, to): (usize, usize)| texts.views().get(from..to).map_or(0, length);
                    nulls.valid_slices().map(some).sum()
                }
            };
            bytes + texts.len() * VIEW
        }
        DataType::List(_) => {
            let lists = column.as_list::<i32>();
            let offset = |row: usize| known(lists.value_offsets(), row) as usize;
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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_first_rows_that_reach_some_bytes(sizes in prop::collection::vec(0usize..40, 0..3000), wanted in 1usize..60_000) {
            let found = first_reaching(sizes.len(), wanted, |rows| sizes[rows].iter().sum());
            let mut held = 0;
            let enough = sizes.iter().position(|size| {
                held += size;
                held >= wanted
            });
            prop_assert_eq!(found, (enough.map_or(sizes.len(), |row| row + 1), held));
        }

        /// Parts are the same however rows come in batches.
        #[test]
        fn parts_do_not_depend_on_batches(
            lengths in prop::collection::vec(prop::option::of(0usize..50), 1..400),
            cuts in prop::collection::vec(1usize..90, 1..40),
        ) {
            let text = |length: &Option<usize>| length.map(|length| "m".repeat(length));
            let texts: arrow_array::StringViewArray = lengths.iter().map(text).collect();
            let field = Field { id: 0, name: "note".into(), kind: churn_core::Type::Text, data: DataType::Utf8View };
            let whole = Batch { rows: texts.len(), columns: vec![Arc::new(texts)] };
            let parts = |cuts: &mut dyn Iterator<Item = usize>| {
                let mut waiting = WaitingRows::new(std::slice::from_ref(&field), PartEnd { rows: 60, bytes: 1500 });
                let (mut from, mut found) = (0, Vec::new());
                while from < whole.rows {
                    let rows = cuts.next().unwrap_or(1).min(whole.rows - from);
                    found.extend(waiting.push(whole.slice(from, rows)).unwrap());
                    from += rows;
                }
                found.push(waiting.take());
                let rows = |part: &WaitingPart| part.batches.iter().map(|batch| batch.rows).sum::<usize>();
                found.iter().map(|part| (rows(part), part.bytes)).collect::<Vec<_>>()
            };
            prop_assert_eq!(parts(&mut std::iter::once(whole.rows)), parts(&mut cuts.into_iter().cycle()));
        }
    }
}
