//! Where the cells and records of delimited text end.
//!
//! A quote opens a quoted cell only as the first byte of a cell; inside, a doubled quote stands for one, and
//! separators and line ends are data. A quote anywhere else is an ordinary byte. These are the rules of RFC
//! 4180, and what is found in the wild (`5" pipe`) does no harm.
//!
//! [`Structure::find`] is the vectorised pass over a block: it leaves a bit for each separator and the place of
//! each line end, those inside quotes left out. [`crate::grid`] goes on from there, row by row.
//! [`last_record_end`] finds where a block may be cut. With comment lines both take a plain loop,
//! [`Dialect::comment`] says so.

use crate::known::{known, known_part};
use crate::masks::{Masks, Needles, Way, portable};
use crate::prefetch;

/// Chunks that are gone over together.
const TOGETHER: usize = 4;

/// Bytes ahead of the pass that are brought near.
const AHEAD: usize = 1024;

/// How the text is written: single bytes, all of them ASCII.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Dialect {
    /// The byte between two cells.
    pub separator: u8,
    /// The byte around a quoted cell, if the text has such cells.
    pub quote: Option<u8>,
    /// The byte that makes a line a comment where it stands first.
    pub comment: Option<u8>,
}

/// The borders of a block: of its cells as bits, of its records as places.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Structure {
    /// One bit a byte, lowest first; two words more than the bytes fill.
    pub(crate) separators: Vec<u64>,
    /// Where lines end; before the first of them stands [`BEFORE`].
    pub(crate) edges: Vec<u32>,
    /// Where a quote opens that does not close in the block.
    open_quote: Option<usize>,
}

/// The edge before the first line, which starts one behind it, as the others do.
const BEFORE: u32 = u32::MAX;

impl Default for Structure {
    fn default() -> Self {
        Structure { separators: Vec::new(), edges: vec![BEFORE], open_quote: None }
    }
}

impl Structure {
    /// Where each line ends, in order.
    pub fn line_ends(&self) -> &[u32] {
        known_part(&self.edges, 1..)
    }

    /// How many cells the first line has.
    pub fn first_width(&self) -> usize {
        let end = self.line_ends().first().map_or(0, |end| *end as usize);
        let (whole, part) = (end / 64, end % 64);
        let ones = |words: &[u64]| words.iter().map(|w| w.count_ones() as usize).sum::<usize>();
        let last = known(&self.separators, whole) & ((1 << part) - 1);
        ones(known_part(&self.separators, ..whole)) + ones(&[last]) + 1
    }

    /// Forgets the line ends from the `count`th on.
    pub fn truncate(&mut self, count: usize) {
        self.edges.truncate(count + 1);
    }

    /// Where a quote opens that does not close in the block.
    pub fn open_quote(&self) -> Option<usize> {
        self.open_quote
    }

