//! Text cut into blocks of whole records.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use churn_core::{Error, ErrorKind, Result};

use crate::place::{self, Compression, STANDARD};
use crate::streams;

/// Bytes of a block, unless the run says otherwise.
const BLOCK_BYTES: usize = 512 << 10;

/// The longest record.
const RECORD_LIMIT: usize = 64 << 20;

/// Bytes looked at before the run: of a file all of them, if they are not more.
const LOOKED_AT: usize = 16 << 20;

/// Bytes looked at of a stream, and of the last of many files.
const LOOKED_AT_LEAST: usize = 1 << 20;

/// A file, its start read.
pub(super) struct JsonFile {
    pub(super) path: PathBuf,
    pub(super) shown: String,
    pub(super) size: Option<u64>,
    /// The first bytes, and whether they are all.
    pub(super) start: Vec<u8>,
    pub(super) whole: bool,
    /// Whether the bytes on disk are the text itself.
    pub(super) seekable: bool,
    /// The rest of a stream, which can be read once.
    stream: Option<Mutex<Option<Box<dyn Read + Send>>>>,
}

impl std::fmt::Debug for JsonFile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.shown)
    }
}

impl JsonFile {
    /// Opens a file and reads its start: all of it, or as much as types are inferred from, which is less where few
    /// bytes are `left` for it.
    ///
    /// # Errors
    /// It cannot be read.
    pub(super) fn open(path: &Path, shown: &str, left: usize) -> Result<JsonFile> {
        let is_stream = streams::is_stream(path);
        let (mut reader, size) = if is_stream {
            let reader = streams::compression(path)?.reader(streams::take(path)?);
            (reader.map_err(|e| place::unreadable(path, &e))?, None)
        } else {
            opened(path)?
        };
        let mut start = Vec::new();
        let failed = |e: std::io::Error| place::unreadable(path, &e);
        // Of a file as much as types are inferred from; of a stream what is there soon, but a whole record.
        let mut wanted = if is_stream { LOOKED_AT_LEAST } else { LOOKED_AT.min(left).max(LOOKED_AT_LEAST) };
        let whole = loop {
            let more = (wanted - start.len()) as u64;
            let read = (&mut reader).take(more).read_to_end(&mut start).map_err(failed)?;
            let is_whole = (read as u64) < more;
            if is_whole || start.len() > RECORD_LIMIT || has_record(&start) {
                break is_whole;
            }
            wanted += wanted;
        };
        let shown = if path == Path::new(STANDARD) { streams::shown(path) } else { shown.to_owned() };
        let is_plain = !is_stream && Compression::of_bytes(&place::first_bytes(path)) == Compression::None;
        let stream = is_stream.then(|| Mutex::new(Some(reader)));
        Ok(JsonFile { path: path.to_owned(), shown, size, start, whole, seekable: is_plain, stream })
    }

    /// Drops the start of a file that can be read again.
    pub(super) fn forget_start(&mut self) {
        if self.stream.is_none() {
            self.start = Vec::new();
        }
    }

    /// The text from its start.
    fn reader(&self) -> Result<Box<dyn Read + Send>> {
        let Some(stream) = &self.stream else { return Ok(opened(&self.path)?.0) };
        match stream.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take() {
            Some(rest) => Ok(Box::new(std::io::Cursor::new(self.start.clone()).chain(rest))),
            None => Err(streams::read_once(&self.path)),
        }
    }
}

/// Whether a text has a whole record.
fn has_record(text: &[u8]) -> bool {
    let has = |text: &[u8]| !Scan::default().records(text).records.is_empty();
    text.get(..BLOCK_BYTES).is_some_and(has) || has(text)
}

fn opened(path: &Path) -> Result<(Box<dyn Read + Send>, Option<u64>)> {
    let file = place::open(path)?;
    let size = file.metadata().ok().map(|m| m.len());
    let first = place::first_bytes(path);
    let reader = Compression::of_bytes(&first).reader(Box::new(file));
    Ok((reader.map_err(|e| place::unreadable(path, &e))?, size))
}

