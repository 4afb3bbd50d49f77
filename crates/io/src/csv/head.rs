//! The start of a file: its encoding, its heading, where its data begins.

use std::collections::{HashMap, HashSet};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use churn_core::readable::plural;
use churn_core::{Error, ErrorKind, Result};

use super::cells::{BlockCells, Borders, Needed};
use super::cutter::count_lines;
use super::opened::{Decoder, HowOpened};
use super::options::{CsvOptions, Header};
use crate::charset::{self, LineFeeds};
use crate::open_files::PositionedFile;
use crate::store::{self, RemoteFile, Transfer};
use crate::{place, streams};

/// Bytes looked at before the run, at the start and at each other place of a file.
pub(super) const LOOKED_AT: usize = 1 << 18;

/// Renamed headings that are told one by one.
const RENAMED_TOLD: usize = 5;

/// How an address is read before the run.
#[derive(Clone, Copy)]
pub(super) struct Fetching<'a> {
    /// Counts what is fetched.
    pub(super) transfer: &'a Arc<Transfer>,
    /// Bytes of its text that are looked at as a whole: as many as of a file.
    pub(super) start: usize,
}

/// A file, its heading read.
#[derive(Debug)]
pub struct Head {
    pub(super) path: PathBuf,
    /// The path as messages show it.
    pub(super) shown: String,
    /// Names as they stand; blank and repeated ones already renamed.
    pub(super) names: Vec<String>,
    /// Bytes and lines of the decoded text that stand before `start`: a mark of byte order, lines to skip.
    pub(super) before: u64,
    lines_before: u64,
    /// Where the first row of data starts in `start`.
    pub(super) data: usize,
    /// Where the last row of the heading starts in `start`.
    heading: usize,
    /// The first decoded bytes, heading included.
    pub(super) start: Vec<u8>,
    /// Whether the text ends with `start`.
    pub(super) whole: bool,
    /// Bytes that `start` has, unless the text has fewer.
    wanted: usize,
    /// Its bytes, if it is a file on disk, or one in a store that is read by ranges.
    pub(super) size: Option<u64>,
    /// Whether its bytes are the text itself and any place of it can be read.
    pub(super) seekable: bool,
    /// What the heading is that should be told: a blank or repeated name, a separator that seems wrong.
    pub(super) notes: Vec<String>,
    opened: HowOpened,
}

impl Head {
    /// Reads the start of a file.
    ///
    /// # Errors
    /// The file cannot be read, or its heading cannot be understood.
    pub(super) fn read(
        path: &Path,
        shown: &str,
        options: &CsvOptions,
        fetching: Fetching<'_>,
    ) -> Result<Head> {
        let failed = |e: std::io::Error| place::unreadable(path, &e);
        let is_stream = streams::is_stream(path);
        let shown = streams::named(path, shown);
        let (mut raw, size, file): (Box<dyn Read + Send>, _, _) = if is_stream {
            let (raw, file) = streams::take_with_file(path, fetching.transfer)?;
            (raw, None, file)
        } else {
            let file = place::open(path)?;
            let size = file.metadata().ok().map(|m| m.len());
            (Box::new(file), size, None)
        };
        let mut first = Vec::new();
        (&mut raw).take(4096).read_to_end(&mut first).map_err(failed)?;
        let mut decoder = Decoder::of(path, &shown, &first, options.encoding)?;
        let again: Box<dyn Read + Send> = Box::new(std::io::Cursor::new(first).chain(raw));
        let mut reader = decoder.reader(again).map_err(failed)?;
        // A large text in a store is read by ranges; of a stream as much is looked at as of a file.
        let most = if store::is_address(path) { fetching.start.max(LOOKED_AT) } else { LOOKED_AT };
        let is_large = |file: &RemoteFile| file.size() > most as u64;
        let mut file = file.filter(|file| decoder.is_text_itself() && is_large(file) && file.sends_parts());
        let mut wanted = if file.is_some() { LOOKED_AT } else { most };
        let mut start = Vec::new();
        (&mut reader).take(wanted as u64).read_to_end(&mut start).map_err(failed)?;
        if start.iter().take(4096).any(|b| *b == 0) {
            return Err(Error::new(
                ErrorKind::Input,
                format!("{shown} is not text: it holds bytes of zero."),
            )
            .next("If it is text of two bytes a character, say with (encoding = 'utf-16')."));
        }
        if charset::has_lone_returns(&start) {
            decoder.lone_returns = true;
            (file, wanted) = (None, most);
            let again: Box<dyn Read + Send> = Box::new(std::io::Cursor::new(start).chain(reader));
            reader = Box::new(LineFeeds::new(again));
            start = Vec::new();
            (&mut reader).take(wanted as u64).read_to_end(&mut start).map_err(failed)?;
        }
        let mut head = Head {
            path: path.to_owned(),
            shown,
            names: Vec::new(),
            before: 0,
            lines_before: 0,
            data: 0,
            heading: 0,
            whole: start.len() < wanted,
            wanted,
            start,
            size: file.as_ref().map(RemoteFile::size).or(size),
            seekable: (!is_stream || file.is_some()) && decoder.is_text_itself(),
            notes: Vec::new(),
            opened: HowOpened::File(decoder),
        };
        head.skip(options.skip, &mut reader).map_err(failed)?;
        head.opened = match file {
            Some(file) => HowOpened::Parts(file),
            None if is_stream => {
                HowOpened::Stream(Mutex::new(Some(reader)), decoder, fetching.transfer.clone())
            }
            None => HowOpened::File(decoder),
        };
        head.read_heading(options)?;
        Ok(head)
    }

