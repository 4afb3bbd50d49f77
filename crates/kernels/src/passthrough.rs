//! Passthrough of rows: those whose bytes in the input are the bytes that the writer would produce are copied instead of
//! being decoded and encoded again.
//!
//! A number, a day or a bool can be written in several ways (`1.50`, `1.5`), of which the writer uses one, its canonical
//! form. These loops test 64 cells at a time whether they are in canonical form. The test may say no of a cell that is
//! (its row is then encoded from its values), never yes of one that is not. Fractions with trailing zeros are the one
//! exception: their rows are copied without those zeros.

use crate::known::known_part;
use arrow_array::BinaryViewArray;
use arrow_buffer::NullBuffer;

use crate::cells::{Cells, Rows, Spans};
use crate::chunk::{CHUNK, Chunk, eight};
use crate::masks::Way;
use crate::views::{Own, TextBlock};

/// How a column's values are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// Whole numbers.
    Whole,
    /// Decimal fractions, in the shortest form that reads back.
    Fraction,
    /// `2026-01-31`.
    Day,
    /// `true` or `false`.
    Truth,
    /// Text, without quotes.
    Text,
}

impl Form {
    /// Whether a cell alone tells that it is of its type and as it would be written: of a text without quotes, which is
    /// known to be UTF-8, and of a fraction.
    pub fn is_told_unread(self) -> bool {
        matches!(self, Form::Text | Form::Fraction)
    }
}

/// The lowest bit of each byte of a word.
const ONES: u64 = 0x0101_0101_0101_0101;

/// Bytes for which a text is written with quotes, and the first one of a mark of byte order.
const SPECIAL: [u8; 3] = [b'"', b'\r', 0xef];

/// Finds the rows of a block whose bytes can be copied: all cells are in canonical form.
#[derive(Debug)]
pub struct Passthrough<'a> {
    rows: Rows<'a>,
    /// A bit for each, 64 of them a word.
    stand: Vec<u64>,
    /// Columns with cells that stand but for zeros at their end, and which those are.
    trimmed: Vec<(Cells<'a>, Vec<u64>)>,
}

impl<'a> Passthrough<'a> {
    /// Starts with all rows; each column that is tested removes some.
    pub fn new(rows: Rows<'a>) -> Passthrough<'a> {
        Passthrough { rows, stand: vec![u64::MAX; rows.len().div_ceil(CHUNK)], trimmed: Vec::new() }
    }

    /// Removes rows whose cell of the next column is not in canonical form: a value as the writer writes it, null as the
    /// empty cell. The cells must have been decoded before, so that each that is not null is known to be of its type.
    pub fn column(&mut self, cells: Cells<'a>, form: Form, nulls: Option<&NullBuffer>) {
        let valid = nulls.map(|nulls| nulls.inner().bit_chunks());
        let mut valid = valid.as_ref().map(|chunks| chunks.iter_padded());
        self.leave(cells, form, |_, _| valid.as_mut().map_or(u64::MAX, |valid| valid.next().unwrap_or(0)));
    }

    /// As [`Passthrough::column`], of cells that were not read and are of a form that [is told unread](Form::is_told_unread).
    /// The empty cell is null.
    pub fn unread(&mut self, cells: Cells<'a>, form: Form) {
        let sure = |chunk: Chunk<'_>| if form.is_told_unread() { of_digits(chunk) } else { 0 };
        self.leave(cells, form, |chunk, empty| sure(chunk) & !empty);
    }

    /// Leaves those whose cell is in the one form for its value; `valid` tells which of 64 cells have one, given those
    /// that are empty.
    #[inline(always)]
    fn leave(&mut self, cells: Cells<'a>, form: Form, mut valid: impl FnMut(Chunk<'_>, u64) -> u64) {
        if form == Form::Text {
            // Without quotes it is the same, and the empty cell is null.
            return;
        }
        let mut spare = Spans::default();
        let mut trimmed = Vec::new();
        for (number, stand) in self.stand.iter_mut().enumerate() {
            let chunk = cells.chunk(self.rows, number * CHUNK, &mut spare);
            let Standing { whole, but_zeros, empty } = standing(chunk, form);
            let valid = valid(chunk, empty);
            *stand &= ((whole | but_zeros) & valid & !empty) | (empty & !valid);
            trimmed.push(but_zeros & valid);
        }
        if trimmed.iter().any(|bits| *bits != 0) {
            self.trimmed.push((cells, trimmed));
        }
    }

