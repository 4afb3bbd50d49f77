//! Records decoded straight from their bytes: those of plain shape, which nearly all are.
//!
//! Records of a file have the same fields in the same order most times. So a record is compared with the form of an earlier one
//! first, then with what stood before each value in earlier ones ([`super::leads`]), and is read field by field only if it differs
//! from both. Values of columns that are not needed are passed over, but checked: what is no JSON is not taken for some.
//!
//! What is not plain (an escape in a name or in a text that is needed, a list that is, a number of many digits, a value that does
//! not fit its column, a fault) is left to the parser of [`super::decode`], which reads the record again.

use churn_kernels::json_ends::{digits, plain_text, short_number};
use churn_kernels::number;

use super::leads::Leads;
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
    /// Forgets the values of the record so far, which is read from its start again.
    fn again(&mut self);
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

/// A field of earlier records.
struct Known {
    /// Of a field within another one that one's number, else 0.
    parent: u32,
    name: Vec<u8>,
    /// Its name and those of the fields around it.
    path: String,
    place: JsonPlace,
}

/// The fields of the records before.
#[derive(Default)]
pub(super) struct RecordShape {
    /// The first one has the number 1.
    fields: Vec<Known>,
    /// Of each the last record that had it.
    seen: Vec<u64>,
    /// How many records were read.
    records: u64,
    leads: Leads,
}

/// A record is not plain.
#[derive(Debug)]
pub(super) struct NotPlain;

pub(super) type Plain<T> = Result<T, NotPlain>;

impl RecordShape {
    /// Notes that the record has a field: not plain if it has it twice, as the parser knows which of them counts.
    #[inline(always)]
    fn note(seen: &mut [u64], record: u64, number: u32) -> Plain<()> {
        let last = seen.get_mut(number as usize - 1).ok_or(NotPlain)?;
        if std::mem::replace(last, record) == record { Err(NotPlain) } else { Ok(()) }
    }

