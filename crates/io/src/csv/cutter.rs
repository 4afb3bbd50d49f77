//! Files cut into numbered parts: ranges where any place of a file can be read, else blocks of whole records.
//!
//! Borders depend on the text and the sizes alone. A record longer than a block makes the block grow; a quote
//! that never closes is an error, not a table that is loaded whole.

use std::io::{ErrorKind, Read};
use std::sync::Arc;
use std::vec::IntoIter;

use churn_core::Result;
use churn_kernels::known::known_part;
use churn_kernels::pool::{Pool, make_room};
use churn_kernels::structure::last_record_end;

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

/// The most blocks of a stream whose rows are gathered, as a power of two. The first are taken one by one, the number doubles with every
/// fourth taking: nobody knows how many there are, and few are to keep many workers busy, too.
const STREAM_BLOCKS: u64 = 3;

/// A part of a file.
#[derive(Debug)]
pub(super) enum Cut {
    Range(FileRange),
    Blocks(IntoIter<Block>),
}

/// A block of whole records.
#[derive(Debug)]
pub(super) struct Block {
    /// Which file it is from.
    pub(super) file: usize,
    /// Longer than what was read into it, so that it need not be cleared again.
    pub(super) bytes: Vec<u8>,
    pub(super) length: usize,
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
    /// Whether the rows of several blocks are gathered, and how often some were taken of the stream.
    is_gathering: bool,
    taken: u64,
    pool: Pool,
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
        pool: Pool,
    ) -> Cutter {
        let block = block.unwrap_or(BLOCK_BYTES);
        Cutter {
            heads,
            options,
            memory,
            block,
            range: block as u64,
            is_gathering: false,
            taken: 0,
            pool,
            file: 0,
            opened: None,
            rest: Vec::new(),
            offset: 0,
            lines: 0,
            done: 0,
        }
    }

    /// Makes parts of many blocks: their number then still keeps many workers busy to the end.
    pub(super) fn gather(&mut self) {
        self.is_gathering = true;
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
                self.taken = 0;
            }
            let cut = match &self.opened {
                Some(Opened::Seekable(seekable)) => {
                    let seekable = seekable.clone();
                    self.range_of(head, seekable).map(Cut::Range)
                }
                _ => self.blocks_of(head)?.map(Cut::Blocks),
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
        let start = (from == head.data_at()).then_some(from);
        Some(FileRange {
            file: self.file,
            from,
            to: self.offset,
            block: self.block,
            bytes: seekable.range(from..self.offset, start.is_some()),
            seekable,
            start,
            began: u64::MAX,
            at: from,
        })
    }

    /// The next blocks of a stream, whose rows are gathered.
    fn blocks_of(&mut self, head: &Head) -> Result<Option<IntoIter<Block>>> {
        let wanted = if self.is_gathering { 1 << (self.taken / 4).min(STREAM_BLOCKS) } else { 1 };
        self.taken += 1;
        let mut blocks = Vec::with_capacity(wanted);
        while blocks.len() < wanted
            && let Some(block) = self.block_of(head)?
        {
            blocks.push(block);
        }
        Ok((!blocks.is_empty()).then(|| blocks.into_iter()))
    }

    fn block_of(&mut self, head: &Head) -> Result<Option<Block>> {
        let mut bytes = self.pool.take();
        let mut filled = self.rest.len();
        make_room(&mut bytes, filled);
        if let Some(start) = bytes.get_mut(..filled) {
            start.copy_from_slice(&self.rest);
        }
        let mut wanted = filled + self.block;
        loop {
            make_room(&mut bytes, wanted);
            while let Some(rest) = bytes.get_mut(filled..wanted).filter(|rest| !rest.is_empty()) {
                match self.read(rest) {
                    Ok(0) => return Ok(self.last(bytes, filled)),
                    Ok(read) => filled += read,
                    Err(error) if error.kind() == ErrorKind::Interrupted => {}
                    Err(error) => {
                        return Err(place::unreadable(&head.path, &error).in_file(&head.shown, None, None));
                    }
                }
            }
            let read = known_part(&bytes, ..filled);
            if let Some(end) = last_record_end(read, self.options.dialect()) {
                self.rest.clear();
                self.rest.extend_from_slice(known_part(read, end..));
                return Ok(Some(self.made(bytes, end)));
            }
            if filled > RECORD_LIMIT {
                return Err(too_long(head, Some(self.lines + 1)));
            }
            wanted += filled;
        }
    }

    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        match &mut self.opened {
            Some(Opened::Stream(reader)) => reader.read(into),
            _ => Ok(0),
        }
    }

    /// The last block of a stream; `None` if nothing is left for it.
    fn last(&mut self, mut bytes: Vec<u8>, mut length: usize) -> Option<Block> {
        self.rest.clear();
        if length == 0 {
            return None;
        }
        if bytes.get(length - 1) != Some(&b'\n') {
            make_room(&mut bytes, length);
            if let Some(end) = bytes.get_mut(length) {
                *end = b'\n';
            }
            length += 1;
        }
        Some(self.made(bytes, length))
    }

    fn made(&mut self, bytes: Vec<u8>, length: usize) -> Block {
        let lines = count_lines(known_part(&bytes, ..length));
        let block = Block { file: self.file, offset: self.offset, lines: self.lines, bytes, length };
        self.offset += length as u64;
        self.done += length as u64;
        self.lines += lines;
        block
    }
}

pub(super) fn count_lines(bytes: &[u8]) -> u64 {
    memchr::memchr_iter(b'\n', bytes).count() as u64
}
