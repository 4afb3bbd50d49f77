//! Columns from their cells: one tight loop a type, over the common form of a cell.
//!
//! The common number has at most eight characters, the common day ten: they are loaded as words and turned into digits
//! without a branch on any of them. What is not of the common form (quoted, padded, longer, no number at all) is listed
//! as odd, and the caller looks at it again with all its rules.

use crate::chunk::{CHUNK, Chunk};
use crate::grid::Grid;
use crate::known::{known, known_part};
use crate::{calendar, date_parsing, number_parsing};

/// The cells of one column of a block.
#[derive(Clone, Copy, Debug)]
pub struct Cells<'a> {
    bytes: &'a [u8],
    grid: &'a Grid,
    number: usize,
}

/// The rows to read.
#[derive(Clone, Copy, Debug)]
pub enum Rows<'a> {
    /// The first so many.
    All(usize),
    /// These, in this order.
    These(&'a [u32]),
}

impl Rows<'_> {
    /// How many there are.
    pub fn len(&self) -> usize {
        match self {
            Rows::All(rows) => *rows,
            Rows::These(rows) => rows.len(),
        }
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The row at a place among them.
    #[inline(always)]
    pub fn row(&self, place: usize) -> usize {
        match self {
            Rows::All(_) => place,
            Rows::These(rows) => known(rows, place) as usize,
        }
    }

    /// Calls `f` with each row's number.
    #[inline(always)]
    pub fn for_each(&self, mut f: impl FnMut(usize)) {
        match self {
            Rows::All(rows) => (0..*rows).for_each(f),
            Rows::These(rows) => rows.iter().for_each(|row| f(*row as usize)),
        }
    }
}

impl<'a> Cells<'a> {
    /// The cells of a grid over `bytes` that were placed as the `number`th; none if there is no such.
    pub fn new(bytes: &'a [u8], grid: &'a Grid, number: usize) -> Cells<'a> {
        Cells { bytes, grid, number }
    }

    /// Where a cell starts and ends.
    #[inline(always)]
    pub fn range(&self, row: usize) -> (usize, usize) {
        let (start, length) = self.grid.place(self.number, row).unwrap_or_default();
        (start as usize, start as usize + length as usize)
    }

    /// The cells of 64 rows from a multiple of 64 on, as they lie or moved to `spare`; behind the last they may be any.
    #[inline(always)]
    pub(crate) fn chunk<'c>(&'c self, rows: Rows<'_>, from: usize, spare: &'c mut Spans) -> Chunk<'c> {
        let as_they_lie = match rows {
            Rows::All(_) => self.grid.places(self.number, from / CHUNK),
            Rows::These(_) => None,
        };
        let (starts, lengths) = as_they_lie.unwrap_or_else(|| {
            for i in 0..CHUNK.min(rows.len() - from) {
                let place = self.grid.place(self.number, rows.row(from + i));
                (spare.starts[i], spare.lengths[i]) = place.unwrap_or_default();
            }
            (&spare.starts, &spare.lengths)
        });
        Chunk { bytes: self.bytes, starts, lengths }
    }

    #[inline(always)]
    fn text(&self, (start, end): (usize, usize)) -> &'a [u8] {
        known_part(self.bytes, start..end)
    }

    /// Reads decimal fractions; `parse` reads those that are not of the common form.
    pub fn floats(&self, rows: Rows<'_>, parse: fn(&[u8]) -> Option<f64>) -> Column<f64> {
        self.in_chunks(rows, number_parsing::fractions, parse)
    }

    /// Reads whole numbers; `parse` reads those that are not of the common form.
    pub fn ints(&self, rows: Rows<'_>, parse: fn(&[u8]) -> Option<i64>) -> Column<i64> {
        self.in_chunks(rows, number_parsing::wholes, parse)
    }

    /// Reads days.
    pub fn dates(&self, rows: Rows<'_>) -> Column<i32> {
        self.in_chunks(rows, date_parsing::days, calendar::parse_date)
    }

    /// Reads cells of the common form many at a time, and the others one by one.
    #[inline(always)]
    fn in_chunks<T: Copy + Default>(
        &self,
        rows: Rows<'_>,
        common: fn(Chunk<'_>, &mut [T; CHUNK]) -> u64,
        parse: fn(&[u8]) -> Option<T>,
    ) -> Column<T> {
        let count = rows.len();
        let mut column = Column { values: Vec::with_capacity(count), empty: Vec::new(), odd: Vec::new() };
        let (mut spare, mut values) = (Spans::default(), [T::default(); CHUNK]);
        let mut first = 0;
        while first < count {
            let some = CHUNK.min(count - first);
            let bad = common(self.chunk(rows, first, &mut spare), &mut values);
            let mut bad = bad & (u64::MAX >> (CHUNK - some));
            while bad != 0 {
                let i = bad.trailing_zeros() as usize;
                bad &= bad - 1;
                let text = self.raw(rows.row(first + i));
                values[i] = parse(text).unwrap_or_else(|| {
                    let list = if text.is_empty() { &mut column.empty } else { &mut column.odd };
                    list.push((first + i) as u32);
                    T::default()
                });
            }
            column.values.extend_from_slice(&values[..some]);
            first += some;
        }
        column
    }

    /// Reads anything else from a cell's bytes.
    #[inline(always)]
    pub fn parsed<T: Copy + Default>(&self, rows: Rows<'_>, parse: impl Fn(&[u8]) -> Option<T>) -> Column<T> {
        let (mut values, mut empty, mut odd) = (Vec::with_capacity(rows.len()), Vec::new(), Vec::new());
        rows.for_each(|row| {
            let text = self.raw(row);
            let value = parse(text);
            if value.is_none() {
                let list = if text.is_empty() { &mut empty } else { &mut odd };
                list.push(values.len() as u32);
            }
            values.push(value.unwrap_or_default());
        });
        Column { values, empty, odd }
    }

    /// The cell's bytes as they stand in the block.
    pub fn raw(&self, row: usize) -> &'a [u8] {
        self.text(self.range(row))
    }
}

