//! Column types from what cells look like: all cells of a small file, of a larger one those at many places.

use std::io::Read;
use std::sync::Arc;

use churn_core::{Result, Type};
use churn_expr::pattern;
use churn_kernels::cells::Rows;
use churn_kernels::{calendar, number, structure};

use super::cells::{BlockCells, Borders, Needed};
use super::decode::ColumnDecoder;
use super::head::{Fetching, Head, LOOKED_AT};
use super::options::{BadRows, CsvOptions};
use super::pad::padded;
use crate::open_files::PositionedFile;
use crate::place;
use crate::source::Looked;
use crate::store::{self, Transfer};

/// Bytes of the largest file that is looked at as a whole.
const WHOLE: u64 = 16 << 20;

/// Bytes of all files together that are looked at as a whole; of those after them some places are.
const WHOLE_TOGETHER: u64 = 64 << 20;

/// Places that a larger file is looked at, its start and its end among them, and those of many files together.
const PLACES: usize = 64;
const PLACES_TOGETHER: usize = 1024;

/// Bytes looked at a place; where the rows are longer, the second number.
const PLACE: [usize; 2] = [1 << 14, 1 << 18];

/// Bytes that are looked at in one go.
const PIECE: usize = 1 << 20;

/// What the cells of a column look like.
#[derive(Clone, Debug, Default)]
pub(super) struct Look {
    /// Cells with a value.
    pub(super) values: usize,
    /// Whether a cell is the empty text: nothing between quotes, or a blank that does not stand for null.
    pub(super) has_empty_text: bool,
    bool: usize,
    int: usize,
    float: usize,
    /// Whole numbers with a plus sign, as telephone numbers have one.
    plus: usize,
    /// Dates by the option's pattern.
    pattern: usize,
    date: usize,
    time: usize,
    timestamp: usize,
    /// Numbers that would lose digits as numbers: leading zeros, too many of them.
    keeps_digits: bool,
    /// The first few cells, for guessing at what a date is written like.
    examples: Vec<String>,
    /// The first cell that is no date.
    no_date: Option<String>,
}

impl Look {
    fn see(&mut self, text: &[u8], options: &CsvOptions) {
        self.values += 1;
        let trimmed = text.trim_ascii();
        let is_date = calendar::parse_date(trimmed).is_some();
        match trimmed.first() {
            Some(b't' | b'T' | b'f' | b'F') => {
                let is_bool = trimmed.eq_ignore_ascii_case(b"true") || trimmed.eq_ignore_ascii_case(b"false");
                self.bool += usize::from(is_bool);
            }
            Some(b'0'..=b'9' | b'-' | b'+' | b'.' | b'n' | b'N' | b'i') => self.see_number(trimmed, options),
            Some(first) if *first == options.decimal => self.see_number(trimmed, options),
            _ => {}
        }
        if matches!(trimmed.get(2), Some(b':')) {
            self.time += usize::from(calendar::parse_time(trimmed).is_some());
        }
        let may_be_moment = !is_date && trimmed.len() > 10 && trimmed.get(4) == Some(&b'-');
        let is_moment = may_be_moment && calendar::parse_timestamp(trimmed).is_some();
        self.date += usize::from(is_date);
        self.timestamp += usize::from(is_date || is_moment);
        if !is_date && self.no_date.is_none() {
            self.no_date = Some(String::from_utf8_lossy(text).into_owned());
        }
        if let Some(wanted) = &options.dates
            && let Ok(text) = std::str::from_utf8(trimmed)
        {
            self.pattern += usize::from(pattern::parse(wanted, text, &pattern::dated_type(wanted)).is_some());
        }
        if self.examples.len() < 50 {
            self.examples.push(String::from_utf8_lossy(text).into_owned());
        }
    }

    fn see_number(&mut self, text: &[u8], options: &CsvOptions) {
        let reader = ColumnDecoder::number(options);
        let Some(plain) = reader.normal(text).filter(|plain| number::parse_float(plain).is_some()) else {
            return;
        };
        let is_int = number::parse_int(&plain).is_some();
        let is_whole = number::is_whole(&plain);
        self.float += 1;
        self.int += usize::from(is_int);
        self.plus += usize::from(is_whole && text.first() == Some(&b'+'));
        self.keeps_digits |= number::has_leading_zero(&plain) || is_whole && !is_int;
    }

