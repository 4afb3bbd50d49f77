//! Rows of a block, and where some of their cells end.
//!
//! The separators of a row are the bits between two line ends. The row's bits are shifted into one word, their
//! number says whether the row has the right number of cells, and the place of the nth is found without a loop
//! (a deposit of one bit, BMI2). Separators that nobody asks for cost nothing but their share of that count.

use crate::masks::Way;
use crate::structure::Structure;

/// The rows of a block that have the right number of cells.
///
/// Each row is a record: where it starts, where its line ends, and the places of the separators asked for.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    rows: usize,
    stride: usize,
    /// As long as the longest block needed, so that it is not cleared for each.
    records: Vec<u32>,
    ragged: Vec<Ragged>,
}

/// The places in a record before those of separators.
const OF_ROW: usize = 2;

/// A place in the records of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Slot {
    /// Where the row starts.
    Start,
    /// Where its line ends.
    End,
    /// A separator, by its number among those asked for.
    Separator(usize),
}

impl Slot {
    pub(crate) fn place(self) -> usize {
        match self {
            Slot::Start => 0,
            Slot::End => 1,
            Slot::Separator(number) => OF_ROW + number,
        }
    }
}

/// A row with the wrong number of cells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ragged {
    /// Where it starts.
    pub start: usize,
    /// Just behind its line end.
    pub end: usize,
    /// How many cells it has.
    pub cells: usize,
}

/// The place of the nth set bit, lowest first and from 0.
#[inline(always)]
fn nth_bit(mut bits: u64, n: u32) -> u32 {
    for _ in 0..n {
        bits &= bits.wrapping_sub(1);
    }
    bits.trailing_zeros()
}

#[cfg(target_arch = "x86_64")]
#[inline]
#[target_feature(enable = "bmi1,bmi2")]
fn nth_bit_bmi2(bits: u64, n: u32) -> u32 {
    std::arch::x86_64::_pdep_u64(1 << n, bits).trailing_zeros()
}

impl Grid {
    /// How many rows there are.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// The records of all rows, one behind the other, and the length of one.
    pub fn records(&self) -> (&[u32], usize) {
        (&self.records[..self.rows * self.stride], self.stride)
    }

    /// Something of a row.
    pub fn get(&self, row: usize, slot: Slot) -> Option<u32> {
        self.records().0.get(row * self.stride + slot.place()).copied()
    }

    /// Rows with another number of cells.
    pub fn ragged(&self) -> &[Ragged] {
        &self.ragged
    }

    /// Walks over the rows of a block, in place of what was there.
    ///
    /// `width` is the number of cells of a row; `wanted` the separators to place, from 0 and rising. A blank line
    /// is no row unless rows have one cell; a line that starts with `comment` is none.
    pub fn walk(
        &mut self,
        bytes: &[u8],
        structure: &Structure,
        width: usize,
        wanted: &[u32],
        comment: Option<u8>,
    ) {
        self.ragged.clear();
        self.stride = OF_ROW + wanted.len();
        let most = structure.line_ends.len() * self.stride;
        if self.records.len() < most {
            self.records.resize(most, 0);
        }
        self.rows = match Way::choose() {
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) | Way::Avx2(_) => {
                // SAFETY: both ways are chosen only where the processor has BMI2 and POPCNT.
                unsafe { self.walk_bmi2(bytes, structure, width, wanted, comment) }
            }
            Way::Portable => self.walk_with(bytes, structure, width, wanted, comment, nth_bit),
        };
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "bmi1,bmi2,popcnt")]
    fn walk_bmi2(
        &mut self,
        bytes: &[u8],
        structure: &Structure,
        width: usize,
        wanted: &[u32],
        comment: Option<u8>,
    ) -> usize {
        self.walk_with(
            bytes,
            structure,
            width,
            wanted,
            comment,
            #[inline(always)]
            |bits, n| nth_bit_bmi2(bits, n),
        )
    }

    /// The walk itself; gives the number of rows. For a few separators there is a loop without a loop within.
    #[inline(always)]
    fn walk_with(
        &mut self,
        bytes: &[u8],
        structure: &Structure,
        width: usize,
        wanted: &[u32],
        comment: Option<u8>,
        nth: impl Fn(u64, u32) -> u32,
    ) -> usize {
        macro_rules! of_length {
            ($($n:literal)*) => {
                match wanted.len() {
                    $($n => {
                        let mut few = [0; $n];
                        few.copy_from_slice(wanted);
                        self.walk_of(bytes, structure, width, &few, comment, nth)
                    })*
                    _ => self.walk_of(bytes, structure, width, wanted, comment, nth),
                }
            };
        }
        of_length!(0 1 2 3 4 5 6 7 8)
    }

    #[inline(always)]
    fn walk_of<W: AsRef<[u32]> + ?Sized>(
        &mut self,
        bytes: &[u8],
        structure: &Structure,
        width: usize,
        wanted: &W,
        comment: Option<u8>,
        nth: impl Fn(u64, u32) -> u32,
    ) -> usize {
        let wanted = wanted.as_ref();
        let words = structure.separators.as_slice();
        let mut records = self.records.chunks_exact_mut(OF_ROW + wanted.len());
        let mut rows = 0;
        let mut start = 0usize;
        for end in structure.line_ends.iter().map(|end| *end as usize) {
            let bits = window(words, start);
            // The separators of a row that is shorter than a word all stand in the first one.
            let short = end - start < 64;
            let bits = if short { bits & ((1 << ((end - start) & 63)) - 1) } else { bits };
            let cells = if short { bits.count_ones() as usize } else { count(words, start, end) } + 1;
            let is_comment = || comment.is_some() && bytes.get(start).copied() == comment;
            let is_blank = || end == start || (end == start + 1 && bytes.get(start) == Some(&b'\r'));
            if cells == width && !is_comment() {
                // There is a record for every line.
                let Some(record) = records.next() else { break };
                let (of_row, places) = record.split_at_mut(OF_ROW);
                of_row.copy_from_slice(&[start as u32, end as u32]);
                if short {
                    for (place, n) in places.iter_mut().zip(wanted) {
                        *place = start as u32 + nth(bits, *n);
                    }
                } else {
                    place_long(words, start..end, wanted, places, &nth);
                }
                rows += 1;
            } else if !(is_comment() || width > 1 && is_blank()) {
                self.ragged.push(Ragged { start, end: end + 1, cells });
            }
            start = end + 1;
        }
        rows
    }
}

