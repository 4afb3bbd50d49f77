//! Where the cells and records of delimited text end.
//!
//! A quote opens a quoted cell only as the first byte of a cell; inside, a doubled quote stands for one, and
//! separators and line ends are data. A quote anywhere else is an ordinary byte. These are the rules of RFC
//! 4180, and what is found in the wild (`5" pipe`) does no harm.
//!
//! [`index`] is the vectorised pass over a block of whole records; [`last_record_end`] finds where such a block
//! may be cut. With comment lines both take a plain loop, [`Dialect::comment`] says so.

use crate::masks::{Masks, Needles, Way, portable};

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

/// What [`index`] found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// Number of line ends among the positions.
    pub line_ends: usize,
    /// Where a quote opens that never closes.
    pub open_quote: Option<usize>,
}

/// Appends the position of every separator and line end that is not inside quotes.
///
/// `bytes` starts at the start of a record. At most `u32::MAX` bytes.
pub fn index(bytes: &[u8], dialect: Dialect, positions: &mut Vec<u32>) -> Found {
    if dialect.comment.is_some() {
        return index_plainly(bytes, dialect, positions);
    }
    match Way::choose() {
        #[cfg(target_arch = "x86_64")]
        Way::Avx2(avx2) => {
            // SAFETY: an `Avx2` exists only where the processor has it.
            unsafe { index_avx2(avx2, bytes, dialect, positions) }
        }
        Way::Portable => index_with(bytes, dialect, positions, portable),
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2,bmi1,popcnt")]
fn index_avx2(avx2: crate::masks::Avx2, bytes: &[u8], dialect: Dialect, positions: &mut Vec<u32>) -> Found {
    index_with(
        bytes,
        dialect,
        positions,
        #[inline(always)]
        |chunk, needles| avx2.masks(chunk, needles),
    )
}

/// The pass itself, over any way of making masks.
#[inline(always)]
fn index_with(
    bytes: &[u8],
    dialect: Dialect,
    positions: &mut Vec<u32>,
    masks: impl Fn(&[u8; 64], Needles) -> Masks,
) -> Found {
    let needles = Needles {
        separator: dialect.separator,
        line_end: b'\n',
        quote: dialect.quote.unwrap_or(dialect.separator),
    };
    let mut quotes = Quotes::new(bytes, dialect.separator, needles.quote);
    let mut found = Found::default();
    let (chunks, rest) = bytes.as_chunks::<64>();
    let mut take = |chunk: &[u8; 64], base: usize| {
        let mut m = masks(chunk, needles);
        if dialect.quote.is_some() {
            let inside = quotes.inside(m.quote, base);
            m.separator &= !inside;
            m.line_end &= !inside;
        }
        found.line_ends += m.line_end.count_ones() as usize;
        push_bits(m.separator | m.line_end, base, positions);
    };
    for (i, chunk) in chunks.iter().enumerate() {
        take(chunk, i * 64);
    }
    if !rest.is_empty() {
        // Padded with a byte that is none of the three.
        let filler = (0u8..).find(|b| ![needles.separator, b'\n', needles.quote].contains(b)).unwrap_or(0);
        let mut last = [filler; 64];
        last[..rest.len()].copy_from_slice(rest);
        take(&last, chunks.len() * 64);
    }
    found.open_quote = quotes.open;
    found
}

/// Appends `base` plus the place of each set bit.
///
/// Eight are written at once and the length set afterwards, so that the loop does not branch on every bit.
#[inline(always)]
fn push_bits(mut bits: u64, base: usize, positions: &mut Vec<u32>) {
    let count = bits.count_ones() as usize;
    positions.reserve(64);
    let length = positions.len();
    let spare = positions.spare_capacity_mut();
    let mut written = 0;
    while written < count {
        for slot in &mut spare[written..written + 8] {
            slot.write((base as u32).wrapping_add(bits.trailing_zeros()));
            bits &= bits.wrapping_sub(1);
        }
        written += 8;
    }
    // SAFETY: the first `count` of at least 64 reserved slots were written above.
    unsafe { positions.set_len(length + count) };
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
                Turn::Opens => start = bit,
                Turn::Closes => inside |= (u64::MAX << start) & (u64::MAX >> (63 - bit)),
                Turn::Plain => {}
            }
        }
        if self.open.is_some() {
            inside |= u64::MAX << start;
        }
        inside
    }

    /// What the quote at `at` does; quotes are shown in order, each once.
    fn turn(&mut self, at: usize) -> Turn {
        if at < self.skip_to {
            return Turn::Plain;
        }
        if self.open.is_some() {
            if self.bytes.get(at + 1) == Some(&self.quote) {
                self.skip_to = at + 2;
                return Turn::Plain;
            }
            self.open = None;
            return Turn::Closes;
        }
        let first_of_cell = match at.checked_sub(1).and_then(|before| self.bytes.get(before)) {
            None => true,
            Some(before) => *before == self.separator || *before == b'\n',
        };
        if first_of_cell {
            self.open = Some(at);
            Turn::Opens
        } else {
            Turn::Plain
        }
    }
}