    /// Looks at a column of cells, many at a time where all so far were of one type.
    fn see_all(&mut self, cells: &BlockCells<'_>, position: usize, options: &CsvOptions) {
        let rows = Rows::All(cells.rows());
        let column = cells.column(position);
        let is_plain = options.missing.is_none()
            && options.dates.is_none()
            && options.decimal == b'.'
            && options.thousands.is_none();
        let all = |n: usize| is_plain && self.values > 0 && n == self.values && !self.keeps_digits;
        let (mut odd, empty) = if all(self.int) && self.plus == 0 {
            let read = column.ints(rows, number::parse_exact_int);
            let fit = cells.rows() - read.odd.len() - read.empty.len();
            (self.values, self.int, self.float) = (self.values + fit, self.int + fit, self.float + fit);
            (read.odd, read.empty)
        } else if all(self.float) && self.int < self.float {
            let read = column.floats(rows, number::parse_exact_float);
            let fit = cells.rows() - read.odd.len() - read.empty.len();
            (self.values, self.float) = (self.values + fit, self.float + fit);
            (read.odd, read.empty)
        } else if all(self.date) {
            let read = column.dates(rows);
            let fit = cells.rows() - read.odd.len() - read.empty.len();
            (self.values, self.date) = (self.values + fit, self.date + fit);
            self.timestamp += fit;
            (read.odd, read.empty)
        } else {
            ((0..cells.rows() as u32).collect(), Vec::new())
        };
        self.has_empty_text |= options.missing.is_some() && !empty.is_empty();
        for row in odd.drain(..) {
            let cell = cells.get(row as usize, position);
            let text = cells.plain(cell);
            match is_missing(&text, cell.quoted, options) {
                false if text.is_empty() => self.has_empty_text = true,
                false => self.see(&text, options),
                true => {}
            }
        }
    }

    /// The first type that every cell fits, and whether it is a date by the option's pattern; `None` if there
    /// was no cell.
    pub(super) fn kind(&self, options: &CsvOptions) -> Option<(Type, bool)> {
        let all = |n: usize| n == self.values;
        Some(match self.values {
            0 => return None,
            _ if all(self.bool) => (Type::Bool, false),
            _ if self.keeps_digits || self.is_signed() => (Type::Text, false),
            _ if all(self.int) => (Type::Int, false),
            _ if all(self.float) => (Type::Float, false),
            _ if all(self.pattern) && options.dates.is_some() => {
                (options.dates.as_deref().map_or(Type::Date, pattern::dated_type), true)
            }
            _ if all(self.date) => (Type::Date, false),
            _ if all(self.time) => (Type::Time, false),
            _ if all(self.timestamp) => (Type::Timestamp, false),
            _ => (Type::Text, false),
        })
    }

    /// Whether its cells are whole numbers, some of them with a plus sign that an int would lose.
    fn is_signed(&self) -> bool {
        self.plus > 0 && self.int == self.values
    }

    /// Whether a cell above the others is of their type; `None` if that tells nothing: it is empty, or they are texts.
    pub(super) fn fits(&self, cell: &str, options: &CsvOptions) -> Option<bool> {
        let (kind, _) = self.kind(options).filter(|(kind, _)| *kind != Type::Text)?;
        if cell.trim().is_empty() {
            return None;
        }
        let mut with = self.clone();
        with.see(cell.as_bytes(), options);
        Some(
            with.kind(options)
                .is_some_and(|(found, _)| found == kind || found.is_number() && kind.is_number()),
        )
    }

    /// Whether its cells are numbers that are kept as text for their digits: beside whole numbers of another
    /// file they make the column text.
    pub(super) fn is_text_for_its_digits(&self) -> bool {
        self.keeps_digits && self.float == self.values || self.is_signed()
    }

    /// Whether cells of a column that was said to hold dates are written by the option's pattern.
    pub(super) fn is_by_pattern(&self) -> bool {
        self.pattern > 0
    }

    /// What to tell of a text column that looks like dates.
    pub(super) fn note(&self, column: &str) -> Option<String> {
        let many = |n: usize| n * 10 >= self.values * 9 && n > 0 && n < self.values;
        let shown = churn_core::names::name(column);
        if many(self.date) {
            let odd = self.no_date.clone().unwrap_or_default();
            return Some(format!(
                "{shown} looks like dates but stays text: '{odd}' is none. \
                 Say with (types = ({shown} date), bad_cells = null) to make it a date."
            ));
        }
        let patterns = ["%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%Y/%m/%d", "%d-%m-%Y", "%Y%m%d"];
        let fits = |p: &&str| {
            self.examples.len() > 1
                && self
                    .examples
                    .iter()
                    .all(|e| e.len() >= 8 && pattern::parse(p, e.trim(), &Type::Date).is_some())
        };
        if self.examples.iter().any(|e| e.bytes().any(|b| !b.is_ascii_digit())) {
            let found = patterns.iter().find(|p| fits(p))?;
            let example = self.examples.first()?;
            return Some(format!(
                "{shown} looks like dates but stays text: '{example}'. Say with (dates = '{found}') to read it as a date."
            ));
        }
        None
    }
}