/// Where the scan of a text stands: within an array of records, a record, a text.
#[derive(Clone, Copy, Debug, Default)]
pub struct Scan {
    started: bool,
    /// Whether records stand in one array.
    array: bool,
    depth: usize,
    in_text: bool,
    escaped: bool,
    /// What stood last outside of records.
    last: Last,
}

/// What stands between the records of an array.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Last {
    /// Nothing yet, or the bracket that opens the array.
    #[default]
    Start,
    Record,
    Comma,
    /// The bracket that closes the array.
    End,
}

/// What a scan finds in a text.
#[derive(Debug, Default)]
pub(super) struct Cuts {
    /// The places of whole records.
    pub(super) records: Vec<(usize, usize)>,
    /// Where a record starts that goes on behind the text.
    pub(super) open: Option<usize>,
    /// Where something stands that cannot stand between records, and what is wrong there.
    pub(super) fault: Option<(usize, &'static str)>,
}

impl Scan {
    /// Goes over some text and finds its records, and the first fault between them.
    pub(super) fn records(&mut self, text: &[u8]) -> Cuts {
        let mut found = Cuts::default();
        let mut open = None;
        for (at, byte) in text.iter().enumerate() {
            if self.in_text {
                match byte {
                    _ if self.escaped => self.escaped = false,
                    b'\\' => self.escaped = true,
                    b'"' => self.in_text = false,
                    _ => {}
                }
                continue;
            }
            match byte {
                b'[' if !self.started => (self.started, self.array) = (true, true),
                b'{' | b'[' => {
                    if self.depth == 0 {
                        self.starts_record(at, open.is_some(), &mut found);
                        open.get_or_insert(at);
                    }
                    self.depth += 1;
                }
                b'}' | b']' if self.depth > 0 => {
                    self.depth -= 1;
                    if self.depth == 0 {
                        found.records.extend(open.take().map(|start| (start, at + 1)));
                    }
                }
                b'"' => {
                    if self.depth == 0 {
                        self.starts_record(at, open.is_some(), &mut found);
                        open.get_or_insert(at);
                    }
                    self.in_text = true;
                }
                b']' if self.array => {
                    found.records.extend(open.take().map(|start| (start, at)));
                    match self.last {
                        Last::Comma => found.wrong(at, "A comma stands before the end of the array."),
                        Last::End => found.wrong(at, "The array ends twice."),
                        _ => {}
                    }
                    self.last = Last::End;
                }
                b',' if self.depth == 0 => {
                    found.records.extend(open.take().map(|start| (start, at)));
                    match self.last {
                        _ if !self.array => found.wrong(at, "A comma stands between records of no array."),
                        Last::Record => {}
                        Last::End => found.wrong(at, "Something follows the end of the array."),
                        _ => found.wrong(at, "A comma stands where a record should."),
                    }
                    self.last = Last::Comma;
                }
                byte if byte.is_ascii_whitespace() => {
                    found.records.extend(open.take_if(|_| self.depth == 0).map(|start| (start, at)));
                }
                // Something else than a record, of which its parser says so; but not a mark of byte order.
                byte if self.depth == 0 && open.is_none() && (self.started || byte.is_ascii()) => {
                    self.starts_record(at, false, &mut found);
                    open = Some(at);
                }
                _ => {}
            }
        }
        found.open = open;
        found
    }

    fn starts_record(&mut self, at: usize, is_open: bool, found: &mut Cuts) {
        self.started = true;
        if self.array && !is_open {
            match self.last {
                Last::Record => found.wrong(at, "A comma is missing between two records."),
                Last::End => found.wrong(at, "Something follows the end of the array."),
                _ => {}
            }
        }
        self.last = Last::Record;
    }

    /// Whether each of some records stands on a line of its own, outside of an array.
    pub(super) fn is_of_lines(&self, records: &[(usize, usize)], text: &[u8]) -> bool {
        let is_line = |(start, end): &(usize, usize)| {
            let record = text.get(*start..*end).unwrap_or_default();
            memchr::memchr(b'\n', record).is_none() && matches!(text.get(*end), None | Some(b'\n' | b'\r'))
        };
        !self.array && records.iter().all(is_line)
    }

