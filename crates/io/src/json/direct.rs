//! Records decoded straight from their bytes: those of plain shape, which nearly all are.
//!
//! Records of a file have the same fields in the same order most times. So the fields of the record before are remembered
//! in order, and a name is compared with the one that is expected, without a look-up. Values of columns that are not
//! needed are passed over, but checked: what is no JSON is not taken for some.
//!
//! What is not plain (an escape in a name or in a text that is needed, a list, a number of many digits, a value that does
//! not fit its column, a fault) is left to the parser of [`super::decode`], which reads the record again.

use churn_kernels::number;

use super::long;

/// Fields that are remembered; a record with more is not plain.
const MOST_FIELDS: usize = 1 << 12;

/// Records within records; one that is deeper is not plain.
const DEEPEST: usize = 32;

/// Bytes of a number whose digits all count in 64 bits.
const SURE: usize = 18;

/// What takes the values of fields; a field is known to it by a number.
pub(super) trait Fields {
    /// What becomes of the values of the field with this path.
    fn place(&mut self, path: &str) -> JsonPlace;
    /// Takes a text; not plain if the field does not take it as it is.
    fn text(&mut self, field: usize, text: &str) -> Plain<()>;
    /// Takes a whole number of at most 18 digits.
    fn int(&mut self, field: usize, value: i64) -> Plain<()>;
    /// Takes a number with a fraction or an exponent.
    fn float(&mut self, field: usize, value: f64) -> Plain<()>;
    /// Takes a truth value.
    fn bool(&mut self, field: usize, value: bool) -> Plain<()>;
    /// Takes null.
    fn null(&mut self, field: usize) -> Plain<()>;
}

/// What becomes of a field's values.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum JsonPlace {
    /// They are taken, under this number.
    Field(usize),
    /// They are not needed, whatever they are.
    Unneeded,
    /// There should be none: a record that has some, or nothing.
    None,
}

/// A field of the record before.
struct Known {
    /// Of a field within another one that one's number, else 0.
    parent: u32,
    /// Its own number, from 1 on.
    number: u32,
    /// Its name, and the quotation mark behind it.
    name: Vec<u8>,
    /// Its name and those of the fields around it.
    path: String,
    place: JsonPlace,
    /// The number of the last record that had it.
    record: u64,
}

/// The fields of the records before.
#[derive(Default)]
pub(super) struct RecordShape {
    /// In order of the last record that had them.
    fields: Vec<Known>,
    /// How many records were read.
    records: u64,
}

/// A record is not plain.
#[derive(Debug)]
pub(super) struct NotPlain;

pub(super) type Plain<T> = Result<T, NotPlain>;

impl RecordShape {
    /// The expected field, if it stands in a text and within a parent, and the place behind its name and quotation mark.
    #[inline]
    fn expected(
        &mut self,
        next: &mut usize,
        parent: u32,
        text: &[u8],
        at: usize,
    ) -> Option<(usize, u32, JsonPlace)> {
        let known = self.fields.get_mut(*next)?;
        let rest = text.get(at..)?;
        let is = known.parent == parent && known.record != self.records && rest.starts_with(&known.name);
        if !is {
            return None;
        }
        known.record = self.records;
        *next += 1;
        Some((at + known.name.len(), known.number, known.place))
    }

    /// The field with a name within a parent, which is not the expected one: fields between are missing, or it is new. `next`
    /// becomes where the field behind it is expected.
    #[inline(never)]
    fn field(
        &mut self,
        next: &mut usize,
        parent: u32,
        name: &[u8],
        fields: &mut impl Fields,
    ) -> Plain<(u32, JsonPlace)> {
        let is = |known: &Known| known.parent == parent && known.name.strip_suffix(b"\"") == Some(name);
        if let Some(at) = self.fields.iter().position(is) {
            *next = at + 1;
            // Of a record that has a field twice the parser knows which counts.
            let known =
                self.fields.get_mut(at).filter(|known| known.record != self.records).ok_or(NotPlain)?;
            known.record = self.records;
            return Ok((known.number, known.place));
        }
        if self.fields.len() >= MOST_FIELDS {
            return Err(NotPlain);
        }
        let text = std::str::from_utf8(name).map_err(|_| NotPlain)?;
        let path = match self.fields.iter().find(|known| known.number == parent) {
            Some(around) => format!("{}.{text}", around.path),
            None => text.to_owned(),
        };
        let place = fields.place(&path);
        let number = self.fields.len() as u32 + 1;
        let at = (*next).min(self.fields.len());
        self.fields.insert(
            at,
            Known { parent, number, name: [name, b"\""].concat(), path, place, record: self.records },
        );
        *next = at + 1;
        Ok((number, place))
    }
}

