//! Columns from their cells: one tight loop a type, over the common form of a cell.
//!
//! The common number has at most eight characters: they are loaded as one word and turned into digits without a
//! branch on any of them. What is not of the common form (quoted, padded, longer, no number at all) is listed as
//! odd, and the caller looks at it again with all its rules.

use crate::grid::{Grid, Slot};
use crate::short::{self, CHUNK};
use crate::{calendar, hash, number};

/// The cells of one column: their places are in the records of rows.
#[derive(Clone, Copy, Debug)]
pub struct Cells<'a> {
    bytes: &'a [u8],
    records: &'a [u32],
    stride: usize,
    start: usize,
    /// 1 where a separator stands before the cell.
    skip: u32,
    end: usize,
    /// Whether a carriage return before the end is not part of the cell: in a row's last column.
    last: bool,
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
            Rows::These(rows) => rows.get(place).map_or(0, |row| *row as usize),
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
    /// The cells between two places of each row of a grid over `bytes`.
    pub fn new(bytes: &'a [u8], grid: &'a Grid, start: Slot, end: Slot) -> Cells<'a> {
        let (records, stride) = grid.records();
        Cells {
            bytes,
            records,
            stride,
            start: start.place(),
            skip: u32::from(start != Slot::Start),
            end: end.place(),
            last: end == Slot::End,
        }
    }

    /// Where a cell starts and ends.
    #[inline(always)]
    pub fn range(&self, row: usize) -> (usize, usize) {
        let at = row * self.stride;
        self.trimmed(
            self.records.get(at + self.start).map_or(0, |s| (*s + self.skip) as usize),
            self.records.get(at + self.end).map_or(0, |e| *e as usize),
        )
    }

    /// Where some cells stand: of so many rows from one on.
    ///
    /// Loops that have them in arrays need no more than a register or two for each.
    #[inline]
    pub(crate) fn spans(&self, rows: Rows<'_>, from: usize, some: usize, into: &mut Spans) {
        let spans = into.starts.iter_mut().zip(&mut into.lengths).take(some);
        let put = |(to, length): (&mut u32, &mut u32), (start, end): (usize, usize)| {
            (*to, *length) = (start as u32, end.saturating_sub(start) as u32);
        };
        match rows {
            Rows::All(_) => spans.zip(from..).for_each(|(span, row)| put(span, self.range(row))),
            Rows::These(rows) => {
                let rows = rows.get(from..).unwrap_or_default();
                spans.zip(rows).for_each(|(span, row)| put(span, self.range(*row as usize)));
            }
        }
    }

    #[inline(always)]
    fn trimmed(&self, start: usize, mut end: usize) -> (usize, usize) {
        if self.last && end > start && self.bytes.get(end - 1) == Some(&b'\r') {
            end -= 1;
        }
        (start, end)
    }

    #[inline(always)]
    fn text(&self, (start, end): (usize, usize)) -> &'a [u8] {
        self.bytes.get(start..end).unwrap_or_default()
    }

    /// Reads a column of values; `parse` is given the block, and where a cell starts and ends in it.
    #[inline(always)]
    pub fn read<T: Copy + Default>(
        &self,
        rows: Rows<'_>,
        parse: impl Fn(&[u8], usize, usize) -> Option<T>,
    ) -> Column<T> {
        let (mut empty, mut odd) = (Vec::new(), Vec::new());
        let mut one = |place: usize, (start, end): (usize, usize)| {
            parse(self.bytes, start, end).unwrap_or_else(|| {
                let list = if start == end { &mut empty } else { &mut odd };
                list.push(place as u32);
                T::default()
            })
        };
        let values = match rows {
            Rows::All(rows) => (0..rows).map(|row| one(row, self.range(row))).collect(),
            Rows::These(rows) => {
                let cells = rows.iter().enumerate();
                cells.map(|(place, row)| one(place, self.range(*row as usize))).collect()
            }
        };
        Column { values, empty, odd }
    }

    /// Reads decimal fractions.
    pub fn floats(&self, rows: Rows<'_>) -> Column<f64> {
        self.in_chunks(rows, short::fractions, number::parse_float)
    }

    /// Reads whole numbers.
    pub fn ints(&self, rows: Rows<'_>) -> Column<i64> {
        self.in_chunks(rows, short::wholes, number::parse_int)
    }

    /// Reads numbers of at most eight characters many at a time, and the others one by one.
    #[inline(always)]
    fn in_chunks<T: Copy + Default>(
        &self,
        rows: Rows<'_>,
        short: fn(&short::Chunk, &mut [T; CHUNK]) -> u64,
        parse: fn(&[u8]) -> Option<T>,
    ) -> Column<T> {
        let count = rows.len();
        let mut column = Column { values: Vec::with_capacity(count), empty: Vec::new(), odd: Vec::new() };
        let (mut cells, mut spans) = (short::Chunk::default(), Spans::default());
        let mut values = [T::default(); CHUNK];
        let mut first = 0;
        while first < count {
            let some = CHUNK.min(count - first);
            if !(matches!(rows, Rows::All(_)) && some == CHUNK && self.load(first, &mut cells)) {
                self.spans(rows, first, some, &mut spans);
                for i in 0..some {
                    cells.put(i, eight(self.bytes, spans.starts[i] as usize), u64::from(spans.lengths[i]));
                }
            }
            let mut bad = short(&cells, &mut values) & (u64::MAX >> (CHUNK - some));
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

    /// Loads the cells of a whole chunk of rows at once, where the processor can; gives whether it did.
    fn load(&self, first: usize, cells: &mut short::Chunk) -> bool {
        if self.last {
            return false;
        }
        let records = self.records.get(first * self.stride..).unwrap_or_default();
        cells.load(
            self.bytes,
            records,
            short::Places { stride: self.stride, start: self.start, skip: self.skip, end: self.end },
        )
    }

    /// Reads days.
    pub fn dates(&self, rows: Rows<'_>) -> Column<i32> {
        let mut known = [KnownDay::default(); KNOWN_DAYS];
        let mut column =
            Column { values: Vec::with_capacity(rows.len()), empty: Vec::new(), odd: Vec::new() };
        let (mut spans, mut days) = (Spans::default(), [0; CHUNK]);
        while column.values.len() < rows.len() {
            let first = column.values.len();
            let some = CHUNK.min(rows.len() - first);
            self.spans(rows, first, some, &mut spans);
            for (i, slot) in days.iter_mut().enumerate().take(some) {
                let (start, length) = (spans.starts[i] as usize, spans.lengths[i] as usize);
                let (century, rest) = (eight(self.bytes, start) as u16, eight(self.bytes, start + 2));
                let known = &mut known[(hash::of_u64(rest) >> 32) as usize % KNOWN_DAYS];
                if length == 10 && (known.century, known.rest) == (century, rest) {
                    *slot = known.day;
                    continue;
                }
                let day = calendar::parse_date(self.text((start, start + length)));
                match day {
                    Some(day) => *known = KnownDay { century, rest, day },
                    None if length == 0 => column.empty.push((first + i) as u32),
                    None => column.odd.push((first + i) as u32),
                }
                *slot = day.unwrap_or_default();
            }
            column.values.extend_from_slice(&days[..some]);
        }
        column
    }

    /// Reads anything else from a cell's bytes.
    pub fn parsed<T: Copy + Default>(&self, rows: Rows<'_>, parse: impl Fn(&[u8]) -> Option<T>) -> Column<T> {
        self.read(rows, |bytes, start, end| parse(bytes.get(start..end)?))
    }

    /// The cell's bytes as they stand in the block.
    pub fn raw(&self, row: usize) -> &'a [u8] {
        self.text(self.range(row))
    }
}