/// Where the cells of up to 64 rows start, and how long they are.
pub(crate) struct Spans {
    starts: [u32; CHUNK],
    lengths: [u32; CHUNK],
}

impl Default for Spans {
    fn default() -> Self {
        Spans { starts: [0; CHUNK], lengths: [0; CHUNK] }
    }
}

/// A column that was read.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Column<T> {
    /// A value for each row.
    pub values: Vec<T>,
    /// Places among the values of empty cells.
    pub empty: Vec<u32>,
    /// Places among the values of cells that are not of the common form.
    pub odd: Vec<u32>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number;
    use crate::structure::{Dialect, Structure};
    use proptest::prelude::*;
    use rstest::rstest;

    fn with_cells<R>(texts: &[&str], read: impl Fn(Cells<'_>, Rows<'_>) -> R) -> R {
        let lines: String = texts.iter().map(|t| format!("x,{t}\n")).collect();
        let (mut structure, mut grid) = (Structure::default(), Grid::default());
        structure.find(lines.as_bytes(), Dialect { separator: b',', quote: None, comment: None });
        grid.walk(lines.as_bytes(), &structure, 2, &[1], None);
        let cells = Cells::new(lines.as_bytes(), &grid, 0);
        read(cells, Rows::All(texts.len()))
    }

    #[rstest]
    #[case("1", Some(1.0))]
    #[case("12.5", Some(12.5))]
    #[case("1234567.", Some(1_234_567.0))]
    #[case("0.000001", Some(0.000001))]
    #[case(".5", Some(0.5))]
    #[case("-3.25", Some(-3.25))]
    #[case("123456789.5", Some(123_456_789.5))]
    #[case(".", None)]
    #[case("1.2.3", None)]
    #[case("12a", None)]
    #[case("1 ", None)]
    #[case("/", None)]
    #[case(":", None)]
    fn floats(#[case] text: &str, #[case] expected: Option<f64>) {
        let column = with_cells(&[text, ""], |cells, rows| cells.floats(rows, number::parse_float));
        assert_eq!(column.values.first().copied(), Some(expected.unwrap_or(0.0)));
        assert_eq!(column.odd.is_empty(), expected.is_some());
        assert_eq!(column.empty, [1]);
    }

    proptest! {
        #[test]
        fn days_as_by_the_plain_way(texts in prop::collection::vec("(19|20)[0-9]{2}-[01][0-9]-[0-3][0-9]|1970-01-01[ x0]?|[-0-9]{0,10}", 1..200)) {
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            let days = with_cells(&texts, |cells, rows| cells.dates(rows));
            for (row, text) in texts.iter().enumerate() {
                let listed = days.empty.contains(&(row as u32)) || days.odd.contains(&(row as u32));
                prop_assert_eq!((!listed).then(|| days.values[row]), calendar::parse_date(text.as_bytes()));
                prop_assert_eq!(days.empty.contains(&(row as u32)), text.is_empty());
            }
        }

        #[test]
        fn numbers_as_by_the_plain_way(texts in prop::collection::vec("[-0-9.a/:]{0,10}|[0-9]{1,5}[.]?[0-9]{0,3}", 1..200)) {
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            let floats = with_cells(&texts, |cells, rows| cells.floats(rows, number::parse_float));
            let ints = with_cells(&texts, |cells, rows| cells.ints(rows, number::parse_int));
            for (row, text) in texts.iter().enumerate() {
                let at = row as u32;
                let listed = |lists: [&Vec<u32>; 2]| lists.iter().any(|l| l.contains(&at));
                let float = (!listed([&floats.empty, &floats.odd])).then(|| floats.values[row]);
                let int = (!listed([&ints.empty, &ints.odd])).then(|| ints.values[row]);
                prop_assert_eq!(float, number::parse_float(text.as_bytes()));
                prop_assert_eq!(int, number::parse_int(text.as_bytes()));
                let exact = with_cells(&[text], |cells, rows| cells.ints(rows, number::parse_exact_int));
                let read = exact.empty.is_empty() && exact.odd.is_empty();
                prop_assert_eq!(read, number::parse_exact_int(text.as_bytes()).is_some(), "{}", text);
            }
        }
    }
}