    /// The rows' bytes, from their first cell to their last one; null for a row that does not stand as it would be
    /// written, or is so short that a copy of it gains nothing.
    pub fn lines(mut self, block: &TextBlock, first: Cells<'_>, last: Cells<'_>) -> BinaryViewArray {
        let (rows, bytes) = (self.rows, block.bytes());
        let range = |place: usize| (first.range(rows.row(place)).0, last.range(rows.row(place)).1);
        let mut at = 0;
        for special in memchr::memchr3_iter(SPECIAL[0], SPECIAL[1], SPECIAL[2], bytes) {
            while at < rows.len() && range(at).1 <= special {
                at += 1;
            }
            if at == rows.len() {
                break;
            }
            if range(at).0 <= special {
                self.stand[at / CHUNK] &= !(1 << (at % CHUNK));
            }
        }
        let mut own = Own::default();
        for (word, stand) in self.stand.iter().enumerate() {
            let any = self.trimmed.iter().fold(0, |any, (_, bits)| any | bits[word]);
            let mut left = any & stand;
            while left != 0 {
                let place = word * CHUNK + left.trailing_zeros() as usize;
                left &= left - 1;
                if place < rows.len() {
                    self.push_trimmed(place, bytes, range(place), &mut own.text);
                    own.ends.push((place, own.text.len()));
                }
            }
        }
        block.parts((0..rows.len()).map(range), self.stand, own)
    }

    /// Appends a row without the zeros at the end of its fractions.
    fn push_trimmed(&self, place: usize, bytes: &[u8], (start, end): (usize, usize), own: &mut Vec<u8>) {
        let mut from = start;
        for (cells, bits) in &self.trimmed {
            if bits[place / CHUNK] >> (place % CHUNK) & 1 == 1 {
                let (cell, end) = cells.range(self.rows.row(place));
                own.extend_from_slice(known_part(bytes, from..end));
                from = end;
                let text = known_part(bytes, cell..end);
                let zeros = text.iter().rev().take_while(|byte| **byte == b'0').count();
                // One digit stays behind the point.
                let bare = text.len() - zeros;
                let is_bare = bare.checked_sub(1).and_then(|last| text.get(last)) == Some(&b'.');
                own.truncate(own.len() - zeros + usize::from(is_bare));
            }
        }
        own.extend_from_slice(known_part(bytes, from..end));
    }
}

/// What cells of a column are, a bit for each.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Standing {
    /// In the one form for their value.
    whole: u64,
    /// So but for zeros at their end.
    but_zeros: u64,
    empty: u64,
}

