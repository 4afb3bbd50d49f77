//! Files cut into numbered blocks of whole records.
//!
//! Borders depend on the text and the block size alone. A record longer than a block makes the block grow; a
//! quote that never closes is an error, not a table that is loaded whole.

use std::io::Read;
use std::sync::Arc;

use super::head::Head;
use super::options::CsvOptions;
use crate::error::{Error, ErrorKind, Result};
use crate::io::place;

/// Bytes of a block, unless the run says otherwise.
///
/// The positions of its cells and its decoded columns stay in the second-level cache; measured on the demo's
/// deliveries, 256 KiB to 1 MiB are within 3 % of each other.
pub(super) const BLOCK_BYTES: usize = 512 << 10;

/// The longest record.
const RECORD_LIMIT: usize = 64 << 20;

/// A block of whole records.
#[derive(Debug)]
pub(super) struct Block {
    /// Which file it is from.
    pub(super) file: usize,
    pub(super) bytes: Vec<u8>,
    /// Where it starts in the decoded file.
    pub(super) offset: u64,
    /// Lines before it, where they must be counted on the way: in a stream.
    pub(super) lines: Option<u64>,
}

/// Cuts the files one after the other.
pub(super) struct Cutter {
    heads: Arc<Vec<Head>>,
    options: Arc<CsvOptions>,
    block: usize,
    file: usize,
    reader: Option<Box<dyn Read + Send>>,
    /// The start of a record whose end is not read yet.
    rest: Vec<u8>,
    offset: u64,
    lines: u64,
    pub(super) done: u64,
}

impl Cutter {
    pub(super) fn new(heads: Arc<Vec<Head>>, options: Arc<CsvOptions>, block: Option<usize>) -> Cutter {
        let block = block.unwrap_or(BLOCK_BYTES);
        Cutter {
            heads,
            options,
            block,
            file: 0,
            reader: None,
            rest: Vec::new(),
            offset: 0,
            lines: 0,
            done: 0,
        }
    }

    /// The next block; `None` after the last one.
    pub(super) fn next(&mut self) -> Result<Option<Block>> {
        loop {
            let heads = self.heads.clone();
            let Some(head) = heads.get(self.file) else { return Ok(None) };
            if self.reader.is_none() {
                self.reader = Some(head.open()?);
                self.offset = head.data as u64;
                self.lines = count_lines(head.start.get(..head.data).unwrap_or_default());
                self.rest.clear();
            }
            if let Some(block) = self.block_of(head)? {
                return Ok(Some(block));
            }
            self.reader = None;
            self.file += 1;
        }
    }

    fn block_of(&mut self, head: &Head) -> Result<Option<Block>> {
        let mut bytes = Vec::with_capacity(self.rest.len() + self.block + 1);
        bytes.append(&mut self.rest);
        let mut wanted = self.block;
        loop {
            let before = bytes.len();
            if let Some(reader) = &mut self.reader {
                let read = reader.take(wanted as u64).read_to_end(&mut bytes);
                read.map_err(|e| place::unreadable(&head.path, &e).in_file(&head.shown, None, None))?;
            }
            let at_end = bytes.len() - before < wanted;
            if at_end {
                self.check_length(head, bytes.len() as u64)?;
                return Ok(self.last(bytes));
            }
            if let Some(end) = churn_kernels::structure::last_record_end(&bytes, self.options.dialect()) {
                self.rest = bytes.split_off(end);
                return Ok(Some(self.made(bytes)));
            }
            if bytes.len() > RECORD_LIMIT {
                let line = if head.seekable {
                    super::source::line_at(head, self.offset)
                } else {
                    Some(self.lines + 1)
                };
                return Err(Error::new(ErrorKind::Data, "A record is longer than 64 MB.")
                    .in_file(&head.shown, line, None)
                    .why("A quote probably opens here and never closes.")
                    .next("Mend the line, or say quote = none if the file has no quoted cells."));
            }
            wanted = bytes.len();
        }
    }

    fn last(&mut self, mut bytes: Vec<u8>) -> Option<Block> {
        if bytes.is_empty() {
            return None;
        }
        if bytes.last() != Some(&b'\n') {
            bytes.push(b'\n');
        }
        Some(self.made(bytes))
    }

    fn made(&mut self, bytes: Vec<u8>) -> Block {
        let stream = self.heads.get(self.file).is_some_and(|h| !h.seekable);
        let block =
            Block { file: self.file, offset: self.offset, lines: stream.then_some(self.lines), bytes };
        self.offset += block.bytes.len() as u64;
        self.done += block.bytes.len() as u64;
        if stream {
            self.lines += count_lines(&block.bytes);
        }
        block
    }

    /// A file that became shorter since it was looked at has lost rows.
    fn check_length(&self, head: &Head, rest: u64) -> Result<()> {
        match head.size {
            Some(size) if head.seekable && self.offset + rest < size => {
                Err(Error::new(ErrorKind::Data, format!("{} became shorter while it was read.", head.shown))
                    .why(format!("It had {size} bytes at the start, and ended after {}.", self.offset + rest))
                    .next("Run again when nothing else writes to it."))
            }
            _ => Ok(()),
        }
    }
}

pub(super) fn count_lines(bytes: &[u8]) -> u64 {
    memchr::memchr_iter(b'\n', bytes).count() as u64
}
