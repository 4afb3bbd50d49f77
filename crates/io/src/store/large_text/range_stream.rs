//! A range of a text in a store, read as it comes by the thread that works on it.
//!
//! The bytes go from the connection to where they are worked on, and wait in the system's buffers until then.

use std::fmt;
use std::io::{Error, ErrorKind, Read, Result};
use std::ops::Range;
use std::sync::mpsc::{Receiver, sync_channel};
use std::time::{Duration, Instant};

use crate::store::{RemoteFile, aside};

/// Bytes after which it is known whether they come slowly.
const KNOWN_AFTER: u64 = 4 << 20;

/// How many times the time of work the time of waiting is where bytes come slowly.
const SLOW: u32 = 2;

/// A range that is read from front to back.
pub(super) struct RangeStream {
    file: RemoteFile,
    bytes: Box<dyn Read + Send>,
    /// The bytes that are still to come.
    left: Range<u64>,
    /// Bytes that were read and are wanted again, and where they stand.
    again: Vec<u8>,
    again_at: u64,
    read: u64,
    began: Instant,
    waited: Duration,
}

impl fmt::Debug for RangeStream {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RangeStream").field("left", &self.left).finish_non_exhaustive()
    }
}

impl RangeStream {
    /// A range whose bytes come from a reader.
    pub(super) fn new(file: RemoteFile, bytes: Box<dyn Read + Send>, range: Range<u64>) -> RangeStream {
        let (began, waited) = (Instant::now(), Duration::ZERO);
        RangeStream { file, bytes, left: range, again: Vec::new(), again_at: 0, read: 0, began, waited }
    }

    /// Where the next bytes stand.
    pub(super) fn at(&self) -> u64 {
        if self.again.is_empty() { self.left.start } else { self.again_at }
    }

    /// Reads some bytes at a place; none at the end of the text.
    ///
    /// # Errors
    /// They cannot be read; the run is to stop.
    pub(super) fn read_at(&mut self, into: &mut [u8], at: u64) -> Result<usize> {
        let known = at.checked_sub(self.again_at).and_then(|skipped| self.again.get(skipped as usize..));
        if let Some(mut known) = known.filter(|known| !known.is_empty()) {
            return known.read(into);
        }
        if at != self.left.start || self.left.is_empty() {
            // Behind the range: a record that is longer than is usual.
            return self.file.read_some(into, at);
        }
        self.next(into)
    }

    /// Reads some of the bytes that come next.
    fn next(&mut self, into: &mut [u8]) -> Result<usize> {
        let before = Instant::now();
        let read = aside::guarded(|| self.bytes.read(into))?;
        self.waited += before.elapsed();
        if read == 0 {
            return Err(ErrorKind::UnexpectedEof.into());
        }
        self.file.count(read);
        (self.left.start, self.read) = (self.left.start + read as u64, self.read + read as u64);
        self.again.clear();
        Ok(read)
    }

    /// Has the last bytes that were read, which stand at a place, given again.
    pub(super) fn unread(&mut self, at: u64, bytes: &[u8]) {
        self.again.clear();
        self.again.extend_from_slice(bytes);
        self.again_at = at;
    }

    /// Whether more time went by waiting for bytes than working on them.
    pub(super) fn is_slow(&self) -> bool {
        comes_slowly(self.read, self.waited, self.began.elapsed())
    }
}

/// Whether so many bytes came slowly, of which one was waited for in a part of the time.
fn comes_slowly(bytes: u64, waited: Duration, all: Duration) -> bool {
    bytes >= KNOWN_AFTER && waited > all.saturating_sub(waited) * SLOW
}

/// A range that is being asked for, by a thread of its own.
#[derive(Debug)]
pub(super) struct Opening {
    file: RemoteFile,
    pub(super) range: Range<u64>,
    answer: Receiver<Result<Box<dyn Read + Send>>>,
}

impl Opening {
    pub(super) fn start(file: &RemoteFile, range: Range<u64>) -> Opening {
        let (send, answer) = sync_channel(1);
        let (own, wanted, unasked) = (file.clone(), range.clone(), send.clone());
        let ask = move || drop(send.send(aside::guarded(|| own.stream(wanted))));
        if let Err(error) = aside::start(ask) {
            let _ = unasked.send(Err(error));
        }
        Opening { file: file.clone(), range, answer }
    }

    /// The bytes, once they come.
    ///
    /// # Errors
    /// They cannot be read; the run is to stop.
    pub(super) fn wait(&self) -> Result<RangeStream> {
        let answer = aside::next(&self.answer)?.ok_or_else(|| Error::other("an answer was lost"))?;
        Ok(RangeStream::new(self.file.clone(), answer?, self.range.clone()))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::fast(100 << 20, 300, 1000, false)]
    #[case::as_long_as_work(100 << 20, 500, 1000, false)]
    #[case::slow(100 << 20, 700, 1000, true)]
    #[case::nothing_but_waiting(4 << 20, 10, 10, true)]
    #[case::not_known_yet(1 << 20, 10, 10, false)]
    fn what_comes_slowly(#[case] bytes: u64, #[case] waited: u64, #[case] all: u64, #[case] is_slow: bool) {
        let [waited, all] = [waited, all].map(Duration::from_millis);
        assert_eq!(comes_slowly(bytes, waited, all), is_slow);
    }
}