    /// Leaves out a mark of byte order and some lines, however long they are.
    fn skip(&mut self, lines: usize, reader: &mut dyn Read) -> std::io::Result<()> {
        let mut at = if self.start.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
        while self.lines_before < lines as u64 {
            match memchr::memchr(b'\n', self.start.get(at..).unwrap_or_default()) {
                Some(end) => {
                    at += end + 1;
                    self.lines_before += 1;
                }
                None if self.whole => {
                    at = self.start.len();
                    break;
                }
                None => {
                    self.before += self.start.len() as u64;
                    self.start.clear();
                    at = 0;
                    reader.take(self.wanted as u64).read_to_end(&mut self.start)?;
                    self.whole = self.start.len() < self.wanted;
                }
            }
        }
        self.start.drain(..at);
        self.before += at as u64;
        if !self.whole {
            let wanted = (self.wanted - self.start.len()) as u64;
            self.whole = (reader.take(wanted).read_to_end(&mut self.start)? as u64) < wanted;
        }
        Ok(())
    }

    /// Where the first row of data starts in the decoded text, in bytes.
    pub(super) fn data_at(&self) -> u64 {
        self.before + self.data as u64
    }

    /// Lines before the first row of data.
    pub(super) fn lines_before_data(&self) -> u64 {
        self.lines_before + count_lines(self.start.get(..self.data).unwrap_or_default())
    }

    /// Ends the reading of an address: it is opened again when its turn comes. Of many files few are then open at once.
    pub(super) fn let_go(&mut self) {
        if store::is_address(&self.path) {
            self.opened.let_go();
            self.start.truncate(self.data);
        }
    }

    /// Opens the text at its first row of data; a stream that is no address only once.
    ///
    /// # Errors
    /// The file cannot be read; the stream was read before.
    pub(super) fn open(&self) -> Result<Box<dyn Read + Send>> {
        let failed = |e: std::io::Error| place::unreadable(&self.path, &e);
        if let Some(rest) = self.opened.take_rest() {
            let start = self.start.get(self.data..).unwrap_or_default().to_vec();
            return Ok(Box::new(std::io::Cursor::new(start).chain(rest)));
        }
        if self.seekable {
            return self.opened.bytes_from(&self.path, self.data_at()).map_err(failed);
        }
        let mut reader = self.opened.again(&self.path)?;
        std::io::copy(&mut (&mut reader).take(self.data_at()), &mut std::io::sink()).map_err(failed)?;
        Ok(reader)
    }

    /// The bytes from the start of the file, where they are the text.
    ///
    /// # Errors
    /// The file cannot be read.
    pub(super) fn bytes_from_start(&self) -> std::io::Result<Box<dyn Read + Send>> {
        self.opened.bytes_from(&self.path, 0)
    }

    /// The text for reading it at any place, which must be possible.
    ///
    /// # Errors
    /// The file cannot be read.
    pub(super) fn positioned(&self) -> Result<PositionedFile> {
        self.opened.positioned(&self.path)
    }

