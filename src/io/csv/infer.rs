//! Column types from what cells look like: at the start, the middle and the end of each file.

use churn_kernels::{calendar, structure};

use super::cells::{Borders, Cells, Needed};
use super::decode::Reader;
use super::head::{Head, LOOKED_AT};
use super::options::CsvOptions;
use crate::error::Result;
use crate::expr::{Type, pattern};
use crate::io::place;

/// Rows looked at from each place.
const ROWS: usize = 1000;

/// What the cells of a column look like.
#[derive(Clone, Debug, Default)]
pub(super) struct Look {
    /// Cells with a value.
    pub(super) values: usize,
    bool: usize,
    int: usize,
    float: usize,
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
        self.bool +=
            usize::from(trimmed.eq_ignore_ascii_case(b"true") || trimmed.eq_ignore_ascii_case(b"false"));
        let digits = trimmed.strip_prefix(b"-").unwrap_or(trimmed);
        let leading_zero = digits.len() > 1
            && digits.first() == Some(&b'0')
            && digits.get(1).is_some_and(u8::is_ascii_digit);
        let reader = Reader::number(options);
        if let Some(float) = reader.float(trimmed) {
            self.float += 1;
            let whole = reader.int(trimmed).is_some();
            self.int += usize::from(whole);
            let too_long = !whole && digits.iter().all(u8::is_ascii_digit) && float.is_finite();
            self.keeps_digits |= leading_zero || too_long;
        }
        let is_date = calendar::parse_date(trimmed).is_some();
        self.date += usize::from(is_date);
        self.time += usize::from(calendar::parse_time(trimmed).is_some());
        self.timestamp += usize::from(is_date || calendar::parse_timestamp(trimmed).is_some());
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

    /// The first type that every cell fits, and whether it is a date by the option's pattern; `None` if there
    /// was no cell.
    pub(super) fn kind(&self, options: &CsvOptions) -> Option<(Type, bool)> {
        let all = |n: usize| n == self.values;
        Some(match self.values {
            0 => return None,
            _ if all(self.bool) => (Type::Bool, false),
            _ if self.keeps_digits => (Type::Text, false),
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

    /// Whether its cells are numbers that are kept as text for their digits: beside whole numbers of another
    /// file they make the column text.
    pub(super) fn is_text_for_its_digits(&self) -> bool {
        self.keeps_digits && self.float == self.values
    }

    /// Whether cells of a column that was said to hold dates are written by the option's pattern.
    pub(super) fn is_by_pattern(&self) -> bool {
        self.pattern > 0
    }

    /// What to tell of a text column that looks like dates.
    pub(super) fn note(&self, column: &str) -> Option<String> {
        let many = |n: usize| n * 10 >= self.values * 9 && n > 0 && n < self.values;
        let shown = crate::text::name(column);
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

/// Looks at the cells of a file; also gives the mean bytes of a row.
pub(super) fn look(head: &Head, options: &CsvOptions) -> Result<(Vec<Look>, f64)> {
    let mut looks = vec![Look::default(); head.names.len()];
    let start = head.start.get(head.data..).unwrap_or_default();
    let (mut bytes, mut rows) = look_at(start, head.whole, &mut looks, options);
    if let Some(size) = head.size.filter(|_| head.seekable && !head.whole) {
        let file = place::open(&head.path)?;
        for from in [size / 2, size.saturating_sub(LOOKED_AT as u64)] {
            let from = from.max(head.start.len() as u64);
            let mut part = vec![0; LOOKED_AT.min(size.saturating_sub(from) as usize)];
            let read = std::os::unix::fs::FileExt::read_exact_at(&file, &mut part, from);
            read.map_err(|e| place::unreadable(&head.path, &e))?;
            let ends = from + part.len() as u64 >= size;
            if let Some(border) = record_start(&part, looks.len(), options) {
                let part = part.get(border..).unwrap_or_default();
                let (b, r) = look_at(part, ends, &mut looks, options);
                bytes += b;
                rows += r;
            }
        }
    }
    Ok((looks, bytes as f64 / (rows.max(1)) as f64))
}

/// Looks at the first whole records of a part of a file; gives their bytes and number.
fn look_at(part: &[u8], ends: bool, looks: &mut [Look], options: &CsvOptions) -> (usize, usize) {
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
    let (needed, mut borders) = (Needed::new(looks.len(), 0..looks.len()), Borders::default());
    borders.structure.find(whole, options.dialect());
    let cells = Cells::find(whole, &mut borders, &needed, options);
    let rows = cells.rows().min(ROWS);
    for row in 0..rows {
        for (column, look) in looks.iter_mut().enumerate() {
            let cell = cells.get(row, column);
            let text = cells.plain(cell);
            if !is_missing(&text, cell.quoted, options) && !text.is_empty() {
                look.see(&text, options);
            }
        }
    }
    let length = if rows < cells.rows() { cells.column(0).range(rows).0 } else { whole.len() };
    (length, rows)
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
        let cells = Cells::find(rest, &mut borders, &needed, options);
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
