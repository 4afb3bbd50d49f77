//! Where the cells of a block stand that are needed; rows that do not fit the table left out.

use std::borrow::Cow;

use churn_kernels::cells as kernel;
use churn_kernels::grid::{Grid, Ragged};
use churn_kernels::known::known_part;
use churn_kernels::structure::Structure;

use super::options::CsvOptions;

/// Memory for the borders of a block, used again for the next.
#[derive(Debug, Default)]
pub(super) struct Borders {
    pub(super) structure: Structure,
    grid: Grid,
}

/// Which cells of a row are needed.
#[derive(Clone, Debug)]
pub(super) struct Needed {
    width: usize,
    /// Their positions, rising.
    positions: Vec<u32>,
    /// The number of each position among them.
    numbers: Vec<Option<usize>>,
}

impl Needed {
    /// The cells at these positions, of rows of `width` cells.
    pub(super) fn new(width: usize, positions: impl Iterator<Item = usize>) -> Needed {
        let width = width.max(1);
        let mut wanted = vec![false; width];
        for position in positions {
            if let Some(wanted) = wanted.get_mut(position) {
                *wanted = true;
            }
        }
        let positions: Vec<u32> = (0u32..).zip(&wanted).filter(|(_, w)| **w).map(|(i, _)| i).collect();
        let mut numbers = vec![None; width];
        for (number, position) in positions.iter().enumerate() {
            if let Some(slot) = numbers.get_mut(*position as usize) {
                *slot = Some(number);
            }
        }
        Needed { width, positions, numbers }
    }

    /// The cells of a row.
    pub(super) fn width(&self) -> usize {
        self.width
    }
}

/// The cells of a block.
#[derive(Debug)]
pub struct BlockCells<'a> {
    pub(super) bytes: &'a [u8],
    quote: Option<u8>,
    needed: &'a Needed,
    grid: &'a Grid,
}

/// A cell: its bytes, and whether quotes stood around them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct CsvCell {
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) quoted: bool,
}

impl<'a> BlockCells<'a> {
    /// Finds the cells of whole records, whose structure is known.
    pub fn find(
        bytes: &'a [u8],
        borders: &'a mut Borders,
        needed: &'a Needed,
        options: &CsvOptions,
    ) -> BlockCells<'a> {
        let Borders { structure, grid } = borders;
        grid.walk(bytes, structure, needed.width, &needed.positions, options.comment);
        BlockCells { bytes, quote: options.quote, needed, grid }
    }

    pub(super) fn rows(&self) -> usize {
        self.grid.rows()
    }

    /// Rows with another number of cells than the table.
    pub(super) fn ragged(&self) -> &[Ragged] {
        self.grid.ragged()
    }

    /// The byte around quoted cells.
    pub(super) fn quote(&self) -> Option<u8> {
        self.quote
    }

    /// The cells of a column; each is empty in one that is not needed.
    pub(super) fn column(&self, position: usize) -> kernel::Cells<'a> {
        let number = self.needed.numbers.get(position).copied().flatten();
        kernel::Cells::new(self.bytes, self.grid, number.unwrap_or(usize::MAX))
    }

    /// The cell, without its quotes and without the line end's carriage return.
    pub(super) fn get(&self, row: usize, column: usize) -> CsvCell {
        let (start, end) = self.column(column).range(row);
        self.unwrapped(start, end)
    }

    /// The cell in a range of bytes: without the quotes around it.
    #[inline]
    pub(super) fn unwrapped(&self, start: usize, end: usize) -> CsvCell {
        let quoted = self.quote.is_some() && self.bytes.get(start).copied() == self.quote && end > start;
        if quoted {
            let closed = end > start + 1 && self.bytes.get(end - 1).copied() == self.quote;
            return CsvCell { start: start + 1, end: if closed { end - 1 } else { end }, quoted: true };
        }
        CsvCell { start, end, quoted: false }
    }

    /// The cell's bytes as they stand in the block.
    #[inline]
    pub(super) fn raw(&self, cell: CsvCell) -> &'a [u8] {
        known_part(self.bytes, cell.start..cell.end)
    }

    /// The cell's bytes with doubled quotes made single.
    pub(super) fn plain(&self, cell: CsvCell) -> Cow<'a, [u8]> {
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
        let options = CsvOptions::default();
        let (needed, mut borders) = (Needed::new(width, 0..width), Borders::default());
        borders.structure.find(text.as_bytes(), options.dialect());
        let cells = BlockCells::find(text.as_bytes(), &mut borders, &needed, &options);
        let text = |r, c| String::from_utf8_lossy(&cells.plain(cells.get(r, c))).into_owned();
        let rows = (0..cells.rows()).map(|r| (0..width).map(|c| text(r, c)).collect()).collect();
        (rows, cells.ragged().len())
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