    /// The file of a text in a store that is read by ranges.
    pub(super) fn in_store(&self) -> Option<&RemoteFile> {
        self.opened.in_store()
    }

    /// Whether the text can be opened more than once.
    pub(super) fn opens_again(&self) -> bool {
        !self.opened.is_stream()
    }

    /// The cells of the last row of the heading.
    pub(super) fn heading_cells(&self, options: &CsvOptions) -> Vec<String> {
        let rest = self.start.get(self.heading..).unwrap_or_default();
        first_record(rest, options, self.whole).map(|(row, _)| row).unwrap_or_default()
    }

    /// Takes the last row of the heading for the first row of data.
    pub(super) fn heading_is_data(&mut self) {
        self.data = self.heading;
    }

    /// Finds the names and the first row of data.
    fn read_heading(&mut self, options: &CsvOptions) -> Result<()> {
        let start = self.start.as_slice();
        let mut at = 0;
        let mut heading = 0;
        let mut rows: Vec<Vec<String>> = Vec::new();
        let wanted = options.header.rows();
        while rows.len() < wanted.max(1) {
            if rows.is_empty() {
                at += blank_lines(start.get(at..).unwrap_or_default());
            }
            let rest = start.get(at..).unwrap_or_default();
            if rest.is_empty() {
                break;
            }
            let (row, length) = first_record(rest, options, self.whole).ok_or_else(|| {
                Error::new(ErrorKind::Input, format!("The heading of {} does not end.", self.shown))
                    .why("A quote opens in it and never closes, or the line is longer than 262 144 bytes.")
            })?;
            if std::str::from_utf8(rest.get(..length).unwrap_or_default()).is_err() {
                let lines = count_lines(start.get(..at).unwrap_or_default());
                return Err(not_utf8().in_file(&self.shown, Some(self.lines_before + lines + 1), None));
            }
            let comment = options.comment.is_some() && rest.first().copied() == options.comment;
            if !comment {
                rows.push(row);
                heading = at;
            }
            if wanted > 0 || comment {
                at += length;
            }
        }
        (self.heading, self.data) = (heading, at.min(start.len()));
        let width = rows.iter().map(Vec::len).max().unwrap_or(0);
        let names =
            if wanted == 0 { vec![String::new(); width] } else { joined(&rows, width, &options.header_join) };
        self.notice(&rows, wanted, options);
        self.name_columns(names, options)
    }

    /// Gives blank headings their position and repeated ones a number; takes the user's own names.
    fn name_columns(&mut self, names: Vec<String>, options: &CsvOptions) -> Result<()> {
        if !options.names.is_empty() {
            if options.names.len() != names.len() && !names.is_empty() {
                return Err(Error::new(
                    ErrorKind::Input,
                    format!(
                        "{} has {}; columns = (…) gives {}.",
                        self.shown,
                        plural(names.len() as u64, "column"),
                        plural(options.names.len() as u64, "name")
                    ),
                )
                .next("Give a name for each column in columns = (…)."));
            }
            self.names.clone_from(&options.names);
            return Ok(());
        }
        let headless = options.header == Header::None;
        let mut renamed = Vec::new();
        let as_they_stand: HashSet<&str> = names.iter().map(String::as_str).collect();
        let mut taken: HashSet<String> = HashSet::with_capacity(names.len());
        // The number from which on a name is looked for that no column has, for each name that is repeated.
        let mut numbers: HashMap<String, usize> = HashMap::new();
        for (i, name) in names.iter().enumerate() {
            let blank = name.trim().is_empty();
            let wanted = if blank { format!("column_{}", i + 1) } else { name.clone() };
            let mut unique = wanted.clone();
            while taken.contains(&unique) || (unique != *name && as_they_stand.contains(unique.as_str())) {
                let number = numbers.entry(wanted.clone()).or_insert(2);
                unique = format!("{wanted}_{number}");
                *number += 1;
            }
            if unique != *name && !headless {
                renamed.push(if blank {
                    format!("a blank heading is called {unique}")
                } else {
                    format!("a second {name} is called {unique}")
                });
            }
            taken.insert(unique.clone());
            self.names.push(unique);
        }
        let more = renamed.len().saturating_sub(RENAMED_TOLD);
        renamed.truncate(RENAMED_TOLD);
        if more > 0 {
            renamed.push(format!("and {more} more"));
        }
        if !renamed.is_empty() {
            self.notes.push(format!("{}: {}.", self.shown, renamed.join(", ")));
        }
        Ok(())
    }

