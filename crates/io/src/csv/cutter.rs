//! Files cut into numbered parts: ranges where any place of a file can be read, else blocks of whole records.
//!
//! Borders depend on the text and the sizes alone. A record longer than a block makes the block grow; a quote
//! that never closes is an error, not a table that is loaded whole.

use std::io::Read;
use std::sync::Arc;

use churn_core::Result;

use super::head::Head;
use super::options::CsvOptions;
use super::ranges::{FileRange, RECORD_LIMIT, Seekable, too_long};
use crate::place;

/// Bytes of a block, unless the run says otherwise.
///
/// The places of its cells and its decoded columns stay in the second-level cache.
pub(super) const BLOCK_BYTES: usize = 256 << 10;

/// The most blocks of a range whose rows are gathered; a smaller table has at least 64 ranges.
///
/// 16 MB: tables of thousands of groups are then merged a few times, not hundreds (a seventh less time than 4 MB).
const RANGE_BLOCKS: u64 = 64;

/// A part of a file.
#[derive(Debug)]
pub(super) enum Cut {
    Range(FileRange),
    Block(Block),
}

/// A block of whole records.
#[derive(Debug)]
pub(super) struct Block {
    /// Which file it is from.
    pub(super) file: usize,
    pub(super) bytes: Vec<u8>,
    /// Where it starts in the decoded file.
    pub(super) offset: u64,
    /// Lines before it.
    pub(super) lines: u64,
}

/// Cuts the files one after the other.
pub(super) struct Cutter {
    heads: Arc<Vec<Head>>,
    options: Arc<CsvOptions>,
    /// Bytes of memory that the run may use, if they are bounded.
    memory: Option<u64>,
    block: usize,
    range: u64,
    file: usize,
    opened: Option<Opened>,
    /// The start of a record whose end is not read yet.
    rest: Vec<u8>,
    offset: u64,
    lines: u64,
    pub(super) done: u64,
}

/// The file that is being cut.
enum Opened {
    Seekable(Arc<Seekable>),
    Stream(Box<dyn Read + Send>),
}

impl Cutter {
    pub(super) fn new(
        heads: Arc<Vec<Head>>,
        options: Arc<CsvOptions>,
        block: Option<usize>,
        memory: Option<u64>,
    ) -> Cutter {
        let block = block.unwrap_or(BLOCK_BYTES);
        Cutter {
            heads,
            options,
            memory,
            block,
            range: block as u64,
            file: 0,
            opened: None,
            rest: Vec::new(),
            offset: 0,
            lines: 0,
            done: 0,
        }
    }

    /// Makes ranges of many blocks: their number then still keeps many workers busy to the end.
    pub(super) fn gather(&mut self) {
        let bytes: u64 = self.heads.iter().filter_map(|h| h.size).sum();
        let blocks = (bytes / self.block as u64 / 64).clamp(1, RANGE_BLOCKS);
        self.range = self.block as u64 * blocks;
    }

    /// The next part; `None` after the last one.
    pub(super) fn next(&mut self) -> Result<Option<Cut>> {
        loop {
            let heads = self.heads.clone();
            let Some(head) = heads.get(self.file) else { return Ok(None) };
            if self.opened.is_none() {
                self.opened = Some(match head.size.filter(|_| head.seekable) {
                    Some(size) => Opened::Seekable(Arc::new(Seekable::open(head, size, self.memory)?)),
                    None => Opened::Stream(head.open()?),
                });
                self.offset = head.data_at();
                self.lines = head.lines_before_data();
                self.rest.clear();
            }
            let cut = match &self.opened {
                Some(Opened::Seekable(seekable)) => {
                    let seekable = seekable.clone();
                    self.range_of(head, seekable).map(Cut::Range)
                }
                _ => self.block_of(head)?.map(Cut::Block),
            };
            if cut.is_some() {
                return Ok(cut);
            }
            self.opened = None;
            self.file += 1;
        }
    }

    fn range_of(&mut self, head: &Head, seekable: Arc<Seekable>) -> Option<FileRange> {
        if self.offset >= seekable.size {
            return None;
        }
        let from = self.offset;
        self.offset = (from + self.range).min(seekable.size);
        self.done += self.offset - from;
        Some(FileRange {
            file: self.file,
            from,
            to: self.offset,
            block: self.block,
            bytes: seekable.range(from..self.offset),
            seekable,
            start: (from == head.data_at()).then_some(from),
            began: u64::MAX,
            at: from,
        })
    }

    fn block_of(&mut self, head: &Head) -> Result<Option<Block>> {
        let mut bytes = Vec::with_capacity(self.rest.len() + self.block + 1);
        bytes.append(&mut self.rest);
        let mut wanted = self.block;
        loop {
            let before = bytes.len();
            if let Some(Opened::Stream(reader)) = &mut self.opened {
                let read = reader.take(wanted as u64).read_to_end(&mut bytes);
                read.map_err(|e| place::unreadable(&head.path, &e).in_file(&head.shown, None, None))?;
            }
            let at_end = bytes.len() - before < wanted;
            if at_end {
                return Ok(self.last(bytes));
            }
            if let Some(end) = churn_kernels::structure::last_record_end(&bytes, self.options.dialect()) {
                self.rest = bytes.split_off(end);
                return Ok(Some(self.made(bytes)));
            }
            if bytes.len() > RECORD_LIMIT {
                return Err(too_long(head, Some(self.lines + 1)));
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
        let block = Block { file: self.file, offset: self.offset, lines: self.lines, bytes };
        self.offset += block.bytes.len() as u64;
        self.done += block.bytes.len() as u64;
        self.lines += count_lines(&block.bytes);
        block
    }
}

pub(super) fn count_lines(bytes: &[u8]) -> u64 {
    memchr::memchr_iter(b'\n', bytes).count() as u64
}