enum Turn {
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
            let mut positions = Vec::new();
            index_plainly(bytes, dialect, &mut positions);
            positions.iter().rev().find(|p| bytes[**p as usize] == b'\n').map(|p| *p as usize + 1)
        } else {
            memchr::memrchr(b'\n', bytes).map(|p| p + 1)
        };
    };
    let mut quotes = Quotes::new(bytes, dialect.separator, quote);
    let mut cells: Vec<(usize, usize)> = Vec::new();
    for at in memchr::memchr_iter(quote, bytes) {
        let opened = quotes.open;
        if let (Turn::Closes, Some(open)) = (quotes.turn(at), opened) {
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

/// The same as [`index`] byte by byte; knows comment lines, whose own line end alone is given.
fn index_plainly(bytes: &[u8], dialect: Dialect, positions: &mut Vec<u32>) -> Found {
    let mut found = Found::default();
    let mut quotes = Quotes::new(bytes, dialect.separator, dialect.quote.unwrap_or(0));
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
                positions.push(at as u32);
                found.line_ends += 1;
            }
        } else if Some(byte) == dialect.quote {
            quotes.turn(at);
        } else if quotes.open.is_none() && (byte == dialect.separator || byte == b'\n') {
            positions.push(at as u32);
            found.line_ends += usize::from(byte == b'\n');
        }
    }
    found.open_quote = quotes.open;
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const CSV: Dialect = Dialect { separator: b',', quote: Some(b'"'), comment: None };

    fn both(bytes: &[u8]) -> (Vec<u32>, Found) {
        let (mut fast, mut plain) = (Vec::new(), Vec::new());
        let found = index(bytes, CSV, &mut fast);
        assert_eq!(found, index_plainly(bytes, CSV, &mut plain));
        assert_eq!(fast, plain);
        (fast, found)
    }

    #[rstest]
    #[case::plain("a,b\nc,d\n", &[1, 3, 5, 7])]
    #[case::separator_in_quotes("\"a,b\",c\n", &[5, 7])]
    #[case::line_break_in_quotes("\"a\nb\",c\n", &[5, 7])]
    #[case::doubled_quote("\"a\"\",\",c\n", &[6, 8])]
    #[case::quote_in_a_plain_cell("5\" pipe,x\n", &[7, 9])]
    #[case::text_after_the_quotes("\"a\"b\",c\n", &[5, 7])]
    fn cells_end_where_they_should(#[case] text: &str, #[case] expected: &[u32]) {
        assert_eq!(both(text.as_bytes()).0, expected);
    }

    #[test]
    fn an_open_quote_is_told() {
        assert_eq!(both(b"a,\"b\nc,d\n").1.open_quote, Some(2));
    }

    #[test]
    fn a_comment_may_hold_quotes() {
        let dialect = Dialect { comment: Some(b'#'), ..CSV };
        let mut positions = Vec::new();
        index(b"#,\"\na,b\n", dialect, &mut positions);
        assert_eq!(positions, [3, 5, 7]);
    }

    proptest! {
        #[test]
        fn the_passes_agree(text in r#"[a,"\n]{0,300}"#) {
            let (positions, _) = both(text.as_bytes());
            let last = positions.iter().rev().find(|p| text.as_bytes()[**p as usize] == b'\n');
            prop_assert_eq!(last_record_end(text.as_bytes(), CSV), last.map(|p| *p as usize + 1));
        }
    }
}