    /// Notes a separator that seems wrong and a heading that looks like data.
    fn notice(&mut self, rows: &[Vec<String>], wanted: usize, options: &CsvOptions) {
        let Some(last) = rows.last() else { return };
        if let [only] = last.as_slice() {
            let others = [(b';', "';'"), (b'\t', "tab"), (b'|', "'|'"), (b',', "','")];
            let found = others
                .into_iter()
                .filter(|(byte, _)| *byte != options.separator)
                .map(|(byte, shown)| (only.bytes().filter(|b| *b == byte).count(), shown))
                .max_by_key(|(count, _)| *count)
                .filter(|(count, _)| *count > 0);
            if let Some((_, shown)) = found {
                self.notes.push(format!(
                    "{} has one wide column: its cells seem to be separated by {shown}. Say with (separator = {shown}).",
                    self.shown
                ));
            }
        }
        let like_data = |cell: &String| {
            let bytes = cell.trim().as_bytes();
            churn_kernels::number::parse_float(bytes).is_some()
                || churn_kernels::calendar::parse_date(bytes).is_some()
        };
        if wanted > 0
            && (options.header != Header::Unsaid || options.names.is_empty())
            && last.len() > 1
            && last.iter().filter(|c| like_data(c)).count() * 2 > last.len()
        {
            self.notes.push(format!(
                "The heading of {} looks like a row of data. If there is no heading, say with (header = false).",
                self.shown
            ));
        }
    }
}

/// Joins the rows of a heading; in all but the last a blank cell repeats the one on its left.
fn joined(rows: &[Vec<String>], width: usize, with: &str) -> Vec<String> {
    let mut columns: Vec<Vec<&str>> = vec![Vec::new(); width];
    for (i, row) in rows.iter().enumerate() {
        let mut left = "";
        for (column, parts) in columns.iter_mut().enumerate() {
            let cell = row.get(column).map_or("", |c| c.trim());
            let cell = if cell.is_empty() && i + 1 < rows.len() { left } else { cell };
            left = cell;
            if !cell.is_empty() {
                parts.push(cell);
            }
        }
    }
    columns.into_iter().map(|parts| parts.join(with)).collect()
}

/// The cells of the first record and the bytes it takes.
fn first_record(text: &[u8], options: &CsvOptions, whole: bool) -> Option<(Vec<String>, usize)> {
    let mut borders = Borders::default();
    // The heading is near; a block of text is enough unless a quote holds it open.
    let near = text.get(..text.len().min(1 << 16)).unwrap_or(text);
    for part in [near, text] {
        borders.structure.find(part, options.dialect());
        if let Some(end) = borders.structure.line_ends().first() {
            let length = *end as usize + 1;
            return Some((record(text.get(..length)?, borders, options), length));
        }
    }
    if !whole {
        return None;
    }
    let mut ended = text.to_vec();
    ended.push(b'\n');
    borders.structure.find(&ended, options.dialect());
    (borders.structure.open_quote().is_none()).then(|| (record(&ended, borders, options), text.len()))
}

/// The cells of one line; as many as it has.
fn record(line: &[u8], mut borders: Borders, options: &CsvOptions) -> Vec<String> {
    borders.structure.truncate(1);
    let width = borders.structure.first_width();
    let options = CsvOptions { comment: None, ..options.clone() };
    let needed = Needed::new(width, 0..width);
    let cells = BlockCells::find(line, &mut borders, &needed, &options);
    (0..width).map(|c| String::from_utf8_lossy(&cells.plain(cells.get(0, c))).into_owned()).collect()
}

/// Bytes of the lines without a visible character that a text starts with.
fn blank_lines(text: &[u8]) -> usize {
    let visible = text.iter().position(|b| !matches!(b, b' ' | b'\r' | b'\n')).unwrap_or(text.len());
    memchr::memrchr(b'\n', text.get(..visible).unwrap_or_default()).map_or(0, |end| end + 1)
}

/// The error of text that is not UTF-8.
pub(super) fn not_utf8() -> Error {
    Error::new(ErrorKind::Data, "The text is not UTF-8.")
        .next("Say with (encoding = 'latin1') if it comes from an older program, or 'utf-16'.")
}
