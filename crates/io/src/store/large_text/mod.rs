//! A large text in a store, read by many threads nearly in order.
//!
//! Bytes that come faster than they are worked on are read by the thread that works on them, as they come ([`range_stream`]): to fetch
//! them ahead would only be another copy through the memory. Where they come more slowly, or the store only fills buffers, windows are
//! fetched ahead, several at once ([`windows`]). Which of both it is is found by the time that threads wait.

mod range_stream;
mod windows;

use std::io::{Error, ErrorKind, Read, Result};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use churn_kernels::pool::make_room;
use range_stream::{Opening, RangeStream};
use windows::{ReadAhead, WindowLease};

use super::RemoteFile;

/// Bytes of a range that is worth a request of its own; smaller ones are read one after the other from one answer.
const WORTH_A_REQUEST: u64 = 1 << 20;

/// Bytes before a range that is leased next that are read as well: its first record is looked for from the end of the one before it on.
const BEFORE_THE_NEXT: u64 = 1;

/// A text that is leased to threads range by range.
#[derive(Clone, Debug)]
pub(crate) struct LargeText(Arc<Shared>);

#[derive(Debug)]
struct Shared {
    file: RemoteFile,
    memory: Option<u64>,
    is_slow: AtomicBool,
    /// Of the rest of the text, once it is known to come slowly.
    windows: OnceLock<ReadAhead>,
    /// The answer that small ranges are read from, one after the other.
    sequence: Mutex<Option<RangeStream>>,
    /// The large range that will probably be leased next.
    next: Mutex<Option<Opening>>,
    /// Memory of small ranges that nobody reads any more: it need not be cleared again.
    free: Mutex<Vec<Vec<u8>>>,
}

/// A range of a text that one thread reads from front to back.
#[derive(Debug)]
pub(crate) struct Lease {
    text: LargeText,
    bytes: Bytes,
}

/// Where the bytes of a range come from.
#[derive(Debug)]
enum Bytes {
    Windows(WindowLease),
    Opening(Opening),
    Stream(RangeStream),
    Block(Block),
    Failed(ErrorKind, String),
}

/// The bytes of a small range.
#[derive(Debug)]
struct Block {
    start: u64,
    length: usize,
    /// Longer than what was read into it, as the memory that it is given for.
    memory: Vec<u8>,
}

impl LargeText {
    /// A text that is read by a run with so many bytes of memory, if they are bounded.
    pub(crate) fn new(file: RemoteFile, memory: Option<u64>) -> LargeText {
        LargeText(Arc::new(Shared {
            memory,
            is_slow: AtomicBool::new(!file.gives_ranges()),
            windows: OnceLock::new(),
            file,
            sequence: Mutex::default(),
            next: Mutex::default(),
            free: Mutex::default(),
        }))
    }

    /// Leases a range, with some bytes before it, which are read first, and some behind it, which may be read as well.
    pub(crate) fn lease(&self, range: Range<u64>, before: u64, behind: u64) -> Lease {
        let shared = &*self.0;
        let around = shared.around(&range, before, behind);
        let bytes = if let Some(windows) = shared.windows(around.start) {
            Bytes::Windows(windows.lease(around, range.end))
        } else if range.end.saturating_sub(range.start) < WORTH_A_REQUEST && !shared.is_asked_for(&around) {
            shared.block(around, range.end).map_or_else(Bytes::failed, Bytes::Block)
        } else {
            Bytes::Opening(shared.opening(around, &range, behind))
        };
        Lease { text: self.clone(), bytes }
    }
}

impl Shared {
    /// The windows that are read from a place on, where bytes come slowly.
    fn windows(&self, start: u64) -> Option<&ReadAhead> {
        let windows = || ReadAhead::new(self.file.clone(), self.memory, start);
        let is_slow = self.is_slow.load(Ordering::Relaxed);
        is_slow.then(|| self.windows.get_or_init(windows)).filter(|windows| windows.origin() <= start)
    }

    /// All that may be read of a leased range.
    fn around(&self, range: &Range<u64>, before: u64, behind: u64) -> Range<u64> {
        range.start.saturating_sub(before)..range.end.saturating_add(behind).min(self.file.size())
    }

    /// Whether a range was asked for already, as the last one after large ones.
    fn is_asked_for(&self, around: &Range<u64>) -> bool {
        lock(&self.next).as_ref().is_some_and(|next| next.range == *around)
    }