/// Looks at files one after the other, at fewer places of each where there are many.
pub(super) struct Inference<'a> {
    options: &'a CsvOptions,
    /// Places of each file that is not looked at as a whole.
    places: usize,
    /// Bytes of files that may still be looked at as a whole.
    whole: u64,
}

impl<'a> Inference<'a> {
    pub(super) fn new(files: usize, options: &'a CsvOptions) -> Inference<'a> {
        let places = (PLACES_TOGETHER / files.max(1)).clamp(2, PLACES);
        Inference { options, places, whole: WHOLE_TOGETHER }
    }

    /// How a file at an address is read now: as much of its start as is looked at of a file on disk.
    pub(super) fn fetching<'t>(&self, transfer: &'t Arc<Transfer>) -> Fetching<'t> {
        Fetching { transfer, start: WHOLE.min(self.whole) as usize }
    }

    /// Looks at the cells of a file, and says how much of it was looked at.
    ///
    /// # Errors
    /// The file cannot be read.
    pub(super) fn look(&mut self, head: &Head) -> Result<(Vec<Look>, Looked)> {
        let mut seen = SeenForms {
            looks: vec![Look::default(); head.names.len()],
            looked: Looked::default(),
            needed: Needed::new(head.names.len(), 0..head.names.len()),
            borders: Borders::default(),
        };
        let start = head.start.get(head.data..).unwrap_or_default();
        let is_small = head.size.is_some_and(|size| size <= WHOLE.min(self.whole));
        if head.whole || !head.opens_again() {
            if store::is_address(&head.path) {
                self.whole -= (head.start.len() as u64).min(self.whole);
            }
            seen.look_at(start, head.whole, self.options);
            seen.looked.whole = head.whole;
        } else if is_small || !head.seekable {
            self.whole -= head.size.unwrap_or(WHOLE).min(self.whole);
            self.look_from_front(head, &mut seen)?;
        } else {
            seen.look_at(start, false, self.options);
            self.look_here_and_there(head, &head.positioned()?, &mut seen)?;
        }
        Ok((seen.looks, seen.looked))
    }

    /// Looks at a file from its first row on, as far as `WHOLE` bytes.
    fn look_from_front(&self, head: &Head, seen: &mut SeenForms) -> Result<()> {
        let mut reader = head.open()?.take(WHOLE);
        let mut text = Vec::new();
        let mut piece = PIECE;
        loop {
            let had = text.len();
            let read = (&mut reader).take((piece - had) as u64).read_to_end(&mut text);
            read.map_err(|e| place::unreadable(&head.path, &e))?;
            if text.len() < piece {
                // The end of the text, or of what is looked at.
                seen.looked.whole = reader.limit() > 0;
                seen.look_at(&text, seen.looked.whole, self.options);
                return Ok(());
            }
            match structure::last_record_end(&text, self.options.dialect()) {
                Some(end) => {
                    seen.look_at(text.get(..end).unwrap_or_default(), false, self.options);
                    text.drain(..end);
                    piece = PIECE;
                }
                // A record longer than a piece, or a quote that never closes.
                None => piece += piece,
            }
        }
    }

    /// Looks at places spread over a file behind its start, the very last rows among them.
    fn look_here_and_there(&self, head: &Head, file: &PositionedFile, seen: &mut SeenForms) -> Result<()> {
        let size = file.size();
        let first = head.before + head.start.len().min(LOOKED_AT) as u64;
        let is_last = |number: u64| number + 1 == self.places as u64;
        let place = |number: u64, length: usize| {
            let last = size.saturating_sub(length as u64).max(first);
            let even = first + (last - first) / self.places as u64 * number;
            let from = if is_last(number) { last } else { even };
            from..(from + length as u64).min(size).max(from)
        };
        let read = |ranges| file.read_ranges(ranges).map_err(|e| place::unreadable(&head.path, &e));
        let numbers = 1..self.places as u64;
        let [short, long] = PLACE;
        let parts = read(numbers.clone().map(|number| place(number, short)).collect())?;
        for (number, part) in numbers.zip(parts) {
            let mut look = |part: &[u8]| {
                let border = record_start(part, seen.looks.len(), self.options);
                let records = border.and_then(|border| part.get(border..));
                records.map(|records| seen.look_at(records, is_last(number), self.options)).is_some()
            };
            if !look(&part) {
                read(vec![place(number, long)])?.iter().for_each(|part| {
                    look(part);
                });
            }
        }
        Ok(())
    }
}