/// The bits of 64 bytes from one on.
#[inline(always)]
fn window(words: &[u64], at: usize) -> u64 {
    let (word, shift) = (at / 64, at % 64);
    let low = words.get(word).copied().unwrap_or(0) >> shift;
    // Shifted in two steps, so that a shift of 64 is not asked for.
    low | words.get(word + 1).copied().unwrap_or(0) << 1 << (63 - shift)
}

/// How many bits are set between two bytes.
#[inline(always)]
fn count(words: &[u64], start: usize, end: usize) -> usize {
    let whole = words.get(start / 64..end / 64).unwrap_or_default();
    let ones: usize = whole.iter().map(|word| word.count_ones() as usize).sum();
    let below = |at: usize| {
        let word = words.get(at / 64).copied().unwrap_or(0) & ((1 << (at % 64)) - 1);
        word.count_ones() as usize
    };
    ones + below(end) - below(start)
}

/// Places the separators of a row of several words.
#[inline(always)]
fn place_long(
    words: &[u64],
    row: std::ops::Range<usize>,
    wanted: &[u32],
    places: &mut [u32],
    nth: &impl Fn(u64, u32) -> u32,
) {
    let (mut from, mut count) = (row.start, 0);
    let mut next = wanted.iter().zip(places).peekable();
    while from < row.end && next.peek().is_some() {
        let bits = window(words, from);
        let ones = bits.count_ones();
        while let Some((n, place)) = next.next_if(|(n, _)| **n < count + ones) {
            *place = from as u32 + nth(bits, n - count);
        }
        count += ones;
        from += 64;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::structure::Dialect;
    use proptest::prelude::*;

    const CSV: Dialect = Dialect { separator: b',', quote: None, comment: Some(b'#') };

    proptest! {
        #[test]
        fn rows_as_by_splitting(lines in prop::collection::vec("#?[ab]{0,40}(,[ab]{0,40}){0,3}", 0..20)) {
            let text: String = lines.iter().map(|l| format!("{l}\n")).collect();
            let mut structure = Structure::default();
            structure.find(text.as_bytes(), CSV);
            let mut grid = Grid::default();
            grid.walk(text.as_bytes(), &structure, 3, &[0, 1], Some(b'#'));
            let cells = |l: &&String| l.split(',').count();
            let said = |l: &&String| !l.is_empty() && !l.starts_with('#');
            let fitting: Vec<&String> = lines.iter().filter(said).filter(|l| cells(l) == 3).collect();
            prop_assert_eq!(grid.rows(), fitting.len());
            prop_assert_eq!(grid.ragged().len(), lines.iter().filter(said).filter(|l| cells(l) != 3).count());
            let mut plainly = grid.clone();
            let rows = plainly.walk_with(text.as_bytes(), &structure, 3, &[0, 1], Some(b'#'), nth_bit);
            prop_assert_eq!(rows, fitting.len());
            let mut without = Grid::default();
            without.walk(text.as_bytes(), &structure, 3, &[1], None);
            for (row, line) in fitting.iter().enumerate() {
                let at = |grid: &Grid, slot| grid.get(row, slot).map_or(0, |place| place as usize);
                let (start, end) = (at(&grid, Slot::Start), at(&grid, Slot::End));
                prop_assert_eq!(&text[start..end], line.as_str());
                let first = &text[start..at(&grid, Slot::Separator(0))];
                let third = &text[at(&grid, Slot::Separator(1)) + 1..end];
                prop_assert_eq!(Some(first), line.split(',').next());
                prop_assert_eq!(Some(third), line.split(',').nth(2));
                prop_assert_eq!(at(&grid, Slot::Separator(0)), at(&plainly, Slot::Separator(0)));
                let other = (0..without.rows()).find(|o| without.get(*o, Slot::Start) == grid.get(row, Slot::Start));
                prop_assert_eq!(other.and_then(|o| without.get(o, Slot::Separator(0))), grid.get(row, Slot::Separator(1)));
            }
        }
    }
}
