//! Files cut into blocks of whole records.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::{Error, ErrorKind, Result};

use super::cut::{Cuts, NO_END, RecordScan, last_line_of_record};
use crate::open_files::PositionedFile;
use crate::place::{self, Compression};
use crate::store::{self, RemoteFile, Transfer};
use crate::streams;

/// Bytes of a block, unless the run says otherwise.
const BLOCK_BYTES: usize = 512 << 10;

/// The longest record.
const RECORD_LIMIT: usize = 64 << 20;

/// Bytes looked at before the run: of a file all of them, if they are not more, and of what has no other places to look at.
const LOOKED_AT: usize = 16 << 20;

/// Bytes looked at of a stream, of the last of many files, and at the start of a large one.
const LOOKED_AT_LEAST: usize = 1 << 20;

/// What was not read yet of a stream; `None` once it is taken.
type Rest = Option<Box<dyn Read + Send>>;

/// A file, its start read.
pub(super) struct JsonFile {
    pub(super) path: PathBuf,
    pub(super) shown: String,
    pub(super) size: Option<u64>,
    /// The first bytes, and whether they are all.
    pub(super) start: Vec<u8>,
    pub(super) whole: bool,
    /// Whether its bytes are the text itself, and any place of it can be read.
    pub(super) seekable: bool,
    /// The file in a store that a stream is of, if parts of it can be read.
    file: Option<RemoteFile>,
    /// The rest of a stream, which can be read once, unless it is an address; and what counts its bytes.
    stream: Option<(Mutex<Rest>, Arc<Transfer>)>,
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
    pub(super) fn open(path: &Path, shown: &str, left: usize, transfer: &Arc<Transfer>) -> Result<JsonFile> {
        let is_stream = streams::is_stream(path);
        let (compression, (mut reader, size), file) = if is_stream {
            let compression = streams::compression(path)?;
            let (raw, file) = streams::take_with_file(path, transfer)?;
            let reader = compression.reader(raw).map_err(|e| place::unreadable(path, &e))?;
            (compression, (reader, None), file)
        } else {
            let compression = Compression::of_file(path, &place::first_bytes(path));
            (compression.map_err(|e| place::unreadable(path, &e))?, opened(path)?, None)
        };
        let mut start = Vec::new();
        let failed = |e: std::io::Error| place::unreadable(path, &e);
        // Of a file as much as types are inferred from; of a stream what is there soon, but a whole record.
        let is_seen_later = is_stream && !store::is_address(path);
        let seekable = compression == Compression::None && (!is_stream || file.is_some());
        let of_remote = |file: &RemoteFile| PositionedFile::Remote(file.clone()).size();
        let is_large = size.or(file.as_ref().map(of_remote)).is_some_and(|size| size > LOOKED_AT as u64);
        let is_little = is_seen_later || seekable && is_large;
        let mut wanted = if is_little { LOOKED_AT_LEAST } else { LOOKED_AT.min(left).max(LOOKED_AT_LEAST) };
        let whole = loop {
            let more = (wanted - start.len()) as u64;
            let read = (&mut reader).take(more).read_to_end(&mut start).map_err(failed)?;
            let is_whole = (read as u64) < more;
            if is_whole || start.len() > RECORD_LIMIT || has_record(&start) {
                break is_whole;
            }
            wanted += wanted;
        };
        let shown = streams::named(path, shown);
        let stream = is_stream.then(|| (Mutex::new(Some(reader)), transfer.clone()));
        Ok(JsonFile { path: path.to_owned(), shown, size, start, whole, seekable, file, stream })
    }

    /// The file for a look at some of its places, where its bytes are its text; `None` of a stream.
    ///
    /// # Errors
    /// It cannot be read.
    pub(super) fn to_look_at(&self) -> Result<Option<PositionedFile>> {
        match &self.file {
            _ if !self.seekable => Ok(None),
            Some(file) => Ok(Some(PositionedFile::Remote(file.clone()))),
            None => PositionedFile::local(&self.path).map(Some),
        }
    }

    /// Drops the start of a file that can be read again. One of many at addresses is opened again when its turn comes, so that
    /// few are open at once.
    pub(super) fn forget_start(&mut self, files: usize) {
        match &mut self.stream {
            Some((rest, _)) if files > streams::KEPT_OPEN && store::is_address(&self.path) => {
                *rest.get_mut().unwrap_or_else(PoisonError::into_inner) = None;
            }
            Some(_) => return,
            None => {}
        }
        self.start = Vec::new();
    }

    /// The text from its start.
    fn reader(&self) -> Result<Box<dyn Read + Send>> {
        let Some((rest, transfer)) = &self.stream else { return Ok(opened(&self.path)?.0) };
        match rest.lock().unwrap_or_else(PoisonError::into_inner).take() {
            Some(rest) => Ok(Box::new(std::io::Cursor::new(self.start.clone()).chain(rest))),
            None if store::is_address(&self.path) => stream(&self.path, transfer),
            None => Err(streams::read_once(&self.path)),
        }
    }
}

/// The text of a stream from its start.
fn stream(path: &Path, transfer: &Arc<Transfer>) -> Result<Box<dyn Read + Send>> {
    let reader = streams::compression(path)?.reader(streams::take(path, transfer)?);
    reader.map_err(|e| place::unreadable(path, &e))
}

/// Whether a text has a whole record.
fn has_record(text: &[u8]) -> bool {
    let has = |text: &[u8]| !RecordScan::default().records(text).records.is_empty();
    text.get(..BLOCK_BYTES).is_some_and(has) || has(text)
}

fn opened(path: &Path) -> Result<(Box<dyn Read + Send>, Option<u64>)> {
    let file = place::open(path)?;
    let size = file.metadata().ok().map(|m| m.len());
    let compression = Compression::of_file(path, &place::first_bytes(path));
    let reader = compression.and_then(|compression| compression.reader(Box::new(file)));
    Ok((reader.map_err(|e| place::unreadable(path, &e))?, size))
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
    files: Arc<Vec<JsonFile>>,
    block: usize,
    file: usize,
    reader: Option<Box<dyn Read + Send>>,
    scan: RecordScan,
    rest: Vec<u8>,
    lines: u64,
    pub(super) done: u64,
}

impl Cutter {
    pub(super) fn new(files: Arc<Vec<JsonFile>>, block: Option<usize>) -> Cutter {
        let block = block.unwrap_or(BLOCK_BYTES);
        Cutter {
            files,
            block,
            file: 0,
            reader: None,
            scan: RecordScan::default(),
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
                (self.scan, self.lines) = (RecordScan::default(), 0);
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
                bytes.reserve_exact(wanted);
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
