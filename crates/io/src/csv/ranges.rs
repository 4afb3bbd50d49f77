//! Files whose bytes are the text itself, read by the workers at any place.
//!
//! A file is cut into ranges of equal length. A range owns the records that start in it. Its worker reads it
//! without waiting for the ranges before it: it takes the first line end for the end of a record, which only a
//! line break within quotes makes wrong. The pipeline compares where one range ended and the next began when it
//! takes them in order, and has a range that guessed wrong read again from the right place. So the borders
//! depend on the text alone, and nobody waits for anybody.

use std::fs::File;
use std::ops::Range;
use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result};
use churn_kernels::known::known_part;
use churn_kernels::pool::make_room;

use super::cells::Borders;
use super::head::Head;
use super::options::CsvOptions;
use crate::place;
use crate::store::{LargeText, Lease};

/// Bytes read behind a block to find where its last record ends.
const SLACK: usize = 4096;

/// The longest record.
pub(super) const RECORD_LIMIT: usize = 64 << 20;

/// A file that can be read at any place.
#[derive(Debug)]
pub(super) struct Seekable {
    bytes: SeekableBytes,
    pub(super) size: u64,
}

#[derive(Debug)]
enum SeekableBytes {
    OnDisk(Arc<File>),
    InStore(LargeText),
}

impl Seekable {
    /// The text of a file, of so many bytes, in a run with so much memory.
    ///
    /// # Errors
    /// It cannot be opened.
    pub(super) fn open(head: &Head, size: u64, memory: Option<u64>) -> Result<Seekable> {
        let bytes = match head.in_store() {
            Some(file) => SeekableBytes::InStore(LargeText::new(file.clone(), memory)),
            None => SeekableBytes::OnDisk(Arc::new(place::open(&head.path)?)),
        };
        Ok(Seekable { bytes, size })
    }

    /// The bytes of a range, and of some places behind it; with the byte before it unless it is known to start with a record.
    pub(super) fn range(&self, range: Range<u64>, is_known: bool) -> RangeBytes {
        match &self.bytes {
            SeekableBytes::OnDisk(file) => RangeBytes::OnDisk(file.clone()),
            SeekableBytes::InStore(text) => {
                RangeBytes::InStore(text.lease(range, u64::from(!is_known), SLACK as u64))
            }
        }
    }
}

/// What gives the bytes of a range.
#[derive(Debug)]
pub(super) enum RangeBytes {
    OnDisk(Arc<File>),
    InStore(Lease),
}

impl RangeBytes {
    fn read_at(&mut self, into: &mut [u8], at: u64) -> std::io::Result<usize> {
        match self {
            RangeBytes::OnDisk(file) => place::read_at(file, into, at),
            RangeBytes::InStore(lease) => lease.read_at(into, at),
        }
    }

    /// Puts all bytes from a place on into memory, if that takes no copy and they are not more than so many; gives how many there are.
    fn swap(&mut self, memory: &mut Vec<u8>, at: u64, wanted: usize) -> usize {
        match self {
            RangeBytes::OnDisk(_) => 0,
            RangeBytes::InStore(lease) => lease.swap(memory, at, wanted),
        }
    }

    /// Says that no bytes before a place are read any more, and gives those behind it that were read last.
    fn pass(&mut self, at: u64, rest: &[u8]) {
        if let RangeBytes::InStore(lease) = self {
            lease.pass(at, rest);
        }
    }
}

/// Memory that one block after the other is read into.
#[derive(Debug, Default)]
pub(super) struct Scratch {
    /// Longer than what was read into it, so that it need not be cleared again.
    pub(super) bytes: Vec<u8>,
    pub(super) borders: Borders,
}

/// A range of a file, read block by block.
#[derive(Debug)]
pub struct FileRange {
    pub(super) file: usize,
    pub(super) from: u64,
    pub(super) to: u64,
    pub(super) block: usize,
    pub(super) seekable: Arc<Seekable>,
    pub(super) bytes: RangeBytes,
    /// Where its first record starts: known, or to be guessed.
    pub(super) start: Option<u64>,
    /// Where its first record was taken to start; `u64::MAX` where nothing could be made of it.
    pub(super) began: u64,
    /// Where the next block starts.
    pub(super) at: u64,
}

/// Whole records in the scratch.
pub(super) struct RangePiece {
    /// Where they stand in the scratch.
    pub(super) range: Range<usize>,
    /// Where they start in the file.
    pub(super) offset: u64,
    /// Where a quote opens that never closes.
    pub(super) open_quote: Option<usize>,
}