/// Days of a block that are known, by their text: of few different ones, whatever their order, each is read once.
const KNOWN_DAYS: usize = 256;

/// A day's text, `YYYY-MM-DD` as its first two bytes and the other eight, and the day.
#[derive(Clone, Copy)]
struct KnownDay {
    century: u16,
    rest: u64,
    day: i32,
}

impl Default for KnownDay {
    fn default() -> Self {
        KnownDay { century: u16::from_le_bytes(*b"19"), rest: u64::from_le_bytes(*b"70-01-01"), day: 0 }
    }
}

/// Where the cells of up to 64 rows start, and how long they are.
pub(crate) struct Spans {
    pub(crate) starts: [u32; CHUNK],
    pub(crate) lengths: [u32; CHUNK],
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

/// Eight bytes of the block from `at`, lowest first; those behind its end are zero.
#[inline(always)]
fn eight(bytes: &[u8], at: usize) -> u64 {
    match bytes.get(at..at + 8).and_then(|b| <[u8; 8]>::try_from(b).ok()) {
        Some(word) => u64::from_le_bytes(word),
        None => near_the_end(bytes, at),
    }
}

#[cold]
fn near_the_end(bytes: &[u8], at: usize) -> u64 {
    let mut word = [0; 8];
    let rest = bytes.get(at..).unwrap_or_default();
    word.iter_mut().zip(rest).for_each(|(to, from)| *to = *from);
    u64::from_le_bytes(word)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::structure::{Dialect, Structure};
    use proptest::prelude::*;
    use rstest::rstest;

    fn with_cells<R>(texts: &[&str], read: impl Fn(Cells<'_>, Rows<'_>) -> R) -> R {
        let lines: String = texts.iter().map(|t| format!("x,{t}\n")).collect();
        let (mut structure, mut grid) = (Structure::default(), Grid::default());
        structure.find(lines.as_bytes(), Dialect { separator: b',', quote: None, comment: None });
        grid.walk(lines.as_bytes(), &structure, 2, &[0], None);
        let cells = Cells::new(lines.as_bytes(), &grid, Slot::Separator(0), Slot::End);
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
        let column = with_cells(&[text, ""], |cells, rows| cells.floats(rows));
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
            let floats = with_cells(&texts, |cells, rows| cells.floats(rows));
            let ints = with_cells(&texts, |cells, rows| cells.ints(rows));
            for (row, text) in texts.iter().enumerate() {
                let at = row as u32;
                let listed = |lists: [&Vec<u32>; 2]| lists.iter().any(|l| l.contains(&at));
                let float = (!listed([&floats.empty, &floats.odd])).then(|| floats.values[row]);
                let int = (!listed([&ints.empty, &ints.odd])).then(|| ints.values[row]);
                prop_assert_eq!(float, number::parse_float(text.as_bytes()));
                prop_assert_eq!(int, number::parse_int(text.as_bytes()));
            }
        }
    }
}