    /// Whether the text may end here: an array must have ended.
    pub(super) fn may_end(&self) -> bool {
        !self.array || self.last == Last::End
    }

    /// Whether records stand one behind the other, outside of an array, and the next one starts here.
    fn is_between_lines(&self) -> bool {
        self.started && !self.array && self.depth == 0 && !self.in_text
    }

    /// The scan of further records behind others that stand outside of an array.
    pub(super) fn of_lines() -> Scan {
        Scan { started: true, ..Scan::default() }
    }

    /// The scan of a text as it is before its record that goes on behind a block.
    fn before_open(self) -> Scan {
        let last = if self.array { Last::Comma } else { Last::Start };
        Scan { started: true, array: self.array, last, ..Scan::default() }
    }
}

impl Cuts {
    /// What is open at the end of all text is a record that is cut short; its parser says so.
    pub(super) fn close(&mut self, end: usize) {
        self.records.extend(self.open.take().map(|start| (start, end)));
    }

    /// Notes a fault, unless there is one before it.
    pub(super) fn wrong(&mut self, at: usize, what: &'static str) {
        self.fault.get_or_insert((at, what));
    }
}

/// Line ends that are looked at for one between two records.
const LINE_ENDS: usize = 64;

/// Where the last line begins that begins a record, of records that stand one behind the other outside of an array.
///
/// JSON has no line end within a text, and no brace that opens behind one that closes but between two records.
fn last_line_of_record(text: &[u8]) -> Option<usize> {
    let is_blank = |byte: &&u8| byte.is_ascii_whitespace();
    let is_between = |end: &usize| {
        let (before, behind) = text.split_at(end + 1);
        before.iter().rev().find(|byte| !is_blank(byte)) == Some(&b'}')
            && behind.iter().find(|byte| !is_blank(byte)) == Some(&b'{')
    };
    memchr::memrchr_iter(b'\n', text).take(LINE_ENDS).find(is_between).map(|end| end + 1)
}

/// What is wrong with an array whose end is missing.
pub(super) const NO_END: &str = "The array of records does not end: it may be cut short.";

/// The error of a fault between records.
pub(super) fn between_records(shown: &str, line: u64, what: &str) -> Error {
    Error::new(ErrorKind::Data, what)
        .in_file(shown, Some(line), None)
        .next("A table is an array of records, [{\"farm\": \"F1\"}, …], or a record a line.")
}

/// Whole records of a file.
pub(super) struct JsonBlock {
    pub(super) file: usize,
    pub(super) bytes: Vec<u8>,
    /// Where its records stand, if that had to be found to cut it.
    pub(super) cuts: Option<Cuts>,
    /// Lines before it.
    pub(super) lines: u64,
}

/// Cuts files one after the other.
pub(super) struct Cutter {
    files: std::sync::Arc<Vec<JsonFile>>,
    block: usize,
    file: usize,
    reader: Option<Box<dyn Read + Send>>,
    scan: Scan,
    rest: Vec<u8>,
    lines: u64,
    pub(super) done: u64,
}

impl Cutter {
    pub(super) fn new(files: std::sync::Arc<Vec<JsonFile>>, block: Option<usize>) -> Cutter {
        let block = block.unwrap_or(BLOCK_BYTES);
        Cutter {
            files,
            block,
            file: 0,
            reader: None,
            scan: Scan::default(),
            rest: Vec::new(),
            lines: 0,
            done: 0,
        }
    }

    pub(super) fn next(&mut self) -> Result<Option<JsonBlock>> {
        loop {
            let files = self.files.clone();
            let Some(file) = files.get(self.file) else { return Ok(None) };
            if self.reader.is_none() {
                self.reader = Some(file.reader()?);
                (self.scan, self.lines) = (Scan::default(), 0);
                self.rest.clear();
            }
            if let Some(block) = self.block_of(file)? {
                return Ok(Some(block));
            }
            self.reader = None;
            self.file += 1;
        }
    }