/// Looks at cells of a form.
fn standing(chunk: Chunk<'_>, form: Form) -> Standing {
    match Way::choose() {
        // SAFETY: a way is chosen only where the processor has it.
        #[cfg(target_arch = "x86_64")]
        Way::Avx512(_) => unsafe { standing_avx512(chunk, form) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Way::Avx2(_) => unsafe { standing_avx2(chunk, form) },
        Way::Portable => standing_plain(chunk, form),
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f,avx512bw,avx512cd,avx512dq,avx512vl")]
fn standing_avx512(chunk: Chunk<'_>, form: Form) -> Standing {
    standing_plain(chunk, form)
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn standing_avx2(chunk: Chunk<'_>, form: Form) -> Standing {
    standing_plain(chunk, form)
}

/// Without a branch on what a cell looks like: compilers make vectors of it.
#[inline(always)]
fn standing_plain(chunk: Chunk<'_>, form: Form) -> Standing {
    let words = chunk.words();
    let mut but_zeros = 0;
    let whole = match form {
        Form::Whole => each(chunk, &words, is_plain_whole) & bits(&last_is_digit(chunk, &words)),
        Form::Fraction => {
            let plain = each(chunk, &words, is_plain_fraction);
            but_zeros = plain & each(chunk, &words, has_zeros);
            plain & !but_zeros
        }
        Form::Day => each(chunk, &words, |text| (text.length == 10) & (text.byte(4) == u64::from(b'-'))),
        Form::Truth => each(chunk, &words, is_plain_truth),
        Form::Text => u64::MAX,
    };
    Standing { whole, but_zeros, empty: each(chunk, &words, |text| text.length == 0) }
}

/// The plain fractions that have nothing but digits beside their point and sign.
fn of_digits(chunk: Chunk<'_>) -> u64 {
    match Way::choose() {
        // SAFETY: a way is chosen only where the processor has it.
        #[cfg(target_arch = "x86_64")]
        Way::Avx512(_) => unsafe { of_digits_avx512(chunk) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Way::Avx2(_) => unsafe { of_digits_avx2(chunk) },
        Way::Portable => of_digits_plain(chunk),
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f,avx512bw,avx512cd,avx512dq,avx512vl")]
fn of_digits_avx512(chunk: Chunk<'_>) -> u64 {
    of_digits_plain(chunk)
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn of_digits_avx2(chunk: Chunk<'_>) -> u64 {
    of_digits_plain(chunk)
}

#[inline(always)]
fn of_digits_plain(chunk: Chunk<'_>) -> u64 {
    each(chunk, &chunk.words(), |text| {
        const ZEROS: u64 = ONES * b'0' as u64;
        let inside = u64::MAX >> (8 * (8u64.wrapping_sub(text.length) & 7));
        // What is no point and no sign; of each byte of that, a digit's distance from zero is at most nine.
        let points = text.word ^ (ONES * u64::from(b'.'));
        let point = points.wrapping_sub(ONES) & !points & (ONES << 7);
        let point = ((point & point.wrapping_neg()) >> 7) * 255;
        let sign = u64::from(text.byte(0) == u64::from(b'-')) * 255;
        let distance = text.word ^ ZEROS;
        (distance | distance.wrapping_add(ONES * 6)) & (ONES * 0xf0) & inside & !point & !sign == 0
    })
}

/// A bit for each cell for which `holds`.
#[inline(always)]
fn each(chunk: Chunk<'_>, words: &[u64; CHUNK], holds: impl Fn(TextColumn) -> bool) -> u64 {
    let mut flags = [false; CHUNK];
    for (flag, (length, word)) in flags.iter_mut().zip(chunk.lengths.iter().zip(words)) {
        *flag = holds(TextColumn { length: u64::from(*length), word: *word });
    }
    bits(&flags)
}

/// A bit for each.
#[inline(always)]
fn bits(flags: &[bool; CHUNK]) -> u64 {
    // Eight flags become eight bits by a multiplication that moves each to its place in the top byte.
    let eight =
        |flags: [bool; 8]| u64::from_le_bytes(flags.map(u8::from)).wrapping_mul(0x0102_0408_1020_4080) >> 56;
    flags.as_chunks::<8>().0.iter().enumerate().fold(0, |bits, (i, flags)| bits | eight(*flags) << (8 * i))
}

/// A cell: its length, and its first eight bytes, lowest first, with what stands behind it if it is shorter.
#[derive(Clone, Copy)]
struct TextColumn {
    length: u64,
    word: u64,
}

impl TextColumn {
    /// A byte of the first eight.
    #[inline(always)]
    fn byte(self, at: u64) -> u64 {
        self.word >> (8 * (at & 7)) & 255
    }
}

#[inline(always)]
fn is_digit(byte: u64) -> bool {
    byte.wrapping_sub(u64::from(b'0')) < 10
}

/// Whether digits that begin with this one are as they are written: no zero before others.
#[inline(always)]
fn begins(digit: u64, is_alone: bool) -> bool {
    (digit.wrapping_sub(u64::from(b'1')) < 9) | ((digit == u64::from(b'0')) & is_alone)
}

/// All but the last digit.
#[inline(always)]
fn is_plain_whole(text: TextColumn) -> bool {
    let signed = u64::from(text.byte(0) == u64::from(b'-'));
    begins(text.byte(signed), text.length == 1)
}

#[inline(always)]
fn last_is_digit(chunk: Chunk<'_>, words: &[u64; CHUNK]) -> [bool; CHUNK] {
    let mut flags = [false; CHUNK];
    let mut is_any_long = false;
    for (flag, (length, word)) in flags.iter_mut().zip(chunk.lengths.iter().zip(words)) {
        is_any_long |= *length > 8;
        *flag = is_digit(word >> (8 * (u64::from(*length).wrapping_sub(1) & 7)) & 255);
    }
    if is_any_long {
        for (flag, (length, start)) in flags.iter_mut().zip(chunk.lengths.iter().zip(chunk.starts)) {
            if *length > 8 {
                let end = start.wrapping_add(*length);
                *flag = is_digit(eight(chunk.bytes, end.wrapping_sub(8) as usize) >> 56);
            }
        }
    }
    flags
}

/// At most eight characters, of which up to four stand behind the point; there may be zeros at the end.
#[inline(always)]
fn is_plain_fraction(text: TextColumn) -> bool {
    let TextColumn { length, word } = text;
    let signed = u64::from(text.byte(0) == u64::from(b'-'));
    // The lowest byte that is a point has its high bit set here, alone.
    let points = word ^ (ONES * u64::from(b'.'));
    let found = points.wrapping_sub(ONES) & !points & (ONES << 7);
    let point = found & found.wrapping_neg();
    // Where it would be before one decimal, and before up to four.
    let one = 0x80 << (8 * (length.wrapping_sub(2) & 7));
    let few = one | one >> 8 | one >> 16 | one >> 24;
    // Letters of an exponent have this bit, digits, points and signs have not.
    let inside = u64::MAX >> (8 * (8u64.wrapping_sub(length) & 7));
    let letters = word & inside & (ONES << 6);
    (length.wrapping_sub(3) < 6)
        & (letters == 0)
        & (point & few & (ONES << 7) != 0)
        & begins(text.byte(signed), point == 0x80 << (8 * (signed + 1)))
        & is_digit(text.byte(length.wrapping_sub(1)))
}

/// Whether a plain fraction has a zero at its end that is not the one digit behind the point.
#[inline(always)]
fn has_zeros(text: TextColumn) -> bool {
    let from_end = |places: u64| text.byte(text.length.wrapping_sub(places));
    (from_end(1) == u64::from(b'0')) & (from_end(2) != u64::from(b'.'))
}

#[inline(always)]
fn is_plain_truth(text: TextColumn) -> bool {
    const TRUE: u64 = u32::from_le_bytes(*b"true") as u64;
    const FALSE: u64 = u64::from_le_bytes(*b"false\0\0\0");
    let is =
        |length: u64, word: u64| (text.length == length) & (text.word & ((1 << (8 * length)) - 1) == word);
    is(4, TRUE) | is(5, FALSE)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{chunk, digits, number};
    use proptest::prelude::*;

    /// Every way says the same; gives which of the texts stand.
    fn stand(texts: &[String], form: Form) -> Vec<bool> {
        let (bytes, starts, lengths) = chunk::in_a_row(texts);
        let cells = Chunk { bytes: &bytes, starts: &starts, lengths: &lengths };
        let found = standing(cells, form);
        assert_eq!(found, standing_plain(cells, form));
        let Standing { whole, but_zeros, empty } = found;
        assert_eq!(whole & but_zeros, 0);
        for (i, text) in texts.iter().enumerate().filter(|(i, _)| but_zeros >> i & 1 == 1) {
            let value = number::parse_float(text.as_bytes());
            assert!(text.ends_with('0') && value.is_none_or(|v| format!("{v:?}").len() < text.len()), "{i}");
        }
        (0..texts.len()).map(|i| whole & !empty & (1 << i) != 0).collect()
    }

    proptest! {
        #[test]
        fn what_stands_is_what_is_written(
            wholes in prop::collection::vec("[+-]?0?[0-9]{1,11} ?|-?0", 1..64),
            fractions in prop::collection::vec("[+-]?[0-9]{0,5}[.][0-9]{0,5}|-?[0-9.]{1,9}|[0-9]{1,3}[.]?[0-9]?e-?[0-9]", 1..64),
        ) {
            for (text, stands) in wholes.iter().zip(stand(&wholes, Form::Whole)) {
                let mut written = Vec::new();
                if let Some(value) = number::parse_int(text.as_bytes()) {
                    digits::push_int(value, &mut written);
                    prop_assert_eq!(stands, written == text.as_bytes(), "{}", text);
                }
            }
            for (text, stands) in fractions.iter().zip(stand(&fractions, Form::Fraction)) {
                let Some(value) = number::parse_float(text.as_bytes()).filter(|_| stands) else { continue };
                let mut written = Vec::new();
                if digits::push_short_decimal(value, &mut written) {
                    prop_assert_eq!(written, text.as_bytes());
                } else {
                    // As the shortest form that reads back is written, which has a point for these.
                    prop_assert_eq!(&format!("{value:?}"), text);
                }
            }
        }
    }

    proptest! {
        #[test]
        fn what_is_of_digits_is_a_number(texts in prop::collection::vec("-?[0-9]{1,3}[.][0-9]{1,3}|[0-9.x:/-]{1,8}", 1..64)) {
            let (bytes, starts, lengths) = chunk::in_a_row(&texts);
            let cells = Chunk { bytes: &bytes, starts: &starts, lengths: &lengths };
            let Standing { whole, but_zeros, .. } = standing(cells, Form::Fraction);
            let sure = of_digits(cells);
            prop_assert_eq!(sure, of_digits_plain(cells));
            for (i, text) in texts.iter().enumerate() {
                let is_plain = (whole | but_zeros) >> i & 1 == 1;
                let is_number = text.trim_start_matches('-').bytes().all(|b| b.is_ascii_digit() || b == b'.')
                    && number::parse_float(text.as_bytes()).is_some();
                // Few that are no numbers are taken for such by their look, none by their digits.
                prop_assert!(!is_plain || (sure >> i & 1 == 1) == is_number, "{}", text);
            }
        }
    }

    #[test]
    fn common_forms_stand() {
        let texts = |texts: &[&str]| texts.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>();
        let of = |list: &[&str], form| stand(&texts(list), form);
        assert_eq!(
            of(&["1.5", "0.25", "-4.0", "5555.5", "1.50", "05.1", "5", "1e3", ""], Form::Fraction),
            [true, true, true, true, false, false, false, false, false]
        );
        assert_eq!(
            of(&["0", "-12", "123456789012", "007", "-0", ""], Form::Whole),
            [true, true, true, false, false, false]
        );
        assert_eq!(of(&["true", "false", "True", "tru", ""], Form::Truth), [true, true, false, false, false]);
        assert_eq!(of(&["2026-01-31", "31.01.2026", ""], Form::Day), [true, false, false]);
    }
}
