//! Rows of a block, and where some of their cells end.
//!
//! The separators of a row are the bits between two line ends. The row's bits are shifted into one word, their
//! number says whether the row has the right number of cells, and the place of the nth is found without a loop
//! (a deposit of one bit, BMI2). Separators that nobody asks for cost nothing but their share of that count.

use crate::masks::Way;
use crate::structure::Structure;

/// The rows of a block that have the right number of cells.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    rows: usize,
    /// As long as the longest block needed, so that they are not cleared for each.
    starts: Vec<u32>,
    ends: Vec<u32>,
    places: Vec<Vec<u32>>,
    ragged: Vec<Ragged>,
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
    /// Where each row starts.
    pub fn starts(&self) -> &[u32] {
        &self.starts[..self.rows]
    }

    /// Where the line of each row ends.
    pub fn ends(&self) -> &[u32] {
        &self.ends[..self.rows]
    }

    /// The place of a separator in each row, by its number among those asked for.
    pub fn places(&self, separator: usize) -> &[u32] {
        self.places.get(separator).map_or(&[], |places| &places[..self.rows])
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
        let lines = structure.line_ends.len();
        self.ragged.clear();
        self.places.resize(wanted.len(), Vec::new());
        for column in [&mut self.starts, &mut self.ends].into_iter().chain(&mut self.places) {
            if column.len() < lines {
                column.resize(lines, 0);
            }
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

    /// The walk itself; gives the number of rows.
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
        let words = structure.separators.as_slice();
        let lines = structure.line_ends.len();
        let (starts, ends) = (&mut self.starts[..lines], &mut self.ends[..lines]);
        let mut places: Vec<&mut [u32]> = self.places.iter_mut().map(|p| &mut p[..lines]).collect();
        let window = |at: usize| {
            let (word, shift) = (at / 64, at % 64);
            let low = words.get(word).copied().unwrap_or(0) >> shift;
            // Shifted in two steps, so that a shift of 64 is not asked for.
            low | words.get(word + 1).copied().unwrap_or(0) << 1 << (63 - shift)
        };
        let last = wanted.last().map_or(0, |n| n + 1);
        let mut row = 0;
        let mut start = 0usize;
        let mut before = 0u32;
        for end in structure.line_ends.iter().map(|end| *end as usize) {
            let (word, bit) = (end / 64, end % 64);
            let in_word = words.get(word).copied().unwrap_or(0) & ((1 << bit) - 1);
            let up_to = structure.before.get(word).copied().unwrap_or(0) + in_word.count_ones();
            let cells = (up_to - before) as usize + 1;
            before = up_to;
            let bits = window(start);
            if cells == width && comment.is_none() && bits.count_ones() >= last {
                // All that is wanted stands in the row's first 64 bytes.
                for (places, n) in places.iter_mut().zip(wanted) {
                    // SAFETY: `row` is below the number of lines, which is the length of each slice.
                    *unsafe { places.get_unchecked_mut(row) } = start as u32 + nth(bits, *n);
                }
                starts[row] = start as u32;
                ends[row] = end as u32;
                row += 1;
                start = end + 1;
                continue;
            }
            let is_comment = || comment.is_some() && bytes.get(start).copied() == comment;
            let is_blank = || end == start || (end == start + 1 && bytes.get(start) == Some(&b'\r'));
            if cells == width && !is_comment() {
                let (mut from, mut count) = (start, 0);
                let mut next = wanted.iter().zip(&mut places).peekable();
                while from < end && next.peek().is_some() {
                    let bits = window(from);
                    let ones = bits.count_ones();
                    while let Some((n, places)) = next.next_if(|(n, _)| **n < count + ones) {
                        places[row] = from as u32 + nth(bits, n - count);
                    }
                    count += ones;
                    from += 64;
                }
                starts[row] = start as u32;
                ends[row] = end as u32;
                row += 1;
            } else if !is_comment() && !(width > 1 && is_blank()) {
                self.ragged.push(Ragged { start, end: end + 1, cells });
            }
            start = end + 1;
        }
        row
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
            prop_assert_eq!(grid.starts().len(), fitting.len());
            prop_assert_eq!(grid.ragged().len(), lines.iter().filter(said).filter(|l| cells(l) != 3).count());
            let mut plainly = grid.clone();
            let rows = plainly.walk_with(text.as_bytes(), &structure, 3, &[0, 1], Some(b'#'), nth_bit);
            prop_assert_eq!(rows, fitting.len());
            let mut without = Grid::default();
            without.walk(text.as_bytes(), &structure, 3, &[1], None);
            for (row, line) in fitting.iter().enumerate() {
                let at = |place: u32| place as usize;
                let (start, end) = (at(grid.starts()[row]), at(grid.ends()[row]));
                prop_assert_eq!(&text[start..end], line.as_str());
                let first = &text[start..at(grid.places(0)[row])];
                let third = &text[at(grid.places(1)[row]) + 1..end];
                prop_assert_eq!(Some(first), line.split(',').next());
                prop_assert_eq!(Some(third), line.split(',').nth(2));
                prop_assert_eq!(grid.places(0)[row], plainly.places(0)[row]);
                let other = without.starts().iter().position(|s| at(*s) == start);
                prop_assert_eq!(other.map(|o| without.places(0)[o]), Some(grid.places(1)[row]));
            }
        }
    }
}
