//! Rows of a block, and where some of their cells stand.
//!
//! The separators of a row are the bits between two line ends. The row's bits are shifted into one word, their
//! number says whether the row has the right number of cells, and the cells asked for are placed from it (`borders`).
//! Separators that nobody asks for cost nothing but their share of that count.
//! Rows that are longer than that are placed by a list of all separators (`long_rows`).
//! Starts and lengths of a column's cells lie one behind the other, so that vectors of them are loaded as they are.

#[cfg(target_arch = "x86_64")]
use crate::borders::borders_avx512;
use crate::borders::{EIGHT, QuoteRule, RowBorders, plain_borders};
use crate::chunk::CHUNK;
use crate::long_rows::{LONG, Line, LongRows, Separators};
use crate::masks::Way;
use crate::structure::Structure;

/// The rows of a block that have the right number of cells: where each of the cells asked for stands in them.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    rows: usize,
    /// How many cells of a row are placed.
    cells: usize,
    /// For each 64 rows, for each cell in turn: where it starts in each of them, and how long it is. As long as the
    /// largest block needed, so that it is not cleared for each.
    places: Vec<[u32; CHUNK]>,
    ragged: Vec<Ragged>,
    /// The separators of a block of long rows.
    separators: Separators,
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

impl Grid {
    /// How many rows there are.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Where a cell starts in each of 64 rows, and how long it is there, by its number among those asked for and that of
    /// the rows; behind the last row they may be any. `None` if there are no such.
    #[inline(always)]
    pub(crate) fn places(&self, cell: usize, chunk: usize) -> Option<(&[u32; CHUNK], &[u32; CHUNK])> {
        if cell >= self.cells {
            return None;
        }
        let at = (chunk * self.cells + cell) * 2;
        self.places.get(at).zip(self.places.get(at + 1))
    }

    /// Where a cell starts in a row, and how long it is.
    #[inline(always)]
    pub fn place(&self, cell: usize, row: usize) -> Option<(u32, u32)> {
        let (starts, lengths) = self.places(cell, row / CHUNK).filter(|_| row < self.rows)?;
        Some((starts[row % CHUNK], lengths[row % CHUNK]))
    }

    /// Rows with another number of cells.
    pub fn ragged(&self) -> &[Ragged] {
        &self.ragged
    }

    /// Walks over the rows of a block, in place of what was there.
    ///
    /// `width` is the number of cells of a row; `wanted` the cells to place, from 0, each below `width`. A blank line is
    /// no row unless rows have one cell; a line that starts with `comment` is none. A carriage return before a line's
    /// end is not part of its last cell.
    pub fn walk(
        &mut self,
        bytes: &[u8],
        structure: &Structure,
        width: usize,
        wanted: &[u32],
        comment: Option<u8>,
    ) {
        self.ragged.clear();
        self.cells = wanted.len();
        // A row has a byte for each of its cells at least: of a block of blank lines few can be rows of many.
        let most = structure.line_ends().len().min(bytes.len() / width.max(1) + 2 * EIGHT);
        let room = most.div_ceil(CHUNK) * 2 * self.cells;
        if self.places.len() < room {
            self.places.resize(room, [0; CHUNK]);
        }
        let rule = QuoteRule { width, comment };
        if bytes.len() > LONG * structure.line_ends().len() {
            self.walk_long(bytes, structure, rule, wanted);
        } else {
            self.walk_short(bytes, structure, rule, wanted);
        }
        if wanted.last().is_some_and(|cell| *cell as usize + 1 == width) {
            self.trim_returns(bytes);
        }
    }

