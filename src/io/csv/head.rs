//! The start of a file: its encoding, its heading, where its data begins.

use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use encoding_rs::{Encoding as Charset, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use encoding_rs_io::DecodeReaderBytesBuilder;

use super::cells::{Borders, Cells, Needed};
use super::options::{CsvOptions, Encoding, Header};
use crate::error::{Error, ErrorKind, Result};
use crate::io::place::{self, Compression, STANDARD};

/// Bytes looked at before the run, at the start and at each other place of a file.
pub(super) const LOOKED_AT: usize = 1 << 18;

/// A file, its heading read.
#[derive(Debug)]
pub(super) struct Head {
    pub(super) path: PathBuf,
    /// The path as messages show it.
    pub(super) shown: String,
    /// Names as they stand; blank and repeated ones already renamed.
    pub(super) names: Vec<String>,
    /// Where the first row of data starts, in decoded bytes.
    pub(super) data: usize,
    /// The first decoded bytes, heading included.
    pub(super) start: Vec<u8>,
    /// Whether `start` is the whole file.
    pub(super) whole: bool,
    /// Bytes on disk, if it is a file.
    pub(super) size: Option<u64>,
    /// Whether the bytes on disk are the text itself, so that any place of it can be read.
    pub(super) seekable: bool,
    /// What the heading is that should be told: a blank or repeated name, a separator that seems wrong.
    pub(super) notes: Vec<String>,
    opened: Opening,
}

/// How the text is opened again for the run.
enum Opening {
    File(Compression, Option<&'static Charset>),
    /// A stream can be read once: the reader is kept, its first bytes are in `start`.
    Stream(Mutex<Option<Box<dyn Read + Send>>>),
}

impl std::fmt::Debug for Opening {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(if matches!(self, Opening::File(..)) { "file" } else { "stream" })
    }
}

impl Head {
    /// Reads the start of a file.
    ///
    /// # Errors
    /// The file cannot be read, or its heading cannot be understood.
    pub(super) fn read(path: &Path, shown: &str, options: &CsvOptions) -> Result<Head> {
        let failed = |e: std::io::Error| place::unreadable(path, &e);
        let is_stream = path == Path::new(STANDARD);
        let mut head = Head {
            path: path.to_owned(),
            shown: if is_stream { "standard input".into() } else { shown.to_owned() },
            names: Vec::new(),
            data: 0,
            start: Vec::new(),
            whole: false,
            size: None,
            seekable: false,
            notes: Vec::new(),
            opened: Opening::Stream(Mutex::new(None)),
        };
        let mut raw: Box<dyn Read + Send> = if is_stream {
            Box::new(std::io::stdin())
        } else {
            let file = place::open(path)?;
            head.size = file.metadata().ok().map(|m| m.len());
            Box::new(file)
        };
        let mut first = vec![0; 4096];
        let mut filled = 0;
        while let Some(rest) = first.get_mut(filled..).filter(|r| !r.is_empty()) {
            match raw.read(rest).map_err(failed)? {
                0 => break,
                n => filled += n,
            }
        }
        first.truncate(filled);
        let compression = Compression::of_bytes(&first);
        if let Some(format) = other_format(&first) {
            return Err(Error::new(
                ErrorKind::Input,
                format!("{} is {format}, which cannot be read yet.", head.shown),
            )
            .next("Write it as delimited text with the program that it comes from."));
        }
        let charset = charset(&first, compression, options.encoding);
        let again: Box<dyn Read + Send> = Box::new(std::io::Cursor::new(first).chain(raw));
        let mut reader = decoded(compression, charset, again).map_err(failed)?;
        let taken = (&mut reader).take(LOOKED_AT as u64).read_to_end(&mut head.start).map_err(failed)?;
        head.whole = taken < LOOKED_AT;
        head.seekable = !is_stream && compression == Compression::None && charset.is_none();
        head.opened = if is_stream {
            Opening::Stream(Mutex::new(Some(reader)))
        } else {
            Opening::File(compression, charset)
        };
        let from = if head.start.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
        if head.start.iter().take(4096).any(|b| *b == 0) {
            return Err(Error::new(
                ErrorKind::Input,
                format!("{} is not text: it holds bytes of zero.", head.shown),
            )
            .next("If it is text of two bytes a character, say with (encoding = 'utf-16')."));
        }
        head.read_heading(from, options)?;
        Ok(head)
    }

    /// Opens the text at its first row of data.
    pub(super) fn open(&self) -> Result<Box<dyn Read + Send>> {
        let failed = |e: std::io::Error| place::unreadable(&self.path, &e);
        match &self.opened {
            Opening::File(compression, charset) => {
                let mut file = place::open(&self.path)?;
                if self.seekable {
                    std::io::Seek::seek(&mut file, std::io::SeekFrom::Start(self.data as u64))
                        .map_err(failed)?;
                    return Ok(Box::new(file));
                }
                let mut reader = decoded(*compression, *charset, Box::new(file)).map_err(failed)?;
                std::io::copy(&mut (&mut reader).take(self.data as u64), &mut std::io::sink())
                    .map_err(failed)?;
                Ok(reader)
            }
            Opening::Stream(reader) => {
                let mut reader = reader.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                let Some(rest) = reader.take() else {
                    return Err(Error::new(ErrorKind::Input, "Standard input can be read only once.")
                        .next("Write it to a file first, and read the file."));
                };
                let start = self.start.get(self.data..).unwrap_or_default().to_vec();
                Ok(Box::new(std::io::Cursor::new(start).chain(rest)))
            }
        }
    }

    /// Finds the names and the first row of data.
    fn read_heading(&mut self, from: usize, options: &CsvOptions) -> Result<()> {
        let start = self.start.get(from..).unwrap_or_default();
        let mut at = 0;
        for _ in 0..options.skip {
            at += memchr::memchr(b'\n', start.get(at..).unwrap_or_default())
                .map_or(start.len() - at, |p| p + 1);
        }
        let mut rows: Vec<Vec<String>> = Vec::new();
        let wanted = if let Header::Rows(n) = options.header { n } else { 0 };
        while rows.len() < wanted.max(1) {
            let rest = start.get(at..).unwrap_or_default();
            if rest.is_empty() {
                break;
            }
            let (row, length) = first_record(rest, options, self.whole).ok_or_else(|| {
                Error::new(ErrorKind::Input, format!("The heading of {} does not end.", self.shown))
                    .why("A quote opens in it and never closes, or the line is longer than 262 144 bytes.")
            })?;
            let blank = row.len() == 1 && row.first().is_some_and(|c| c.trim().is_empty());
            let comment = options.comment.is_some() && rest.first().copied() == options.comment;
            if !(comment || blank && rows.is_empty()) {
                rows.push(row);
            }
            if wanted > 0 || comment || blank {
                at += length;
            }
        }
        self.data = from + at.min(start.len());
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
                        "{} has {} columns, and {} names are given.",
                        self.shown,
                        names.len(),
                        options.names.len()
                    ),
                )
                .next("Give a name for each column in columns = (…)."));
            }
            self.names.clone_from(&options.names);
            return Ok(());
        }
        let headless = options.header == Header::None;
        let mut renamed = Vec::new();
        for (i, name) in names.iter().enumerate() {
            let blank = name.trim().is_empty();
            let wanted = if blank { format!("column_{}", i + 1) } else { name.clone() };
            let mut unique = wanted.clone();
            let mut number = 2;
            while self.names.contains(&unique) || (unique != *name && names.contains(&unique)) {
                unique = format!("{wanted}_{number}");
                number += 1;
            }
            if unique != *name && !headless {
                renamed.push(if blank {
                    format!("a blank heading is called {unique}")
                } else {
                    format!("a second {name} is called {unique}")
                });
            }
            self.names.push(unique);
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
            && options.names.is_empty()
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
    let cells = Cells::find(line, &mut borders, &needed, &options);
    (0..width).map(|c| String::from_utf8_lossy(&cells.plain(cells.get(0, c))).into_owned()).collect()
}