impl FileRange {
    /// Reads the next whole records of the range; `None` at its end.
    pub(super) fn next(
        &mut self,
        head: &Head,
        options: &CsvOptions,
        scratch: &mut Scratch,
    ) -> Result<Option<RangePiece>> {
        let mut read = 0;
        // Where the bytes of the scratch start in the file.
        let mut origin = self.at;
        let guessing = self.began == u64::MAX && self.start.is_none();
        if self.began == u64::MAX {
            match self.start {
                Some(start) => (self.began, self.at, origin) = (start, start, start),
                None => {
                    origin = self.from - 1;
                    let wanted = (self.block as u64 + 1).min(self.to - origin) as usize + SLACK;
                    read = self.fill(head, scratch, origin, 0, wanted)?;
                    let bytes = known_part(&scratch.bytes, ..read);
                    let Some(line_end) = memchr::memchr(b'\n', bytes) else { return Ok(None) };
                    self.at = origin + line_end as u64 + 1;
                    self.began = self.at;
                }
            }
        }
        if self.at >= self.to {
            return Ok(None);
        }
        let target = (self.at + self.block as u64).min(self.to);
        let start = (self.at - origin) as usize;
        let mut wanted = (target - origin) as usize + SLACK;
        loop {
            if read < wanted {
                read = self.fill(head, scratch, origin, read, wanted)?;
            }
            let at_end = origin + read as u64 >= self.seekable.size;
            let Scratch { bytes, borders } = scratch;
            let filled = read;
            if at_end && read > start && bytes.get(read - 1) != Some(&b'\n') {
                if let Some(end) = bytes.get_mut(read) {
                    *end = b'\n';
                }
                read += 1;
            }
            borders.structure.find(known_part(bytes, start..read), options.dialect());
            let enough = (target - self.at) as usize;
            let ends = borders.structure.line_ends();
            let lines = ends.partition_point(|end| (*end as usize) + 1 < enough);
            let piece = |length: usize, open_quote| RangePiece {
                range: start..start + length,
                offset: self.at,
                open_quote,
            };
            if let Some(end) = ends.get(lines) {
                let length = *end as usize + 1;
                let found = piece(length, None);
                borders.structure.truncate(lines + 1);
                self.at += length as u64;
                self.bytes.pass(self.at, bytes.get(start + length..filled).unwrap_or_default());
                return Ok(Some(found));
            }
            if at_end {
                let found = piece(read - start, borders.structure.open_quote());
                self.at = self.to.max(self.seekable.size);
                return Ok((read > start).then_some(found));
            }
            if guessing {
                // Probably not a record's start at all.
                self.began = u64::MAX;
                return Ok(None);
            }
            if read - start > RECORD_LIMIT {
                return Err(too_long(head, super::at::line_at(head, self.at)));
            }
            wanted += wanted;
        }
    }

    /// Reads more of the file behind the bytes that are there; gives how many there are then.
    fn fill(
        &mut self,
        head: &Head,
        scratch: &mut Scratch,
        origin: u64,
        mut filled: usize,
        wanted: usize,
    ) -> Result<usize> {
        let wanted = wanted.min((self.seekable.size - origin) as usize);
        if filled == 0 {
            filled = self.bytes.swap(&mut scratch.bytes, origin, wanted);
        }
        make_room(&mut scratch.bytes, wanted);
        while let Some(rest) = scratch.bytes.get_mut(filled..wanted).filter(|r| !r.is_empty()) {
            let at = origin + filled as u64;
            let read = self.bytes.read_at(rest, at);
            match read.map_err(|e| place::unreadable(&head.path, &e).in_file(&head.shown, None, None))? {
                0 => return Err(shorter(head, self.seekable.size, at)),
                read => filled += read,
            }
        }
        Ok(filled)
    }
}

/// The error of a quote that probably never closes.
pub(super) fn too_long(head: &Head, line: Option<u64>) -> Error {
    Error::new(ErrorKind::Data, "A record is longer than 64 MB.")
        .in_file(&head.shown, line, None)
        .why("A quote probably opens here and never closes.")
        .next("Mend the line, or say quote = none if the file has no quoted cells.")
}

/// The error of a file that has lost rows since it was looked at.
pub(super) fn shorter(head: &Head, size: u64, end: u64) -> Error {
    Error::new(ErrorKind::Data, format!("{} became shorter while it was read.", head.shown))
        .why(format!("It had {size} bytes at the start, and ended after {end}."))
        .next("Run again when nothing else writes to it.")
}
