//! Columns from their cells: one tight loop a type, over the common form of a cell.
//!
//! The common number has at most eight characters: they are loaded as one word and turned into digits without a
//! branch on any of them. What is not of the common form (quoted, padded, longer, no number at all) is listed as
//! odd, and the caller looks at it again with all its rules.

use arrow_buffer::ArrowNativeType;

use crate::{calendar, number};

/// The cells of one column: cell `i` is the bytes from `starts[i] + skip` to before `ends[i]`.
#[derive(Clone, Copy, Debug)]
pub struct Cells<'a> {
    /// The block.
    pub bytes: &'a [u8],
    /// Where each cell, or the separator before it, starts.
    pub starts: &'a [u32],
    /// 1 where `starts` are separators.
    pub skip: u32,
    /// Where each cell ends.
    pub ends: &'a [u32],
    /// Whether a carriage return before an end is not part of the cell: in a row's last column.
    pub last: bool,
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
    /// Where a cell starts and ends.
    #[inline(always)]
    pub fn range(&self, row: usize) -> (usize, usize) {
        let start = self.starts.get(row).map_or(0, |s| (*s + self.skip) as usize);
        let mut end = self.ends.get(row).map_or(start, |e| *e as usize);
        if self.last && end > start && self.bytes.get(end - 1) == Some(&b'\r') {
            end -= 1;
        }
        (start, end)
    }

    #[inline(always)]
    fn text(&self, (start, end): (usize, usize)) -> &'a [u8] {
        self.bytes.get(start..end).unwrap_or_default()
    }

    /// Reads a column of values; `parse` is given a cell's bytes, and where they stand in the block.
    #[inline(always)]
    pub fn read<T: ArrowNativeType>(
        &self,
        rows: Rows<'_>,
        parse: impl Fn(&[u8], usize, usize) -> Option<T>,
    ) -> Column<T> {
        let mut column =
            Column { values: Vec::with_capacity(rows.len()), empty: Vec::new(), odd: Vec::new() };
        rows.for_each(|row| {
            let (start, end) = self.range(row);
            let value = parse(self.bytes, start, end);
            if value.is_none() {
                let list = if start == end { &mut column.empty } else { &mut column.odd };
                list.push(column.values.len() as u32);
            }
            column.values.push(value.unwrap_or_default());
        });
        column
    }

    /// Reads decimal fractions.
    pub fn floats(&self, rows: Rows<'_>) -> Column<f64> {
        self.read(rows, |bytes, start, end| match short_float(bytes, start, end) {
            Some(value) => Some(value),
            None => number::parse_float(bytes.get(start..end)?),
        })
    }

    /// Reads whole numbers.
    pub fn ints(&self, rows: Rows<'_>) -> Column<i64> {
        self.read(rows, |bytes, start, end| match short_int(bytes, start, end) {
            Some(value) => Some(value),
            None => number::parse_int(bytes.get(start..end)?),
        })
    }

    /// Reads days.
    pub fn dates(&self, rows: Rows<'_>) -> Column<i32> {
        self.read(rows, |bytes, start, end| calendar::parse_date(bytes.get(start..end)?))
    }

    /// Reads anything else from a cell's bytes.
    pub fn parsed<T: ArrowNativeType>(
        &self,
        rows: Rows<'_>,
        parse: impl Fn(&[u8]) -> Option<T>,
    ) -> Column<T> {
        self.read(rows, |bytes, start, end| parse(bytes.get(start..end)?))
    }

    /// The cell's bytes as they stand in the block.
    pub fn raw(&self, row: usize) -> &'a [u8] {
        self.text(self.range(row))
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

/// The number that `count` digits, 1 to 8, lowest byte first, are; `None` if one is no digit.
#[inline(always)]
fn digits(text: u64, count: usize) -> Option<u64> {
    const ZEROS: u64 = 0x3030_3030_3030_3030;
    // The digits go to the high bytes, and zeros before them.
    let missing = 8 * (8 - count as u32);
    let filled = (text << missing) | (ZEROS & ((1u64 << missing) - 1));
    let values = filled ^ ZEROS;
    if (values | values.wrapping_add(0x0606_0606_0606_0606)) & 0xf0f0_f0f0_f0f0_f0f0 != 0 {
        return None;
    }
    let pairs = values.wrapping_mul(10).wrapping_add(values >> 8) & 0x00ff_00ff_00ff_00ff;
    let fours = pairs.wrapping_mul(100).wrapping_add(pairs >> 16) & 0x0000_ffff_0000_ffff;
    Some(fours.wrapping_mul(10_000).wrapping_add(fours >> 32) & 0xffff_ffff)
}

const TENS: [f64; 8] = [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7];

/// A decimal fraction without a sign, of at most eight characters.
#[inline(always)]
fn short_float(bytes: &[u8], start: usize, end: usize) -> Option<f64> {
    let length = end.wrapping_sub(start);
    if length.wrapping_sub(1) >= 8 {
        return None;
    }
    let word = eight(bytes, start);
    let differs = word ^ 0x2e2e_2e2e_2e2e_2e2e;
    let points = differs.wrapping_sub(0x0101_0101_0101_0101) & !differs & 0x8080_8080_8080_8080;
    let point = (points.trailing_zeros() / 8) as usize;
    if point >= length {
        return Some(digits(word, length)? as f64);
    }
    // A point alone, or one without digits before it, goes the long way.
    if point == 0 {
        return None;
    }
    let before = (1u64 << (8 * point)) - 1;
    let joined = (word & before) | ((word >> 8) & !before);
    let decimals = length - 1 - point;
    Some(digits(joined, length - 1)? as f64 / TENS.get(decimals)?)
}

/// A whole number without a sign, of at most eight digits.
#[inline(always)]
fn short_int(bytes: &[u8], start: usize, end: usize) -> Option<i64> {
    let length = end.wrapping_sub(start);
    if length.wrapping_sub(1) >= 8 {
        return None;
    }
    Some(digits(eight(bytes, start), length)?.cast_signed())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn with_cells<R>(texts: &[&str], read: impl Fn(Cells<'_>, Rows<'_>) -> R) -> R {
        let joined: String = texts.iter().map(|t| format!(",{t}")).collect();
        let commas: Vec<u32> = memchr::memchr_iter(b',', joined.as_bytes()).map(|p| p as u32).collect();
        let mut ends = commas.get(1..).unwrap_or_default().to_vec();
        ends.push(joined.len() as u32);
        let cells = Cells { bytes: joined.as_bytes(), starts: &commas, skip: 1, ends: &ends, last: false };
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
        fn numbers_as_by_the_plain_way(texts in prop::collection::vec("[-0-9.a/:]{0,10}", 1..30)) {
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