    /// The walk over a block of which most rows have their borders in a word.
    fn walk_short(&mut self, bytes: &[u8], structure: &Structure, rule: QuoteRule, wanted: &[u32]) {
        match Way::choose() {
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) if rule.comment.is_none() => {
                // SAFETY: the way is chosen only where the processor has it.
                unsafe { self.walk_avx512(bytes, structure, rule, wanted) };
            }
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) | Way::Avx2(_) => {
                // SAFETY: both ways are chosen only where the processor has BMI2 and POPCNT.
                unsafe { self.walk_bmi2(bytes, structure, rule, wanted) };
            }
            Way::Portable => self.walk_with(bytes, structure, rule, wanted, plain_borders),
        }
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx2,bmi1,bmi2,popcnt")]
    fn walk_avx512(&mut self, bytes: &[u8], structure: &Structure, rule: QuoteRule, wanted: &[u32]) {
        self.walk_with(
            bytes,
            structure,
            rule,
            wanted,
            #[inline(always)]
            |rule, words, edges, rows| borders_avx512(rule, words, edges, rows),
        );
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "bmi1,bmi2,popcnt")]
    fn walk_bmi2(&mut self, bytes: &[u8], structure: &Structure, rule: QuoteRule, wanted: &[u32]) {
        self.walk_with(bytes, structure, rule, wanted, plain_borders);
    }

    /// The walk itself; `borders` finds those of eight rows and gives a bit for each that does not have its number of
    /// cells, or whose borders do not fit in a word.
    #[inline(always)]
    fn walk_with(
        &mut self,
        bytes: &[u8],
        structure: &Structure,
        rule: QuoteRule,
        wanted: &[u32],
        borders: impl Fn(QuoteRule, &[u64], &[u32; EIGHT + 1], &mut RowBorders) -> u8,
    ) {
        let (words, way) = (structure.separators.as_slice(), Way::choose());
        let mut left = self.places.as_mut_slice();
        let mut rows = RowBorders::default();
        let mut edges = structure.edges.as_slice();
        let mut last = [0; EIGHT + 1];
        self.rows = 0;
        while edges.len() > 1 {
            let lines = EIGHT.min(edges.len() - 1);
            let nine = edges.first_chunk().unwrap_or_else(|| {
                last = [edges[lines]; EIGHT + 1];
                last[..=lines].copy_from_slice(edges);
                &last
            });
            let odd = borders(rule, words, nine, &mut rows);
            if odd == 0 {
                rows.count += lines;
            } else {
                // Those that are rows in spite of it stay, and the others' places are taken.
                let first = rows.count;
                for lane in 0..lines {
                    let row = nine[lane].wrapping_add(1) as usize..nine[lane + 1] as usize;
                    if odd >> lane & 1 != 0 {
                        match rule.seldom(bytes, words, &row) {
                            None => continue,
                            Some(cells) if cells == rule.width => rows.long.push((rows.count, row)),
                            Some(cells) => {
                                self.ragged.push(Ragged { start: row.start, end: row.end + 1, cells });
                                continue;
                            }
                        }
                    }
                    rows.borders[rows.count] = rows.borders[first + lane];
                    rows.starts[rows.count] = rows.starts[first + lane];
                    rows.count += 1;
                }
            }
            if rows.count >= CHUNK {
                self.rows += CHUNK;
                left = rows.place(words, wanted, left, way);
            }
            edges = &edges[lines..];
        }
        self.rows += rows.count;
        rows.place(words, wanted, left, way);
    }

    /// The walk over a block of which most rows are long.
    fn walk_long(&mut self, bytes: &[u8], structure: &Structure, rule: QuoteRule, wanted: &[u32]) {
        let mut separators = std::mem::take(&mut self.separators);
        separators.list(&structure.separators);
        let (mut rows, mut left) = (LongRows::default(), self.places.as_mut_slice());
        self.rows = 0;
        for edges in structure.edges.windows(2) {
            let (start, end) = (edges[0].wrapping_add(1), edges[1]);
            match rows.take(bytes, &separators, rule, (start, end)) {
                Line::Row if rows.count == CHUNK => {
                    self.rows += CHUNK;
                    left = rows.place(&separators, rule.width, wanted, left);
                }
                Line::Row | Line::NoRow => {}
                Line::Ragged(cells) => {
                    let ragged = Ragged { start: start as usize, end: end as usize + 1, cells };
                    self.ragged.push(ragged);
                }
            }
        }
        self.rows += rows.count;
        rows.place(&separators, rule.width, wanted, left);
        self.separators = separators;
    }

    /// Takes the carriage returns before line ends off the cells placed last.
    fn trim_returns(&mut self, bytes: &[u8]) {
        for chunk in self.places.chunks_exact_mut(2 * self.cells).take(self.rows.div_ceil(CHUNK)) {
            let [.., starts, lengths] = chunk else { continue };
            for (start, length) in starts.iter().zip(lengths) {
                let last = (*start as usize + *length as usize).wrapping_sub(1);
                *length -= u32::from(*length > 0 && bytes.get(last) == Some(&b'\r'));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::structure::Dialect;
    use proptest::prelude::*;

    const CSV: Dialect = Dialect { separator: b',', quote: None, comment: Some(b'#') };

    fn cells<'a>(text: &'a str, grid: &Grid, row: usize) -> Vec<&'a str> {
        let cell = |number: usize| {
            let (start, length) = grid.place(number, row).unwrap_or_default();
            &text[start as usize..(start + length) as usize]
        };
        (0..grid.cells).map(cell).collect()
    }

    proptest! {
        #[test]
        fn rows_as_by_splitting(
            lines in prop_oneof![
                prop::collection::vec("#?[ab]{0,40}(,[ab]{0,40}){0,3}\r?", 0..20),
                prop::collection::vec("#?[ab]{0,99}(,[ab]{0,99}){1,3}\r?", 0..200),
            ],
        ) {
            let text: String = lines.iter().map(|l| format!("{l}\n")).collect();
            let mut structure = Structure::default();
            structure.find(text.as_bytes(), CSV);
            let said = |l: &&String| !l.trim_end().is_empty() && !l.starts_with('#');
            let width = |l: &&String| l.split(',').count();
            let fitting: Vec<&String> = lines.iter().filter(said).filter(|l| width(l) == 3).collect();
            let (mut grid, mut few) = (Grid::default(), Grid::default());
            grid.walk(text.as_bytes(), &structure, 3, &[0, 1, 2], Some(b'#'));
            few.walk(text.as_bytes(), &structure, 3, &[1], Some(b'#'));
            prop_assert_eq!(grid.ragged().len(), lines.iter().filter(said).filter(|l| width(l) != 3).count());
            for walked in [&grid, &few] {
                prop_assert_eq!(walked.rows(), fitting.len());
            }
            for (row, line) in fitting.iter().enumerate() {
                let expected: Vec<&str> = line.strip_suffix('\r').unwrap_or(line).split(',').collect();
                prop_assert_eq!(&cells(&text, &grid, row), &expected);
                prop_assert_eq!(cells(&text, &few, row), &expected[1..2]);
            }
            // Without comments, where the fastest way is taken.
            structure.find(text.as_bytes(), Dialect { comment: None, ..CSV });
            grid.walk(text.as_bytes(), &structure, 3, &[0, 1, 2], None);
            let fitting: Vec<&String> = lines.iter().filter(|l| width(l) == 3).collect();
            prop_assert_eq!(grid.rows(), fitting.len());
            for (row, line) in fitting.iter().enumerate() {
                let expected: Vec<&str> = line.strip_suffix('\r').unwrap_or(line).split(',').collect();
                prop_assert_eq!(cells(&text, &grid, row), expected);
            }
        }
    }
}
