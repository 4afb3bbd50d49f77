//! Where each cell of a block stands: a regular grid, rows that do not fit it left out.

use std::borrow::Cow;
use std::ops::Range;

use churn_kernels::structure;

use super::options::CsvOptions;

/// The cells of a block.
#[derive(Debug)]
pub(super) struct Cells<'a> {
    pub(super) bytes: &'a [u8],
    quote: Option<u8>,
    width: usize,
    /// Where each row starts.
    starts: Vec<u32>,
    /// Where each cell ends, row by row.
    ends: Vec<u32>,
    /// Rows with another number of cells than the table.
    pub(super) ragged: Vec<Ragged>,
    /// Where a quote opens that never closes.
    pub(super) open_quote: Option<usize>,
}

/// A row with the wrong number of cells.
#[derive(Debug)]
pub(super) struct Ragged {
    pub(super) range: Range<usize>,
    pub(super) cells: usize,
}

/// A cell: its bytes, and whether quotes stood around them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Cell {
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) quoted: bool,
}

impl<'a> Cells<'a> {
    /// Finds the cells of a block of whole records, each with a line end.
    pub(super) fn find(bytes: &'a [u8], width: usize, options: &CsvOptions) -> Cells<'a> {
        let mut positions = Vec::with_capacity(bytes.len() / 6 + 64);
        let found = structure::index(bytes, options.dialect(), &mut positions);
        let ends_line = |p: &u32| bytes.get(*p as usize) == Some(&b'\n');
        let width = width.max(1);
        let mut cells = Cells {
            bytes,
            quote: options.quote,
            width,
            starts: Vec::with_capacity(found.line_ends),
            ends: Vec::new(),
            ragged: Vec::new(),
            open_quote: found.open_quote,
        };
        let regular = options.comment.is_none()
            && found.line_ends * width == positions.len()
            && positions.chunks_exact(width).all(|row| row.last().is_some_and(ends_line));
        if regular {
            let mut start = 0;
            for row in positions.chunks_exact(width) {
                cells.starts.push(start);
                start = row.last().map_or(0, |p| p + 1);
            }
            cells.ends = positions;
        } else {
            cells.keep_fitting(&positions, options.comment);
        }
        cells
    }

    /// The slow way: each row is looked at, and kept if it fits.
    fn keep_fitting(&mut self, positions: &[u32], comment: Option<u8>) {
        let mut start = 0u32;
        for row in positions.split_inclusive(|p| self.bytes.get(*p as usize) == Some(&b'\n')) {
            let Some(end) = row.last().copied() else { break };
            let line = self.bytes.get(start as usize..end as usize).unwrap_or_default();
            let blank = line.is_empty() || line == b"\r";
            let is_comment = comment.is_some() && line.first().copied() == comment;
            if is_comment || (blank && self.width > 1) {
                // No row.
            } else if row.len() == self.width {
                self.starts.push(start);
                self.ends.extend_from_slice(row);
            } else {
                self.ragged.push(Ragged { range: start as usize..end as usize + 1, cells: row.len() });
            }
            start = end + 1;
        }
    }

    pub(super) fn rows(&self) -> usize {
        self.starts.len()
    }

    /// Where a row starts.
    pub(super) fn start_of_row(&self, row: usize) -> usize {
        self.starts.get(row).map_or(0, |s| *s as usize)
    }

    /// The cell, without its quotes and without the line end's carriage return.
    #[inline]
    pub(super) fn get(&self, row: usize, column: usize) -> Cell {
        let at = row * self.width + column;
        let start = if column == 0 {
            self.start_of_row(row)
        } else {
            self.ends.get(at - 1).map_or(0, |e| *e as usize + 1)
        };
        let mut end = self.ends.get(at).map_or(start, |e| *e as usize);
        if column + 1 == self.width && end > start && self.bytes.get(end - 1) == Some(&b'\r') {
            end -= 1;
        }
        let quoted = self.quote.is_some() && self.bytes.get(start).copied() == self.quote && end > start;
        if quoted {
            let closed = end > start + 1 && self.bytes.get(end - 1).copied() == self.quote;
            return Cell { start: start + 1, end: if closed { end - 1 } else { end }, quoted: true };
        }
        Cell { start, end, quoted: false }
    }

    /// The cell's bytes as they stand in the block.
    #[inline]
    pub(super) fn raw(&self, cell: Cell) -> &'a [u8] {
        self.bytes.get(cell.start..cell.end).unwrap_or_default()
    }

    /// The cell's bytes with doubled quotes made single.
    pub(super) fn plain(&self, cell: Cell) -> Cow<'a, [u8]> {
        let raw = self.raw(cell);
        match self.quote.filter(|_| cell.quoted) {
            Some(quote) if memchr::memchr(quote, raw).is_some() => {
                let closed = self.bytes.get(cell.end) == Some(&quote);
                let whole = self.bytes.get(cell.start..cell.end + usize::from(closed)).unwrap_or(raw);
                Cow::Owned(unquoted(whole, quote))
            }
            _ => Cow::Borrowed(raw),
        }
    }
}

/// What a cell holds after its opening quote; text after the closing quote stays as it stands.
fn unquoted(raw: &[u8], quote: u8) -> Vec<u8> {
    let mut out = Vec::with_capacity(raw.len());
    let mut bytes = raw.iter().copied().peekable();
    let mut inside = true;
    while let Some(byte) = bytes.next() {
        if byte != quote || !inside {
            out.push(byte);
        } else if bytes.peek() == Some(&quote) {
            out.push(quote);
            bytes.next();
        } else {
            inside = false;
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn grid(text: &str, width: usize) -> (Vec<Vec<String>>, usize) {
        let cells = Cells::find(text.as_bytes(), width, &CsvOptions::default());
        let text = |r, c| String::from_utf8_lossy(&cells.plain(cells.get(r, c))).into_owned();
        let rows = (0..cells.rows()).map(|r| (0..width).map(|c| text(r, c)).collect()).collect();
        (rows, cells.ragged.len())
    }

    #[rstest]
    #[case("a,b\nc,d\n", &[["a", "b"], ["c", "d"]], 0)]
    #[case("a,b\r\nc,d\r\n", &[["a", "b"], ["c", "d"]], 0)]
    #[case("a,b\n\nc,d\n", &[["a", "b"], ["c", "d"]], 0)]
    #[case("a,b\nc\nd,e,f\ng,h\n", &[["a", "b"], ["g", "h"]], 2)]
    #[case("\"a,\"\"b\"\"\",\"c\nd\"\n", &[["a,\"b\"", "c\nd"]], 0)]
    #[case("5\" pipe,\"x\"y\n", &[["5\" pipe", "xy"]], 0)]
    #[case("\"x\"y\",\"\"\"\"\n", &[["xy\"", "\""]], 0)]
    #[case("\"\",\n", &[["", ""]], 0)]
    fn rows_and_cells(#[case] text: &str, #[case] rows: &[[&str; 2]], #[case] ragged: usize) {
        let (found, left_out) = grid(text, 2);
        assert_eq!(found, rows);
        assert_eq!(left_out, ragged);
    }

    #[test]
    fn an_empty_line_is_a_row_of_one_column() {
        assert_eq!(grid("a\n\nb\n", 1).0, [["a"], [""], ["b"]]);
    }
}