/// What a file is that is no text, by its first bytes.
fn other_format(first: &[u8]) -> Option<&'static str> {
    let known: [(&[u8], &str); 6] = [
        (b"PAR1", "a Parquet file"),
        (b"ARROW1", "an Arrow file"),
        (b"PK\x03\x04", "a workbook or another packed file"),
        (b"Obj\x01", "an Avro file"),
        (b"ORC", "an ORC file"),
        (b"%PDF", "a PDF document"),
    ];
    known.iter().find(|(mark, _)| first.starts_with(mark)).map(|(_, format)| *format)
}

/// The encoding to decode from; `None` if the bytes are UTF-8 and need none.
fn charset(first: &[u8], compression: Compression, wanted: Encoding) -> Option<&'static Charset> {
    match (first, wanted) {
        ([0xff, 0xfe, ..], _) => Some(UTF_16LE),
        ([0xfe, 0xff, ..], _) => Some(UTF_16BE),
        (_, Encoding::Utf16) => Some(UTF_16LE),
        (_, Encoding::Latin1) => Some(WINDOWS_1252),
        // Behind compression the mark is not seen yet; the decoder looks for it.
        (_, Encoding::Utf8) if compression != Compression::None => Some(UTF_8),
        _ => None,
    }
}

fn decoded(
    compression: Compression,
    charset: Option<&'static Charset>,
    raw: Box<dyn Read + Send>,
) -> std::io::Result<Box<dyn Read + Send>> {
    let plain = compression.reader(raw)?;
    Ok(match charset {
        None => plain,
        // UTF-8 is passed through as it is, so that a bad byte is found with its place and not replaced.
        Some(charset) if charset == UTF_8 => plain,
        Some(charset) => {
            let decoder =
                DecodeReaderBytesBuilder::new().encoding(Some(charset)).bom_override(true).build(plain);
            // The decoder cuts characters where it is given room for a few bytes only, so it never is.
            Box::new(BufReader::with_capacity(1 << 16, decoder))
        }
    })
}