/// Reads records from a text.
pub(super) struct RecordReader<'r, F> {
    pub(super) text: &'r [u8],
    pub(super) shape: &'r mut RecordShape,
    pub(super) fields: &'r mut F,
}

impl<F: Fields> RecordReader<'_, F> {
    /// Reads the record that starts at a place; gives where it ends. If it is not plain, some of its values were taken.
    pub(super) fn record(&mut self, at: usize) -> Plain<usize> {
        self.shape.records += 1;
        let mut next = 0;
        let mut parents = [0u32; DEEPEST];
        let mut depth = 0;
        let mut at = self.expect(at, b'{')?;
        let mut is_first = true;
        loop {
            at = self.blank(at);
            match (self.byte(at)?, is_first) {
                (b'}', _) => {
                    at += 1;
                    let Some(around) = usize::checked_sub(depth, 1) else { return Ok(at) };
                    (depth, is_first) = (around, false);
                    continue;
                }
                (b',', false) => at = self.blank(at + 1),
                (b'"', true) => {}
                _ => return Err(NotPlain),
            }
            is_first = false;
            let parent = *parents.get(depth).ok_or(NotPlain)?;
            let start = self.expect(at, b'"')?;
            let (behind, number, place) = match self.shape.expected(&mut next, parent, self.text, start) {
                Some(field) => field,
                None => {
                    let (behind, name) = text_at(self.text, start)?;
                    let (number, place) = self.shape.field(&mut next, parent, name, self.fields)?;
                    (behind, number, place)
                }
            };
            at = self.blank(behind);
            at = self.expect(at, b':')?;
            at = self.blank(at);
            if self.byte(at)? == b'{' && place != JsonPlace::Unneeded {
                depth += 1;
                *parents.get_mut(depth).ok_or(NotPlain)? = number;
                at += 1;
                is_first = true;
                continue;
            }
            at = match place {
                JsonPlace::Field(field) => self.value(at, field)?,
                JsonPlace::Unneeded => self.passed(at)?,
                JsonPlace::None => self.word(at, b"null")?,
            };
        }
    }

    #[inline]
    fn byte(&self, at: usize) -> Plain<u8> {
        self.text.get(at).copied().ok_or(NotPlain)
    }

    #[inline]
    fn expect(&self, at: usize, byte: u8) -> Plain<usize> {
        if self.byte(at)? == byte { Ok(at + 1) } else { Err(NotPlain) }
    }

    /// The place behind white space.
    #[inline]
    fn blank(&self, mut at: usize) -> usize {
        while let Some(b' ' | b'\n' | b'\t' | b'\r') = self.text.get(at) {
            at += 1;
        }
        at
    }

    #[inline]
    fn word(&self, at: usize, word: &[u8]) -> Plain<usize> {
        if self.text.get(at..).is_some_and(|rest| rest.starts_with(word)) {
            Ok(at + word.len())
        } else {
            Err(NotPlain)
        }
    }

    /// Takes the value of a field; gives the place behind it.
    #[inline]
    fn value(&mut self, at: usize, field: usize) -> Plain<usize> {
        match self.byte(at)? {
            b'"' => {
                let (behind, text) = text_at(self.text, at + 1)?;
                self.fields.text(field, std::str::from_utf8(text).map_err(|_| NotPlain)?)?;
                Ok(behind)
            }
            b'-' | b'0'..=b'9' => {
                let (behind, is_whole) = self.number_end(at)?;
                let digits = self.text.get(at..behind).ok_or(NotPlain)?;
                if is_whole {
                    // Minus zero is a float to the parser.
                    let value = number::parse_int(digits).filter(|value| *value != 0 || digits == b"0");
                    self.fields.int(field, value.filter(|_| digits.len() <= SURE).ok_or(NotPlain)?)?;
                } else {
                    let value = number::parse_float(digits).filter(|value| !long::may_be_long(*value));
                    self.fields.float(field, value.ok_or(NotPlain)?)?;
                }
                Ok(behind)
            }
            b'n' => self.fields.null(field).and_then(|()| self.word(at, b"null")),
            b't' => self.fields.bool(field, true).and_then(|()| self.word(at, b"true")),
            b'f' => self.fields.bool(field, false).and_then(|()| self.word(at, b"false")),
            _ => Err(NotPlain),
        }
    }

    /// The place behind a number, and whether it is a whole one: a sign, digits without a zero before them, a fraction, an
    /// exponent.
    #[inline]
    fn number_end(&self, start: usize) -> Plain<(usize, bool)> {
        let digits = |from: usize| {
            let rest = self.text.get(from..).unwrap_or_default();
            from + rest.iter().position(|byte| !byte.is_ascii_digit()).unwrap_or(rest.len())
        };
        let first = start + usize::from(self.byte(start)? == b'-');
        let mut end = digits(first);
        if end == first || (end > first + 1 && self.byte(first)? == b'0') {
            return Err(NotPlain);
        }
        let whole = end;
        if self.text.get(end) == Some(&b'.') {
            let fraction = end + 1;
            end = digits(fraction);
            if end == fraction {
                return Err(NotPlain);
            }
        }
        if let Some(b'e' | b'E') = self.text.get(end) {
            let exponent = end + 1 + usize::from(matches!(self.text.get(end + 1), Some(b'+' | b'-')));
            end = digits(exponent);
            if end == exponent {
                return Err(NotPlain);
            }
        }
        Ok((end, end == whole))
    }

    /// The place behind a value that nobody needs.
    fn passed(&self, at: usize) -> Plain<usize> {
        match self.byte(at)? {
            b'"' => passed_text(self.text, at + 1).ok_or(NotPlain),
            b'-' | b'0'..=b'9' => Ok(self.number_end(at)?.0),
            b'n' => self.word(at, b"null"),
            b't' => self.word(at, b"true"),
            b'f' => self.word(at, b"false"),
            // Lists and records are the parser's.
            _ => Err(NotPlain),
        }
    }
}

