//! Columns from their cells: one tight loop a type, over the common form of a cell.
//!
//! The common number has at most eight characters: they are loaded as one word and turned into digits without a
//! branch on any of them. What is not of the common form (quoted, padded, longer, no number at all) is listed as
//! odd, and the caller looks at it again with all its rules.

use crate::grid::{Grid, Slot};
use crate::masks::Way;
use crate::{calendar, number};

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
        self.in_chunks(rows, decimals, number::parse_float)
    }

    /// Reads whole numbers.
    pub fn ints(&self, rows: Rows<'_>) -> Column<i64> {
        self.in_chunks(rows, wholes, number::parse_int)
    }

    /// Reads numbers of at most eight characters many at a time, and the others one by one.
    #[inline(always)]
    fn in_chunks<T: Copy + Default>(
        &self,
        rows: Rows<'_>,
        short: Short<T>,
        parse: fn(&[u8]) -> Option<T>,
    ) -> Column<T> {
        let count = rows.len();
        let mut column =
            Column { values: Vec::with_capacity(count + CHUNK), empty: Vec::new(), odd: Vec::new() };
        let (mut words, mut lengths) = ([0; CHUNK], [0; CHUNK]);
        let (mut values, mut bad) = ([T::default(); CHUNK], [0; CHUNK]);
        let mut first = 0;
        while first < count {
            let some = CHUNK.min(count - first);
            let mut load = |i: usize, row: usize| {
                let (start, end) = self.range(row);
                words[i] = eight(self.bytes, start);
                lengths[i] = end.wrapping_sub(start) as u64;
            };
            match rows {
                Rows::All(_) => (0..some).for_each(|i| load(i, first + i)),
                Rows::These(rows) => {
                    rows[first..first + some].iter().enumerate().for_each(|(i, row)| load(i, *row as usize));
                }
            }
            short(&words, &lengths, &mut values, &mut bad);
            if bad[..some].iter().fold(0, |all, one| all | one) != 0 {
                for i in (0..some).filter(|i| bad[*i] != 0) {
                    let row = match rows {
                        Rows::All(_) => first + i,
                        Rows::These(rows) => rows[first + i] as usize,
                    };
                    let text = self.raw(row);
                    values[i] = parse(text).unwrap_or_else(|| {
                        let list = if text.is_empty() { &mut column.empty } else { &mut column.odd };
                        list.push((first + i) as u32);
                        T::default()
                    });
                }
            }
            column.values.extend_from_slice(&values[..some]);
            first += some;
        }
        column
    }

    /// Reads days.
    pub fn dates(&self, rows: Rows<'_>) -> Column<i32> {
        // Rows often come day by day: what was read last is compared first, as two words.
        let (mut last, mut last_day) = ((0, 0), None);
        let mut column =
            Column { values: Vec::with_capacity(rows.len()), empty: Vec::new(), odd: Vec::new() };
        rows.for_each(|row| {
            let (start, end) = self.range(row);
            let words = (eight(self.bytes, start), eight(self.bytes, start + 2));
            let length = end.wrapping_sub(start);
            if length == 10
                && words == last
                && let Some(day) = last_day
            {
                column.values.push(day);
                return;
            }
            let day = if length == 10 { calendar::parse_date(self.text((start, end))) } else { None };
            (last, last_day) = (words, day);
            if day.is_none() {
                let list = if start >= end { &mut column.empty } else { &mut column.odd };
                list.push(column.values.len() as u32);
            }
            column.values.push(day.unwrap_or_default());
        });
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

/// Reads the short numbers of a chunk: their first eight bytes and lengths into values, and bits where one is bad.
type Short<T> = fn(&[u64; CHUNK], &[u64; CHUNK], &mut [T; CHUNK], &mut [u64; CHUNK]);

/// Cells that are read together.
const CHUNK: usize = 64;

const TENS: [f64; 8] = [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7];

/// The number that the digits in the first `count` bytes of a word are, 0 to 8 of them, and bits where one is none.
#[inline(always)]
fn digits(text: u64, count: u64) -> (u64, u64) {
    const ZEROS: u64 = 0x3030_3030_3030_3030;
    // The digits go to the high bytes, and zeros before them; in two steps, since all eight may be missing.
    let missing = 4 * (8 - count.min(8));
    let filled = (text << missing << missing) | (ZEROS & !(u64::MAX << missing << missing));
    let values = filled ^ ZEROS;
    let bad = (values | values.wrapping_add(0x0606_0606_0606_0606)) & 0xf0f0_f0f0_f0f0_f0f0;
    let pairs = (values << 3).wrapping_add(values << 1).wrapping_add(values >> 8) & 0x00ff_00ff_00ff_00ff;
    let fours = pairs.wrapping_mul(100).wrapping_add(pairs >> 16) & 0x0000_ffff_0000_ffff;
    let eights = ((fours & 0xffff) * 10_000).wrapping_add(fours >> 32) & 0xffff_ffff;
    (eights, bad)
}

/// Decimal fractions without a sign, of at most eight characters: no loop in here branches.
#[inline(always)]
fn decimals_with(
    words: &[u64; CHUNK],
    lengths: &[u64; CHUNK],
    values: &mut [f64; CHUNK],
    bad: &mut [u64; CHUNK],
) {
    for i in 0..CHUNK {
        let (length, word) = (lengths[i], words[i]);
        // What follows the cell is cut off.
        let kept = 4 * (8 - length.min(8));
        let word = word << kept << kept >> kept >> kept;
        let differs = word ^ 0x2e2e_2e2e_2e2e_2e2e;
        let points = differs.wrapping_sub(0x0101_0101_0101_0101) & !differs & 0x8080_8080_8080_8080;
        // One bit in the byte of the first point; none, and all bytes before it, where there is no point.
        let point = (points & points.wrapping_neg()) >> 7;
        let before = point.wrapping_sub(1);
        let joined = (word & before) | ((word >> 8) & !before);
        let has_point = u64::from(point != 0);
        // The place of the point, by a multiplication that moves the byte with its number to the top.
        let place = point.wrapping_mul(0x0001_0203_0405_0607) >> 56;
        let after = (length.wrapping_sub(1).wrapping_sub(place)) * has_point;
        let (number, no_digit) = digits(joined, length - has_point.min(length));
        values[i] = f64::from(number as i32) / TENS[(after & 7) as usize];
        // A point needs digits before it, and a number at least one.
        bad[i] = no_digit | u64::from(length.wrapping_sub(1) >= 8) | (point & 1);
    }
}

/// Whole numbers without a sign, of at most eight digits.
#[inline(always)]
fn wholes_with(
    words: &[u64; CHUNK],
    lengths: &[u64; CHUNK],
    values: &mut [i64; CHUNK],
    bad: &mut [u64; CHUNK],
) {
    for i in 0..CHUNK {
        let (number, no_digit) = digits(words[i], lengths[i]);
        values[i] = number.cast_signed();
        bad[i] = no_digit | u64::from(lengths[i].wrapping_sub(1) >= 8);
    }
}

/// Makes a kernel from its plain form, compiled for each kind of processor.
macro_rules! for_each_processor {
    ($name:ident, $with:ident, $value:ty) => {
        fn $name(
            words: &[u64; CHUNK],
            lengths: &[u64; CHUNK],
            values: &mut [$value; CHUNK],
            bad: &mut [u64; CHUNK],
        ) {
            #[cfg(target_arch = "x86_64")]
            {
                #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512vl")]
                fn avx512(
                    words: &[u64; CHUNK],
                    lengths: &[u64; CHUNK],
                    values: &mut [$value; CHUNK],
                    bad: &mut [u64; CHUNK],
                ) {
                    $with(words, lengths, values, bad);
                }
                #[target_feature(enable = "avx2")]
                fn avx2(
                    words: &[u64; CHUNK],
                    lengths: &[u64; CHUNK],
                    values: &mut [$value; CHUNK],
                    bad: &mut [u64; CHUNK],
                ) {
                    $with(words, lengths, values, bad);
                }
                match Way::choose() {
                    // SAFETY: a way is chosen only where the processor has it.
                    Way::Avx512(_) => return unsafe { avx512(words, lengths, values, bad) },
                    // SAFETY: as above.
                    Way::Avx2(_) => return unsafe { avx2(words, lengths, values, bad) },
                    Way::Portable => {}
                }
            }
            $with(words, lengths, values, bad);
        }
    };
}

for_each_processor!(decimals, decimals_with, f64);
for_each_processor!(wholes, wholes_with, i64);

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