    /// Finds the borders of a block that starts at the start of a record, in place of what was there.
    ///
    /// At most `u32::MAX` bytes.
    pub fn find(&mut self, bytes: &[u8], dialect: Dialect) {
        self.edges.truncate(1);
        if dialect.comment.is_some() {
            self.find_plainly(bytes, dialect);
            return;
        }
        match Way::choose() {
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(avx512) => {
                // SAFETY: an `Avx512` exists only where the processor has it.
                unsafe { self.find_avx512(avx512, bytes, dialect) }
            }
            #[cfg(target_arch = "x86_64")]
            Way::Avx2(avx2) => {
                // SAFETY: an `Avx2` exists only where the processor has it.
                unsafe { self.find_avx2(avx2, bytes, dialect) }
            }
            Way::Portable => self.find_with(bytes, dialect, portable),
        }
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx512bw,bmi1,bmi2,popcnt")]
    fn find_avx512(&mut self, way: crate::masks::Avx512, bytes: &[u8], dialect: Dialect) {
        self.find_with(
            bytes,
            dialect,
            #[inline(always)]
            |chunk, needles| way.masks(chunk, needles),
        );
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2,bmi1,bmi2,popcnt")]
    fn find_avx2(&mut self, way: crate::masks::Avx2, bytes: &[u8], dialect: Dialect) {
        self.find_with(
            bytes,
            dialect,
            #[inline(always)]
            |chunk, needles| way.masks(chunk, needles),
        );
    }

    /// The pass itself, over any way of making masks.
    #[inline(always)]
    fn find_with(&mut self, bytes: &[u8], dialect: Dialect, masks: impl Fn(&[u8; 64], Needles) -> Masks) {
        let needles = Needles {
            separator: dialect.separator,
            line_end: b'\n',
            quote: dialect.quote.unwrap_or(dialect.separator),
        };
        let mut quotes = Quotes::new(bytes, dialect.separator, needles.quote);
        let (chunks, rest) = bytes.as_chunks::<64>();
        self.separators.resize(chunks.len() + 3, 0);
        // Room for a line end at every byte; what is not written to costs nothing.
        self.edges.reserve(bytes.len() + 128);
        let ends = self.edges.as_mut_ptr();
        let mut edges = 1;
        let mut put = |place: usize, word: &mut u64, found: Masks| {
            *word = found.separator;
            // SAFETY: there is room for every byte before this chunk, for its own and for two more.
            edges += unsafe { write_bits(found.line_end, place * 64, ends.add(edges)) };
        };
        // Quotes are rare: several chunks without any are gone over with nothing else in mind.
        let has_quotes = dialect.quote.is_some();
        let mut words = self.separators.chunks_exact_mut(TOGETHER);
        let mut place = 0;
        for (some, words) in chunks.chunks_exact(TOGETHER).zip(&mut words) {
            (place..place + TOGETHER).for_each(|place| prefetch::near(bytes, place * 64 + AHEAD));
            let found: [Masks; TOGETHER] = std::array::from_fn(|i| masks(&some[i], needles));
            let quoted = found.iter().any(|found| found.quote != 0);
            if has_quotes && quoted || quotes.open.is_some() {
                for ((i, found), word) in found.into_iter().enumerate().zip(words) {
                    put(place + i, word, quotes.outside(found, (place + i) * 64));
                }
            } else {
                for ((i, found), word) in found.into_iter().enumerate().zip(words) {
                    put(place + i, word, found);
                }
            }
            place += TOGETHER;
        }
        // Padded with a byte that is none of the three.
        let filler = (0u8..).find(|b| ![needles.separator, b'\n', needles.quote].contains(b)).unwrap_or(0);
        let mut last = [filler; 64];
        last[..rest.len()].copy_from_slice(rest);
        let words = self.separators.iter_mut().skip(place);
        for (chunk, word) in chunks.iter().skip(place).chain([&last]).zip(words) {
            let mut found = masks(chunk, needles);
            if has_quotes {
                found = quotes.outside(found, place * 64);
            }
            put(place, word, found);
            place += 1;
        }
        // SAFETY: so many were written, one after the other.
        unsafe { self.edges.set_len(edges) };
        self.separators.iter_mut().rev().take(2).for_each(|word| *word = 0);
        self.open_quote = quotes.open;
    }

    /// The same byte by byte; knows comment lines, of which only the line end is kept.
    fn find_plainly(&mut self, bytes: &[u8], dialect: Dialect) {
        let mut quotes = Quotes::new(bytes, dialect.separator, dialect.quote.unwrap_or(0));
        self.separators.clear();
        self.separators.resize(bytes.len() / 64 + 3, 0);
        let mut in_comment = false;
        let mut line_start = true;
        for (at, &byte) in bytes.iter().enumerate() {
            if line_start && quotes.open.is_none() && Some(byte) == dialect.comment {
                in_comment = true;
            }
            line_start = byte == b'\n';
            if in_comment {
                if byte == b'\n' {
                    in_comment = false;
                    self.edges.push(at as u32);
                }
            } else if Some(byte) == dialect.quote {
                quotes.turn(at);
            } else if quotes.open.is_none() {
                if byte == dialect.separator {
                    self.separators[at / 64] |= 1 << (at % 64);
                } else if byte == b'\n' {
                    self.edges.push(at as u32);
                }
            }
        }
        self.open_quote = quotes.open;
    }
}

/// Writes `base` plus the place of each set bit; gives their number.
///
/// Two are written at once, so that the loop turns once for nearly all chunks and does not branch on every bit.
///
/// # Safety
/// `to` has room for 66 numbers.
#[inline(always)]
unsafe fn write_bits(mut bits: u64, base: usize, to: *mut u32) -> usize {
    let count = bits.count_ones() as usize;
    let mut written = 0;
    loop {
        for slot in [written, written + 1] {
            // SAFETY: there are at most 64 bits, so that at most the 65th slot is written to.
            unsafe { to.add(slot).write((base as u32).wrapping_add(bits.trailing_zeros())) };
            bits &= bits.wrapping_sub(1);
        }
        written += 2;
        if written >= count {
            return count;
        }
    }
}

/// The state of the walk over quotes: what is inside a quoted cell.
struct Quotes<'a> {
    bytes: &'a [u8],
    separator: u8,
    quote: u8,
    open: Option<usize>,
    skip_to: usize,
}

impl<'a> Quotes<'a> {
    /// What stands outside quotes of what was found in the chunk at `base`.
    #[inline(never)]
    fn outside(&mut self, mut found: Masks, base: usize) -> Masks {
        let inside = self.inside(found.quote, base);
        found.separator &= !inside;
        found.line_end &= !inside;
        found
    }