    /// A large range, which was asked for before if it follows the one before it. The one that follows it is asked for.
    fn opening(&self, around: Range<u64>, range: &Range<u64>, behind: u64) -> Opening {
        let mut next = lock(&self.next);
        let own = next.take().filter(|next| next.range == around);
        if range.end < self.file.size() {
            let length = range.end - range.start;
            let following = range.end..range.end.saturating_add(length).min(self.file.size());
            *next = Some(Opening::start(&self.file, self.around(&following, BEFORE_THE_NEXT, behind)));
        }
        own.unwrap_or_else(|| Opening::start(&self.file, around))
    }

    /// The bytes of a small range, which ends before the last of them.
    fn block(&self, around: Range<u64>, range_end: u64) -> Result<Block> {
        let start = around.start;
        let length = usize::try_from(around.end - start).map_err(Error::other)?;
        let mut sequence = lock(&self.sequence);
        let stream = match &mut *sequence {
            Some(stream) => stream,
            none => none.insert(Opening::start(&self.file, start..self.file.size()).wait()?),
        };
        if stream.at() != start {
            // One that is read again, from another place on.
            drop(sequence);
            return Ok(Block { start, length, memory: self.file.fetch(around)?.into() });
        }
        let mut memory = lock(&self.free).pop().unwrap_or_default();
        make_room(&mut memory, length);
        let mut read = 0;
        while let Some(rest) = memory.get_mut(read..length).filter(|rest| !rest.is_empty()) {
            read += stream.read_at(rest, start + read as u64)?;
        }
        let next = range_end - BEFORE_THE_NEXT;
        stream.unread(next, memory.get((next - start) as usize..length).unwrap_or_default());
        if stream.is_slow() {
            self.is_slow.store(true, Ordering::Relaxed);
            *sequence = None;
        }
        Ok(Block { start, length, memory })
    }
}

impl Lease {
    /// Reads some bytes at a place; none at the end of the text.
    ///
    /// # Errors
    /// They cannot be read; the run is to stop.
    pub(crate) fn read_at(&mut self, into: &mut [u8], at: u64) -> Result<usize> {
        match &mut self.bytes {
            Bytes::Opening(opening) => {
                self.bytes = opening.wait().map_or_else(Bytes::failed, Bytes::Stream);
                self.read_at(into, at)
            }
            Bytes::Windows(windows) => windows.read_at(into, at),
            Bytes::Stream(stream) => stream.read_at(into, at),
            Bytes::Block(Block { start, length, memory }) => {
                let known = at.checked_sub(*start).and_then(|skipped| memory.get(skipped as usize..*length));
                match known.filter(|known| !known.is_empty()) {
                    Some(mut known) => known.read(into),
                    None => self.text.0.file.read_some(into, at),
                }
            }
            Bytes::Failed(kind, what) => Err(Error::new(*kind, what.clone())),
        }
    }

    /// Puts all bytes of a small range into other memory, if it is read from a place on and no more than so many are wanted; gives how
    /// many there are.
    pub(crate) fn swap(&mut self, other: &mut Vec<u8>, at: u64, wanted: usize) -> usize {
        match &mut self.bytes {
            Bytes::Block(block)
                if block.start == at && block.length <= wanted && block.memory.len() > block.length =>
            {
                std::mem::swap(&mut block.memory, other);
                std::mem::take(&mut block.length)
            }
            _ => 0,
        }
    }

    /// Says that no bytes before a place are read any more, and gives those behind it that were read last.
    pub(crate) fn pass(&mut self, at: u64, rest: &[u8]) {
        match &mut self.bytes {
            Bytes::Windows(windows) => windows.pass(at),
            Bytes::Stream(stream) => stream.unread(at, rest),
            Bytes::Block(..) | Bytes::Opening(_) | Bytes::Failed(..) => {}
        }
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        match &mut self.bytes {
            Bytes::Stream(stream) if stream.is_slow() => self.text.0.is_slow.store(true, Ordering::Relaxed),
            Bytes::Block(block) => lock(&self.text.0.free).push(std::mem::take(&mut block.memory)),
            _ => {}
        }
    }
}

