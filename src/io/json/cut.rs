//! Text cut into blocks of whole records.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use crate::error::{Error, ErrorKind, Result};
use crate::io::place::{self, Compression, STANDARD};

/// Bytes of a block, unless the run says otherwise.
const BLOCK_BYTES: usize = 512 << 10;

/// The longest record.
const RECORD_LIMIT: usize = 64 << 20;

/// Bytes looked at before the run.
const LOOKED_AT: usize = 1 << 20;

/// A file, its start read.
pub(super) struct JsonFile {
    pub(super) path: PathBuf,
    pub(super) shown: String,
    pub(super) size: Option<u64>,
    /// The first bytes, and whether they are all.
    pub(super) start: Vec<u8>,
    pub(super) whole: bool,
    /// The rest of a stream, which can be read once.
    stream: Option<Mutex<Option<Box<dyn Read + Send>>>>,
}

impl std::fmt::Debug for JsonFile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.shown)
    }
}

impl JsonFile {
    pub(super) fn open(path: &Path, shown: &str) -> Result<JsonFile> {
        let is_stream = path == Path::new(STANDARD);
        let (mut reader, size) = opened(path)?;
        let mut start = Vec::new();
        let failed = |e: std::io::Error| place::unreadable(path, &e);
        let read = (&mut reader).take(LOOKED_AT as u64).read_to_end(&mut start).map_err(failed)?;
        let shown = if is_stream { "standard input".to_owned() } else { shown.to_owned() };
        let stream = is_stream.then(|| Mutex::new(Some(reader)));
        Ok(JsonFile { path: path.to_owned(), shown, size, start, whole: read < LOOKED_AT, stream })
    }

    /// The text from its start.
    fn reader(&self) -> Result<Box<dyn Read + Send>> {
        let Some(stream) = &self.stream else { return Ok(opened(&self.path)?.0) };
        match stream.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take() {
            Some(rest) => Ok(Box::new(std::io::Cursor::new(self.start.clone()).chain(rest))),
            None => Err(Error::new(ErrorKind::Input, "Standard input can be read only once.")
                .next("Write it to a file first, and read the file.")),
        }
    }
}

fn opened(path: &Path) -> Result<(Box<dyn Read + Send>, Option<u64>)> {
    if path == Path::new(STANDARD) {
        return Ok((Box::new(std::io::stdin()), None));
    }
    let file = place::open(path)?;
    let size = file.metadata().ok().map(|m| m.len());
    let first = place::first_bytes(path);
    let reader = Compression::of_bytes(&first).reader(Box::new(file));
    Ok((reader.map_err(|e| place::unreadable(path, &e))?, size))
}

/// Where the scan of a text stands: within an array of records, a record, a text.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Scan {
    started: bool,
    /// Whether records stand in one array.
    array: bool,
    depth: usize,
    in_text: bool,
    escaped: bool,
}

impl Scan {
    /// Goes over some text and gives the places of its records; the last may go on behind the text, and then only
    /// its start is given.
    pub(super) fn records(&mut self, text: &[u8]) -> (Vec<(usize, usize)>, Option<usize>) {
        let mut found = Vec::new();
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
                    self.started = true;
                    if self.depth == 0 {
                        open = Some(at);
                    }
                    self.depth += 1;
                }
                b'}' | b']' if self.depth > 0 => {
                    self.depth -= 1;
                    if self.depth == 0 {
                        found.extend(open.take().map(|start| (start, at + 1)));
                    }
                }
                b'"' => {
                    self.started = true;
                    self.in_text = true;
                    if self.depth == 0 {
                        open.get_or_insert(at);
                    }
                }
                b']' if self.array => {}
                byte if byte.is_ascii_whitespace() || *byte == b',' => {
                    found.extend(open.take_if(|_| self.depth == 0).map(|start| (start, at)));
                }
                // Something else than a record, of which its parser says so; but not a mark of byte order.
                byte if self.depth == 0 && (self.started || byte.is_ascii()) => {
                    open.get_or_insert(at);
                    self.started = true;
                }
                _ => {}
            }
        }
        (found, open)
    }
}

/// Whole records of a file.
pub(super) struct Block {
    pub(super) file: usize,
    pub(super) bytes: Vec<u8>,
    /// Where the records stand in it.
    pub(super) records: Vec<(usize, usize)>,
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

    pub(super) fn next(&mut self) -> Result<Option<Block>> {
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

    fn block_of(&mut self, file: &JsonFile) -> Result<Option<Block>> {
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
            if at_end && bytes.is_empty() {
                return Ok(None);
            }
            let mut scan = before;
            let (mut records, open) = scan.records(&bytes);
            if at_end {
                // What is open at the end is a record that is cut short; its parser says so.
                records.extend(open.map(|start| (start, bytes.len())));
                self.scan = scan;
                return Ok(Some(self.made(bytes, records)));
            }
            let Some(start) = open else {
                self.scan = scan;
                return Ok(Some(self.made(bytes, records)));
            };
            if !records.is_empty() || start > 0 {
                self.rest = bytes.split_off(start);
                self.scan = Scan { started: true, array: scan.array, ..Scan::default() };
                return Ok(Some(self.made(bytes, records)));
            }
            if bytes.len() > RECORD_LIMIT {
                return Err(Error::new(ErrorKind::Data, "A record is longer than 64 MB.")
                    .in_file(&file.shown, Some(self.lines + 1), None)
                    .why("A brace or a quote probably opens here and never closes."));
            }
            wanted = bytes.len();
        }
    }

    fn made(&mut self, bytes: Vec<u8>, records: Vec<(usize, usize)>) -> Block {
        let lines = self.lines;
        self.lines += memchr::memchr_iter(b'\n', &bytes).count() as u64;
        Block { file: self.file, bytes, records, lines }
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
        let (found, _) = Scan::default().records(text.as_bytes());
        let found: Vec<&str> = found.iter().filter_map(|(a, b)| text.get(*a..*b)).collect();
        assert_eq!(found, expected);
    }
}
