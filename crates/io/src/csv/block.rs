//! The rows of one block: its cells as columns, and as lines where they are wanted so.

use std::sync::Arc;

use arrow_array::{
    Array, ArrayRef, BinaryViewArray, BooleanArray, StringViewArray, UInt32Array, new_null_array,
};
use arrow_schema::DataType;
use churn_core::counters::EXAMPLES;
use churn_core::{Batch, Error, ErrorKind, Event, OrFault, Result, Type, taken};
use churn_kernels::cells::Rows;
use churn_kernels::views::TextBlock;

use super::at::At;
use super::cells::{BlockCells, Borders};
use super::options::{BadCells, BadRows};
use super::pad::padded;
use super::source::Cast;
use super::{decode, passthrough};
use crate::source::{Decoded, LinesOnly, RowTest};

/// The rows of a block whose structure is known.
pub(super) fn decode_block(
    at: At<'_>,
    text: &TextBlock,
    borders: &mut Borders,
    test: Option<&mut dyn RowTest>,
) -> Result<Decoded> {
    let shared = at.shared;
    let lost = || Error::new(ErrorKind::Internal, "A block is of no file.");
    let needed = shared.needed.get(at.file).ok_or_else(lost)?;
    let cells = BlockCells::find(text.bytes(), borders, needed, &shared.options);
    let (mut events, mut examples) = (Vec::new(), Vec::new());
    let mut rejects = Vec::new();
    if let Some(first) = cells.ragged().first() {
        let width = shared.heads.get(at.file).or_fault("file of a block")?.names.len();
        match shared.options.bad_rows {
            BadRows::Stop => return Err(at.ragged(&cells, first, width)),
            BadRows::Pad => {
                let filled = cells.ragged().len();
                let whole = padded(text.bytes(), cells.ragged(), width, &shared.options);
                let whole = whole.map_err(|long| at.ragged(&cells, long, width))?;
                borders.structure.find(&whole, shared.options.dialect());
                let length = whole.len();
                let whole = TextBlock::new(whole, 0..length, &shared.pool);
                let mut decoded = decode_block(at, &whole, borders, test)?;
                decoded.events.push((Event::PaddedRow, filled));
                return Ok(decoded);
            }
            BadRows::Skip | BadRows::Rejects(_) => {}
        }
        events.push((Event::RaggedRow, cells.ragged().len()));
        let told = cells.ragged().iter().take(EXAMPLES).map(|row| at.ragged_example(&cells, row));
        examples.extend(told.map(|row| (Event::RaggedRow, row)));
        if let BadRows::Rejects(_) = shared.options.bad_rows {
            let raw = cells.ragged().iter().filter_map(|r| text.bytes().get(r.start..r.end));
            raw.for_each(|r| rejects.extend_from_slice(r));
        }
    }
    let mut columns = BlockColumns { at, text, cells: &cells, bad: Vec::new() };
    let rows = cells.rows();
    let batch = match test {
        None => columns.all(Rows::All(rows))?,
        Some(test) => columns.tested(rows, test)?,
    };
    let bad = columns.bad;
    if !bad.is_empty() {
        if shared.options.bad_cells == BadCells::Stop {
            let first = bad.iter().min().copied().unwrap_or_default();
            return Err(at.bad_cell(&cells, first.0, first.1));
        }
        events.push((Event::BadCell, bad.len()));
        let mut first = bad;
        first.sort_unstable();
        let told = first.iter().take(EXAMPLES).map(|(row, column)| at.bad_example(&cells, *row, *column));
        examples.extend(told.map(|cell| (Event::BadCell, cell)));
    }
    Ok(Decoded { batch, rows, events, examples, rejects, skipped: 0 })
}

/// Decodes the columns of one block.
struct BlockColumns<'a> {
    at: At<'a>,
    text: &'a TextBlock,
    cells: &'a BlockCells<'a>,
    /// Row and column of each bad cell.
    bad: Vec<(usize, usize)>,
}