impl Bytes {
    fn failed(error: Error) -> Bytes {
        Bytes::Failed(error.kind(), error.to_string())
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::store::{StoredFile, Transfer};

    /// Too few to tell whether they come slowly.
    const SIZE: u64 = 3 << 20;

    /// Bytes that are read behind a range.
    const BEHIND: u64 = 4096;

    /// Each its place modulo 251.
    fn bytes(range: Range<u64>) -> Vec<u8> {
        range.map(|place| (place % 251) as u8).collect()
    }

    /// Bytes that come at most so many at once; those from a place on cannot be read.
    struct Source {
        left: Range<u64>,
        spilt: u64,
    }

    impl Read for Source {
        fn read(&mut self, into: &mut [u8]) -> Result<usize> {
            let end = self.left.end.min(self.left.start + into.len().min(100_000) as u64);
            if end > self.spilt {
                return Err(Error::other("it is spilt"));
            }
            let read = (&bytes(self.left.start..end)[..]).read(into)?;
            self.left.start += read as u64;
            Ok(read)
        }
    }

    fn text(spilt: u64) -> (LargeText, Arc<Transfer>) {
        let transfer = Arc::<Transfer>::default();
        let range = move |left| -> Result<Box<dyn Read + Send>> { Ok(Box::new(Source { left, spilt })) };
        let file = RemoteFile::of(StoredFile::by_ranges(SIZE, range), &transfer);
        (LargeText::new(file, Some(8 << 20)), transfer)
    }

    /// Reads a leased range as records are: some more than is used, which is read again.
    fn read(lease: &mut Lease, range: Range<u64>) -> Result<()> {
        let (mut at, mut block) = (range.start, vec![0; 70_000]);
        while at < range.end {
            // A small range, and the byte before it, at once.
            let wanted = (range.end - at).min(65_537) as usize + BEHIND as usize;
            let mut filled = lease.swap(&mut block, at, wanted);
            while filled < wanted {
                match lease.read_at(&mut block[filled..wanted], at + filled as u64)? {
                    0 => break,
                    read => filled += read,
                }
            }
            assert!(block[..filled] == bytes(at..at + filled as u64), "{at}");
            let used = filled.min(wanted - BEHIND as usize);
            at += used as u64;
            lease.pass(at, &block[used..filled]);
        }
        Ok(())
    }

    #[rstest]
    fn ranges_are_read_as_they_stand_by_two_threads(
        #[values(65_536, 1 << 19, 1 << 20, 1_300_000)] length: u64,
        #[values(0, 2, 99)] slow_from: usize,
    ) {
        let (text, transfer) = text(SIZE);
        let ranges: Vec<Range<u64>> =
            (0..SIZE.div_ceil(length)).map(|n| n * length..((n + 1) * length).min(SIZE)).collect();
        let before = |range: &Range<u64>| u64::from(range.start > 0);
        for (number, pair) in ranges.chunks(2).enumerate() {
            text.0.is_slow.store(number * 2 >= slow_from, Ordering::Relaxed);
            let leases: Vec<_> =
                pair.iter().map(|range| (text.lease(range.clone(), before(range), BEHIND), range)).collect();
            for (mut lease, range) in leases {
                read(&mut lease, range.start - before(range)..range.end).unwrap();
            }
        }
        if slow_from == 99 {
            let requests = if length < WORTH_A_REQUEST { 1 } else { ranges.len() as u64 };
            assert_eq!(transfer.requests(), requests);
            assert!(transfer.bytes() <= SIZE + requests * (BEHIND + 1), "{}", transfer.bytes());
        }
    }

    #[rstest]
    fn a_range_is_read_again_from_another_place(#[values(65_536, 1 << 20)] length: u64) {
        let (text, _) = text(SIZE);
        read(&mut text.lease(length..2 * length, 0, BEHIND), length..2 * length).unwrap();
        read(&mut text.lease(length + 7..2 * length, 0, BEHIND), length + 7..2 * length).unwrap();
        read(&mut text.lease(2 * length..3 * length, 1, BEHIND), 2 * length - 1..3 * length).unwrap();
        // A record that goes on behind what is leased.
        read(&mut text.lease(0..length, 0, BEHIND), 0..length + 300_000).unwrap();
    }

    #[rstest]
    fn what_cannot_be_read_is_told(#[values(65_536, 1 << 20)] length: u64) {
        let (text, _) = text(2 << 20);
        let error = (0..SIZE / length)
            .map(|n| n * length..(n + 1) * length)
            .find_map(|range| read(&mut text.lease(range.clone(), 0, BEHIND), range).err());
        assert_eq!(error.unwrap().to_string(), "it is spilt");
    }
}