    /// The number of the field with a name within a parent, and what becomes of its values.
    fn field(&mut self, parent: u32, name: &[u8], fields: &mut impl Fields) -> Plain<(u32, JsonPlace)> {
        let is = |known: &Known| known.parent == parent && known.name == name;
        if let Some(at) = self.fields.iter().position(is) {
            let place = self.fields.get(at).ok_or(NotPlain)?.place;
            return Ok((at as u32 + 1, place));
        }
        if self.fields.len() >= MOST_FIELDS {
            return Err(NotPlain);
        }
        let text = std::str::from_utf8(name).map_err(|_| NotPlain)?;
        let around = (parent as usize).checked_sub(1).and_then(|around| self.fields.get(around));
        let path = around.map_or_else(|| text.to_owned(), |around| format!("{}.{text}", around.path));
        let place = fields.place(&path);
        self.fields.push(Known { parent, name: name.to_vec(), path, place });
        self.seen.push(0);
        Ok((self.fields.len() as u32, place))
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
    #[inline]
    pub(super) fn record(&mut self, at: usize) -> Plain<usize> {
        if let Some(end) = self.formed(at) {
            return Ok(end);
        }
        self.fields.again();
        if !self.shape.leads.form.is_stale() {
            if let Some(end) = self.expected(at) {
                return Ok(end);
            }
            self.fields.again();
        }
        self.by_field(at)
    }

    /// Reads a record that has the form of an earlier one.
    #[inline(always)]
    fn formed(&mut self, at: usize) -> Option<usize> {
        let mut form = std::mem::take(&mut self.shape.leads.form);
        let end = form.read(self.text, at, |at, place| self.placed(at, place).ok());
        self.shape.leads.form = form;
        end
    }

    /// Reads a record whose leads are all known.
    #[inline]
    fn expected(&mut self, mut at: usize) -> Option<usize> {
        self.shape.records += 1;
        let mut after = 0;
        loop {
            let RecordShape { seen, records, leads, .. } = &mut *self.shape;
            let expected = leads.expected(after, self.text, at)?;
            for number in expected.names {
                RecordShape::note(seen, *records, *number).ok()?;
            }
            at = expected.at;
            let Some((number, place)) = expected.value else { return Some(at) };
            at = self.placed(at, place).ok()?;
            after = number;
        }
    }

    /// Reads a record field by field.
    #[inline(never)]
    fn by_field(&mut self, at: usize) -> Plain<usize> {
        self.shape.records += 1;
        self.shape.leads.start();
        // Where the last value ended, and its field.
        let (mut behind, mut after) = (at, 0);
        let mut parents = [0u32; DEEPEST];
        let mut depth = 0;
        let mut at = self.expect(at, b'{')?;
        let mut is_first = true;
        loop {
            at = self.blank(at);
            match (self.byte(at)?, is_first) {
                (b'}', _) => {
                    at += 1;
                    if let Some(around) = usize::checked_sub(depth, 1) {
                        (depth, is_first) = (around, false);
                        continue;
                    }
                    self.shape.leads.read(after, (behind, at), None);
                    self.shape.leads.remember(self.text);
                    return Ok(at);
                }
                (b',', false) => at = self.blank(at + 1),
                (b'"', true) => {}
                _ => return Err(NotPlain),
            }
            is_first = false;
            let parent = *parents.get(depth).ok_or(NotPlain)?;
            let (end, name) = text_at(self.text, self.expect(at, b'"')?)?;
            let (number, place) = self.shape.field(parent, name, self.fields)?;
            RecordShape::note(&mut self.shape.seen, self.shape.records, number)?;
            self.shape.leads.name(number);
            at = self.expect(self.blank(end), b':')?;
            at = self.blank(at);
            if self.byte(at)? == b'{' && place != JsonPlace::Unneeded {
                depth += 1;
                *parents.get_mut(depth).ok_or(NotPlain)? = number;
                at += 1;
                is_first = true;
                continue;
            }
            self.shape.leads.read(after, (behind, at), Some((number, place)));
            at = self.placed(at, place)?;
            (behind, after) = (at, number);
        }
    }

    /// Takes a value, or passes over it; gives the place behind it.
    #[inline(always)]
    fn placed(&mut self, at: usize, place: JsonPlace) -> Plain<usize> {
        match place {
            JsonPlace::Field(field) => self.value(at, field),
            JsonPlace::Unneeded => self.passed(at),
            JsonPlace::None => self.word(at, b"null"),
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
    #[inline(always)]
    fn number_end(&self, start: usize) -> Plain<(usize, bool)> {
        let bytes = self.text.get(start..).and_then(|rest| rest.first_chunk());
        match bytes.and_then(short_number) {
            Some((length, is_whole)) => Ok((start + length, is_whole)),
            None => self.long_number_end(start),
        }
    }

    /// The same of any number.
    #[inline(never)]
    fn long_number_end(&self, start: usize) -> Plain<(usize, bool)> {
        let digits = |from: usize| from + digits(self.text.get(from..).unwrap_or_default());
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
    #[inline(always)]
    fn passed(&self, at: usize) -> Plain<usize> {
        if let b'{' | b'[' = self.byte(at)? { self.passed_nested(at) } else { self.passed_scalar(at) }
    }

    /// The same of a value that is no list and no record.
    #[inline(always)]
    fn passed_scalar(&self, at: usize) -> Plain<usize> {
        match self.byte(at)? {
            b'"' => passed_text(self.text, at + 1).ok_or(NotPlain),
            b'-' | b'0'..=b'9' => Ok(self.number_end(at)?.0),
            b'n' => self.word(at, b"null"),
            b't' => self.word(at, b"true"),
            b'f' => self.word(at, b"false"),
            _ => Err(NotPlain),
        }
    }

    /// The place behind a list or a record that nobody needs.
    #[inline(never)]
    fn passed_nested(&self, mut at: usize) -> Plain<usize> {
        // What ends each of those that are open.
        let mut ends = [0u8; DEEPEST];
        let mut open = 0;
        loop {
            // A value starts here.
            let end = match self.byte(at)? {
                b'{' => b'}',
                b'[' => b']',
                _ => 0,
            };
            if end == 0 {
                at = self.passed_scalar(at)?;
            } else {
                *ends.get_mut(open).ok_or(NotPlain)? = end;
                open += 1;
                at = self.blank(at + 1);
                if self.byte(at)? != end {
                    at = self.passed_name(at, end)?;
                    continue;
                }
            }
            // Behind a value, or at the end of what has none.
            loop {
                at = self.blank(at);
                let end = *ends.get(open - 1).ok_or(NotPlain)?;
                match self.byte(at)? {
                    b',' => {
                        at = self.passed_name(self.blank(at + 1), end)?;
                        break;
                    }
                    byte if byte == end => (at, open) = (at + 1, open - 1),
                    _ => return Err(NotPlain),
                }
                if open == 0 {
                    return Ok(at);
                }
            }
        }
    }

    /// The place of the value of a field that starts at a place of a record; of a list it starts there itself.
    fn passed_name(&self, at: usize, end: u8) -> Plain<usize> {
        if end == b']' {
            return Ok(at);
        }
        let behind = passed_text(self.text, self.expect(at, b'"')?).ok_or(NotPlain)?;
        Ok(self.blank(self.expect(self.blank(behind), b':')?))
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