    fn block_of(&mut self, file: &JsonFile) -> Result<Option<JsonBlock>> {
        let mut bytes = std::mem::take(&mut self.rest);
        let mut wanted = self.block;
        // The state before a record that goes on, which is gone over again when more is read.
        let before = self.scan;
        loop {
            let had = bytes.len();
            if let Some(reader) = &mut self.reader {
                let read = reader.take(wanted as u64).read_to_end(&mut bytes);
                read.map_err(|e| place::unreadable(&file.path, &e).in_file(&file.shown, None, None))?;
            }
            self.done += (bytes.len() - had) as u64;
            let at_end = bytes.len() - had < wanted;
            if at_end && bytes.is_empty() && self.scan.may_end() {
                return Ok(None);
            }
            if before.is_between_lines() {
                if at_end {
                    return Ok(Some(self.made(bytes, None)));
                }
                if let Some(end) = last_line_of_record(&bytes) {
                    self.rest = bytes.split_off(end);
                    return Ok(Some(self.made(bytes, None)));
                }
            }
            let mut scan = before;
            let mut cuts = scan.records(&bytes);
            if at_end && cuts.open.is_none() && !scan.may_end() {
                cuts.wrong(bytes.len(), NO_END);
            }
            if at_end || cuts.fault.is_some() {
                cuts.close(bytes.len());
                self.scan = scan;
                return Ok(Some(self.made(bytes, Some(cuts))));
            }
            let Some(start) = cuts.open else {
                self.scan = scan;
                return Ok(Some(self.made(bytes, Some(cuts))));
            };
            if !cuts.records.is_empty() || start > 0 {
                self.rest = bytes.split_off(start);
                self.scan = scan.before_open();
                return Ok(Some(self.made(bytes, Some(cuts))));
            }
            if bytes.len() > RECORD_LIMIT {
                return Err(Error::new(ErrorKind::Data, "A record is longer than 64 MB.")
                    .in_file(&file.shown, Some(self.lines + 1), None)
                    .why("A brace or a quote probably opens here and never closes."));
            }
            wanted = bytes.len();
        }
    }

    fn made(&mut self, bytes: Vec<u8>, cuts: Option<Cuts>) -> JsonBlock {
        let lines = self.lines;
        self.lines += memchr::memchr_iter(b'\n', &bytes).count() as u64;
        JsonBlock { file: self.file, bytes, cuts, lines }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("{\"a\":1}\n{\"a\":\"}\\\"\"}\n", &["{\"a\":1}", "{\"a\":\"}\\\"\"}"])]
    #[case("[{\"a\":[1]},\n {\"a\":{}}]\n", &["{\"a\":[1]}", "{\"a\":{}}"])]
    #[case("[]", &[])]
    #[case(" 7\n{}", &["7", "{}"])]
    fn records_are_found(#[case] text: &str, #[case] expected: &[&str]) {
        let found = Scan::default().records(text.as_bytes());
        assert_eq!(found.fault, None);
        let found: Vec<&str> = found.records.iter().filter_map(|(a, b)| text.get(*a..*b)).collect();
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case("[{}{}]", 3)]
    #[case("[{},,{}]", 4)]
    #[case("[{},]", 4)]
    #[case("[,{}]", 1)]
    #[case("[{}]]", 4)]
    #[case("[{}] {}", 5)]
    #[case("{},\n{}", 2)]
    fn what_stands_between_records_is_checked(#[case] text: &str, #[case] at: usize) {
        assert_eq!(Scan::default().records(text.as_bytes()).fault.map(|(at, _)| at), Some(at));
    }

    #[rstest]
    #[case("{\"a\":1}\n{\"a\":2}\n{\"a\":", Some(16))]
    #[case("{\"a\":1}\n\n  {\"a\":2}\n", Some(9))]
    #[case("{\"a\":1}\r\n{", Some(9))]
    #[case("{\"a\":\n{\"b\":1}\n}", None)]
    #[case("{\"a\":1}\n", None)]
    fn lines_that_begin_a_record_are_found(#[case] text: &str, #[case] expected: Option<usize>) {
        assert_eq!(last_line_of_record(text.as_bytes()), expected);
    }

    #[test]
    fn an_array_must_end() {
        let mut scan = Scan::default();
        scan.records(b"[{}, {}");
        assert!(!scan.may_end());
        scan.records(b"]\n");
        assert!(scan.may_end());
    }
}