/// The place behind a text that starts at a place, and the text; it has no escapes.
#[inline]
fn text_at(all: &[u8], start: usize) -> Plain<(usize, &[u8])> {
    let end = start + plain_text(all.get(start..).unwrap_or_default());
    match (all.get(start..end), all.get(end)) {
        (Some(text), Some(b'"')) => Ok((end + 1, text)),
        _ => Err(NotPlain),
    }
}

/// The place behind a text that starts at a place; it may have escapes.
#[inline]
fn passed_text(all: &[u8], start: usize) -> Option<usize> {
    let mut at = start;
    loop {
        at += plain_text(all.get(at..)?);
        match all.get(at..)? {
            [b'"', ..] => return Some(at + 1),
            [b'\\', b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't', ..] => at += 2,
            [b'\\', b'u', digits @ ..] if digits.get(..4)?.iter().all(u8::is_ascii_hexdigit) => at += 6,
            _ => return None,
        }
    }
}

/// How many bytes come before a quotation mark, a backslash or a control character.
#[inline]
fn plain_text(text: &[u8]) -> usize {
    const ONES: u64 = u64::MAX / 255;
    const HIGH: u64 = ONES << 7;
    let zeros = |word: u64| word.wrapping_sub(ONES) & !word & HIGH;
    let (words, rest) = text.as_chunks::<8>();
    for (i, word) in words.iter().enumerate() {
        let word = u64::from_le_bytes(*word);
        // The lowest mark is right; those above it may not be.
        let marks = zeros(word ^ (ONES * u64::from(b'"')))
            | zeros(word ^ (ONES * u64::from(b'\\')))
            | (word.wrapping_sub(ONES * 0x20) & !word & HIGH);
        if marks != 0 {
            return i * 8 + marks.trailing_zeros() as usize / 8;
        }
    }
    let is_end = |byte: &u8| matches!(byte, b'"' | b'\\' | 0..0x20);
    words.len() * 8 + rest.iter().position(is_end).unwrap_or(rest.len())
}