/// What was seen of a file so far.
struct SeenForms {
    looks: Vec<Look>,
    looked: Looked,
    needed: Needed,
    borders: Borders,
}

impl SeenForms {
    /// Looks at the whole records of a part of a file; `ends` says that the file ends with it.
    fn look_at(&mut self, part: &[u8], ends: bool, options: &CsvOptions) {
        let mut owned;
        let whole = if ends {
            owned = part.to_vec();
            if owned.last().is_some_and(|b| *b != b'\n') {
                owned.push(b'\n');
            }
            owned.as_slice()
        } else {
            let end = structure::last_record_end(part, options.dialect()).unwrap_or(0);
            part.get(..end).unwrap_or_default()
        };
        self.borders.structure.find(whole, options.dialect());
        let mut cells = BlockCells::find(whole, &mut self.borders, &self.needed, options);
        let filled;
        if options.bad_rows == BadRows::Pad
            && !cells.ragged().is_empty()
            && let Ok(text) = padded(whole, cells.ragged(), self.needed.width(), options)
        {
            filled = text;
            self.borders.structure.find(&filled, options.dialect());
            cells = BlockCells::find(&filled, &mut self.borders, &self.needed, options);
        }
        for (column, look) in self.looks.iter_mut().enumerate() {
            look.see_all(&cells, column, options);
        }
        self.looked.rows += cells.rows() as u64;
        self.looked.bytes += whole.len() as u64;
    }
}

/// Whether a cell stands for null.
pub(super) fn is_missing(text: &[u8], quoted: bool, options: &CsvOptions) -> bool {
    match &options.missing {
        None => text.is_empty() && !quoted,
        Some(texts) => texts.iter().any(|t| t.as_bytes() == text),
    }
}

/// The first place in a part of a file where a record surely starts: after a line end from which the next
/// lines have the right number of cells.
fn record_start(part: &[u8], width: usize, options: &CsvOptions) -> Option<usize> {
    let (needed, mut borders) = (Needed::new(width, std::iter::empty()), Borders::default());
    let candidates = memchr::memchr_iter(b'\n', part).take(200);
    for at in candidates.map(|p| p + 1) {
        let rest = part.get(at..at + (1 << 14).min(part.len() - at))?;
        let end = structure::last_record_end(rest, options.dialect()).unwrap_or(0);
        let rest = rest.get(..end).unwrap_or_default();
        borders.structure.find(rest, options.dialect());
        let open = borders.structure.open_quote().is_some();
        let cells = BlockCells::find(rest, &mut borders, &needed, options);
        if cells.rows() >= 3 && cells.ragged().is_empty() && !open {
            return Some(at);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn looks_like(cells: &[&str], options: &CsvOptions) -> Option<Type> {
        let mut look = Look::default();
        cells.iter().for_each(|c| look.see(c.as_bytes(), options));
        look.kind(options).map(|(kind, _)| kind)
    }

    #[rstest]
    #[case(&["1", "2"], Type::Int)]
    #[case(&["1", "2.5"], Type::Float)]
    #[case(&["true", "FALSE"], Type::Bool)]
    #[case(&["00042", "7"], Type::Text)]
    #[case(&["0", "-7"], Type::Int)]
    #[case(&["0.5", "0"], Type::Float)]
    #[case(&["12345678901234567890"], Type::Text)]
    #[case(&["2026-03-01"], Type::Date)]
    #[case(&["2026-03-01", "2026-03-01 06:30:00"], Type::Timestamp)]
    #[case(&["06:30"], Type::Time)]
    #[case(&["2026-03-01", "soon"], Type::Text)]
    #[case(&["1", "x"], Type::Text)]
    fn types(#[case] cells: &[&str], #[case] expected: Type) {
        assert_eq!(looks_like(cells, &CsvOptions::default()), Some(expected));
    }

    #[test]
    fn decimal_commas_and_patterns() {
        let options = CsvOptions {
            decimal: b',',
            thousands: Some(b'.'),
            dates: Some("%d.%m.%Y".into()),
            ..CsvOptions::default()
        };
        assert_eq!(looks_like(&["1.234,5", "7"], &options), Some(Type::Float));
        assert_eq!(looks_like(&["1.234", "7"], &options), Some(Type::Int));
        assert_eq!(looks_like(&["31.12.2026"], &options), Some(Type::Date));
    }
}