    fn new(bytes: &'a [u8], separator: u8, quote: u8) -> Self {
        Quotes { bytes, separator, quote, open: None, skip_to: 0 }
    }

    /// Bits of the chunk at `base` that lie inside quotes, given where its quotes are.
    #[inline(always)]
    fn inside(&mut self, mut quotes: u64, base: usize) -> u64 {
        if quotes == 0 {
            return if self.open.is_some() { u64::MAX } else { 0 };
        }
        let mut inside = 0u64;
        let mut start = 0u32;
        while quotes != 0 {
            let bit = quotes.trailing_zeros();
            quotes &= quotes - 1;
            match self.turn(base + bit as usize) {
                QuoteTurn::Opens => start = bit,
                QuoteTurn::Closes => inside |= (u64::MAX << start) & (u64::MAX >> (63 - bit)),
                QuoteTurn::Plain => {}
            }
        }
        if self.open.is_some() {
            inside |= u64::MAX << start;
        }
        inside
    }

    /// What the quote at `at` does; quotes are shown in order, each once.
    fn turn(&mut self, at: usize) -> QuoteTurn {
        if at < self.skip_to {
            return QuoteTurn::Plain;
        }
        if self.open.is_some() {
            if self.bytes.get(at + 1) == Some(&self.quote) {
                self.skip_to = at + 2;
                return QuoteTurn::Plain;
            }
            self.open = None;
            return QuoteTurn::Closes;
        }
        let first_of_cell = match at.checked_sub(1).and_then(|before| self.bytes.get(before)) {
            None => true,
            Some(before) => *before == self.separator || *before == b'\n',
        };
        if first_of_cell {
            self.open = Some(at);
            QuoteTurn::Opens
        } else {
            QuoteTurn::Plain
        }
    }
}

enum QuoteTurn {
    Opens,
    Closes,
    Plain,
}

/// Gives the position just after the last line end that is not inside quotes.
///
/// `bytes` starts at the start of a record; `None` where no record is complete.
pub fn last_record_end(bytes: &[u8], dialect: Dialect) -> Option<usize> {
    let Some(quote) = dialect.quote.filter(|_| dialect.comment.is_none()) else {
        return if dialect.comment.is_some() {
            let mut structure = Structure::default();
            structure.find_plainly(bytes, dialect);
            structure.line_ends().last().map(|p| *p as usize + 1)
        } else {
            memchr::memrchr(b'\n', bytes).map(|p| p + 1)
        };
    };
    let mut quotes = Quotes::new(bytes, dialect.separator, quote);
    let mut cells: Vec<(usize, usize)> = Vec::new();
    for at in memchr::memchr_iter(quote, bytes) {
        let opened = quotes.open;
        if let (QuoteTurn::Closes, Some(open)) = (quotes.turn(at), opened) {
            cells.push((open, at));
        }
    }
    let mut end = quotes.open.unwrap_or(bytes.len());
    for (open, close) in cells.into_iter().rev() {
        if let Some(p) = memchr::memrchr(b'\n', &bytes[close..end]) {
            return Some(close + p + 1);
        }
        end = open;
    }
    memchr::memrchr(b'\n', &bytes[..end]).map(|p| p + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const CSV: Dialect = Dialect { separator: b',', quote: Some(b'"'), comment: None };

    /// The places of separators and of line ends, found in every way.
    fn found(bytes: &[u8]) -> (Vec<usize>, Structure) {
        let (mut fast, mut portably, mut plain) =
            (Structure::default(), Structure::default(), Structure::default());
        fast.find(bytes, CSV);
        portably.find_with(bytes, CSV, portable);
        plain.find_plainly(bytes, CSV);
        assert_eq!(fast, portably);
        assert_eq!(fast, plain);
        #[cfg(target_arch = "x86_64")]
        if let Way::Avx512(_) = Way::choose() {
            plain = Structure::default();
            // SAFETY: what has AVX-512 has AVX2.
            unsafe { plain.find_avx2(crate::masks::Avx2::assumed(), bytes, CSV) };
            assert_eq!(fast, plain);
        }
        let set = |at: &usize| fast.separators[at / 64] >> (at % 64) & 1 == 1;
        ((0..bytes.len()).filter(set).collect(), fast)
    }

    #[rstest]
    #[case::plain("a,b\nc,d\n", &[1, 5], &[3, 7])]
    #[case::separator_in_quotes("\"a,b\",c\n", &[5], &[7])]
    #[case::line_break_in_quotes("\"a\nb\",c\n", &[5], &[7])]
    #[case::doubled_quote("\"a\"\",\",c\n", &[6], &[8])]
    #[case::quote_in_a_plain_cell("5\" pipe,x\n", &[7], &[9])]
    #[case::text_after_the_quotes("\"a\"b\",c\n", &[5], &[7])]
    fn cells_end_where_they_should(#[case] text: &str, #[case] cells: &[usize], #[case] lines: &[u32]) {
        let (separators, structure) = found(text.as_bytes());
        assert_eq!(separators, cells);
        assert_eq!(structure.line_ends(), lines);
    }

    #[test]
    fn an_open_quote_is_told() {
        assert_eq!(found(b"a,\"b\nc,d\n").1.open_quote, Some(2));
    }

    #[test]
    fn a_comment_may_hold_quotes() {
        let mut structure = Structure::default();
        structure.find(b"#,\"\na,b\n", Dialect { comment: Some(b'#'), ..CSV });
        assert_eq!(
            (structure.separators.as_slice(), structure.line_ends()),
            (&[1 << 5, 0, 0][..], &[3, 7][..])
        );
    }

    proptest! {
        #[test]
        fn the_passes_agree(text in r#"[a,"\n]{0,300}"#) {
            let (_, structure) = found(text.as_bytes());
            let last = structure.line_ends().last().map(|p| *p as usize + 1);
            prop_assert_eq!(last_record_end(text.as_bytes(), CSV), last);
        }
    }
}