impl BlockColumns<'_> {
    fn column(&mut self, column: usize, rows: Rows<'_>) -> Result<arrow_array::ArrayRef> {
        let shared = self.at.shared;
        let kind = shared.kinds.get(column).cloned().unwrap_or(Type::Text);
        if shared.file_column == Some(column) {
            let file = shared.heads.get(self.at.file).map_or("", |h| h.shown.as_str());
            return Ok(Arc::new(StringViewArray::from_iter_values(std::iter::repeat_n(file, rows.len()))));
        }
        let cast = shared.casts.get(self.at.file).and_then(|c| c.get(column)).copied();
        let Some(cast @ Cast { position: Some(position), .. }) = cast else {
            return Ok(new_null_array(&kind.arrow(), rows.len()));
        };
        let pattern = shared.names.get(column).filter(|_| cast.by_pattern);
        let pattern = pattern.and_then(|name| shared.options.pattern_of(name));
        let cast = (cast, pattern);
        let decoded = decode::column(self.text, self.cells, position, &kind, cast, rows, &shared.options)
            .map_err(|bad| self.at.not_utf8(self.text.bytes(), bad.0))?;
        self.bad.extend(decoded.bad.into_iter().map(|row| (row, column)));
        Ok(decoded.array)
    }

    fn all(&mut self, rows: Rows<'_>) -> Result<Batch> {
        let known = vec![None; self.at.shared.request.columns.len()];
        self.rest(known, rows)
    }

    /// The columns of the test first; the others only of the rows that pass.
    fn tested(&mut self, rows: usize, test: &mut dyn RowTest) -> Result<Batch> {
        let wanted = &self.at.shared.request.columns;
        let tested: Vec<usize> = test.columns().to_vec();
        let columns = tested
            .iter()
            .filter_map(|i| wanted.get(*i))
            .map(|c| self.column(*c, Rows::All(rows)))
            .collect::<Result<_>>()?;
        let part = Batch { columns, rows };
        let keep = test.test(&part)?;
        let is_all = keep.true_count() == rows;
        let part = if is_all { part } else { part.filter(&keep)? };
        let mut known = vec![None; wanted.len()];
        for (place, array) in tested.iter().zip(part.columns) {
            if let Some(slot) = known.get_mut(*place) {
                *slot = Some(array);
            }
        }
        if is_all {
            return self.rest(known, Rows::All(rows));
        }
        self.rest(known, Rows::These(&true_rows(&keep)))
    }

    /// The columns that are not known yet, and the rows as they stand if they are wanted so.
    fn rest(&mut self, known: Vec<Option<ArrayRef>>, rows: Rows<'_>) -> Result<Batch> {
        let shared = self.at.shared;
        if let Some(only) = &shared.lines_only {
            return self.lines(only, known, rows);
        }
        let columns = shared.request.columns.iter().zip(known);
        let mut columns = columns
            .map(|(column, known)| known.map_or_else(|| self.column(*column, rows), Ok))
            .collect::<Result<Vec<_>>>()?;
        if shared.lines.is_some() {
            let known: Vec<_> = columns.iter().cloned().map(Some).collect();
            let none = || new_null_array(&DataType::BinaryView, rows.len());
            columns.push(self.standing(&known, rows).map_or_else(none, |lines| Arc::new(lines)));
        }
        Ok(Batch { columns, rows: rows.len() })
    }

    /// For passthrough: the bytes of each row that can be copied as they are, null for other rows; `None` if the dialect
    /// or the column order of this file rules it out. A column that was not decoded is `None`.
    fn standing(&self, columns: &[Option<ArrayRef>], rows: Rows<'_>) -> Option<BinaryViewArray> {
        let forms = self.at.shared.lines.as_ref()?.get(self.at.file)?.as_ref()?;
        Some(passthrough::lines(forms, self.text, self.cells, columns, rows))
    }

    /// For passthrough: all rows as lines of bytes, and the columns that later operators need. Rows that cannot be copied
    /// are decoded and encoded; of the others only the needed columns are decoded.
    fn lines(
        &mut self,
        only: &LinesOnly,
        mut columns: Vec<Option<ArrayRef>>,
        rows: Rows<'_>,
    ) -> Result<Batch> {
        let shared = self.at.shared;
        let forms = shared.lines.as_ref().and_then(|files| files.get(self.at.file)?.as_ref());
        let waits = |place: usize| {
            let form = forms.and_then(|forms| forms.get(place));
            !only.read.contains(&place) && form.is_some_and(|form| form.is_told_unread())
        };
        // Cells that are copied without being decoded must be valid UTF-8 all the same.
        let is_text = self.text.is_utf8();
        for (place, (slot, column)) in columns.iter_mut().zip(&shared.request.columns).enumerate() {
            if slot.is_none() && !(is_text && waits(place)) {
                *slot = Some(self.column(*column, rows)?);
            }
        }
        let standing = self.standing(&columns, rows);
        let is_own = |place: &u32| standing.as_ref().is_none_or(|lines| lines.is_null(*place as usize));
        let own: Vec<u32> = (0..rows.len() as u32).filter(is_own).collect();
        let own_rows: Vec<u32> = own.iter().map(|place| rows.row(*place as usize) as u32).collect();
        let places = UInt32Array::from(own);
        let mut own = Batch { columns: Vec::new(), rows: own_rows.len() };
        for (known, column) in columns.iter().zip(&shared.request.columns) {
            own.columns.push(match known {
                Some(array) => taken(array, &places)?,
                None => self.column(*column, Rows::These(&own_rows))?,
            });
        }
        let lines = only.encoder.lines(&own, standing.as_ref())?;
        let unread = || new_null_array(&DataType::Null, rows.len());
        let mut columns: Vec<ArrayRef> =
            columns.into_iter().map(|known| known.unwrap_or_else(unread)).collect();
        columns.push(Arc::new(lines));
        Ok(Batch { columns, rows: rows.len() })
    }
}

/// The rows that are true.
fn true_rows(keep: &BooleanArray) -> Vec<u32> {
    let bits = match keep.nulls() {
        None => keep.values().clone(),
        Some(nulls) => keep.values() & nulls.inner(),
    };
    bits.set_indices_u32().collect()
}
