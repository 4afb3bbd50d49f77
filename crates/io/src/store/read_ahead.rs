//! A large text in a store, read by many threads nearly in order: windows of it are fetched before they are needed.
//!
//! A thread that reads a range of the text leases it. The windows of leased ranges are kept until the last lease that needs them has
//! passed them. Fetched ahead are the window behind the one that is being read, and those at which the next range will start; so what
//! is held is about three windows for each thread. Each window is one request, sent by a thread of its own.

use std::collections::BTreeMap;
use std::io::{Error, ErrorKind, Result};
use std::ops::Range;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use churn_core::cancel;
use churn_core::parallel::caught;

use super::RemoteFile;
use super::aside::{LOOK, stopped};

/// Bytes of a window where memory is not bounded, and at least.
const WINDOW: u64 = 2 << 20;
const WINDOW_AT_LEAST: u64 = 64 << 10;

/// A window is this part of the memory that a run may use.
const OF_MEMORY: u64 = 64;

/// A text of which windows are fetched ahead.
#[derive(Clone, Debug)]
pub(crate) struct ReadAhead(Arc<Shared>);

#[derive(Debug)]
struct Shared {
    file: RemoteFile,
    window: u64,
    windows: Mutex<Windows>,
    /// Notified when a window was fetched, or could not be.
    arrived: Condvar,
}

#[derive(Debug, Default)]
struct Windows {
    /// By their numbers.
    held: BTreeMap<u64, Window>,
    /// Where the next range will start.
    next: u64,
}

#[derive(Debug, Default)]
struct Window {
    /// Leases that still need it.
    leases: usize,
    state: State,
}

#[derive(Debug, Default)]
enum State {
    #[default]
    NotAskedFor,
    Asked,
    Here(Bytes),
    Failed(ErrorKind, String),
}

impl ReadAhead {
    /// A text that is read by a run with so many bytes of memory, if they are bounded.
    pub(crate) fn new(file: RemoteFile, memory: Option<u64>) -> ReadAhead {
        let window = memory.map_or(WINDOW, |memory| (memory / OF_MEMORY).clamp(WINDOW_AT_LEAST, WINDOW));
        ReadAhead::by_windows(file, window)
    }

    fn by_windows(file: RemoteFile, window: u64) -> ReadAhead {
        let (windows, arrived) = Default::default();
        ReadAhead(Arc::new(Shared { file, window, windows, arrived }))
    }

    /// Leases a range, with the byte before it and some bytes behind it, which may be read as well.
    pub(crate) fn lease(&self, range: Range<u64>, behind: u64) -> Lease {
        let Shared { file, window, .. } = &*self.0;
        let (size, window) = (file.size(), *window);
        let first = range.start.saturating_sub(1);
        let last = range.end.saturating_add(behind).min(size).saturating_sub(1);
        let numbers = first / window..last.max(first) / window + 1;
        let mut windows = self.0.lock();
        windows.next = windows.next.max(range.end);
        for number in numbers.clone() {
            windows.held.entry(number).or_default().leases += 1;
        }
        let next = windows.next / window;
        for ahead in [numbers.start, next, next + 1] {
            if ahead * window < size {
                windows.held.entry(ahead).or_default();
                self.ask_for(&mut windows, ahead);
            }
        }
        Lease { text: self.clone(), numbers }
    }

    /// Has a window fetched that is held, unless it was.
    fn ask_for(&self, windows: &mut Windows, number: u64) {
        let Some(Window { state: state @ State::NotAskedFor, .. }) = windows.held.get_mut(&number) else {
            return;
        };
        let Shared { file, window, .. } = &*self.0;
        let range = number * window..(number + 1).saturating_mul(*window).min(file.size());
        let own = self.clone();
        let fetch = move || {
            let panicked = |why| Err(Error::other(format!("its store panicked: {why}")));
            let fetched = caught(|| own.0.file.ask(range)).unwrap_or_else(panicked);
            if let Some(window) = own.0.lock().held.get_mut(&number) {
                window.state = match fetched {
                    Ok(bytes) => State::Here(bytes),
                    Err(error) => State::Failed(error.kind(), error.to_string()),
                };
            }
            own.0.arrived.notify_all();
        };
        *state = match std::thread::Builder::new().name("store".into()).spawn(fetch) {
            Ok(_) => State::Asked,
            Err(error) => State::Failed(error.kind(), error.to_string()),
        };
    }

    /// The window that holds a place, once it is there; `None` if no lease has it.
    fn window_at(&self, at: u64) -> Result<Option<(u64, Bytes)>> {
        let number = at / self.0.window;
        let mut windows = self.0.lock();
        loop {
            match windows.held.get(&number).map(|window| &window.state) {
                None => return Ok(None),
                Some(State::NotAskedFor) => self.ask_for(&mut windows, number),
                Some(State::Failed(kind, what)) => return Err(Error::new(*kind, what.clone())),
                Some(State::Here(bytes)) => {
                    let found = (number * self.0.window, bytes.clone());
                    self.ask_for(&mut windows, number + 1);
                    return Ok(Some(found));
                }
                Some(State::Asked) => {
                    if cancel::is_asked() {
                        return Err(stopped());
                    }
                    let waited = self.0.arrived.wait_timeout(windows, LOOK);
                    windows = waited.unwrap_or_else(PoisonError::into_inner).0;
                }
            }
        }
    }
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, Windows> {
        self.windows.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A range of a text that one thread reads from front to back.
#[derive(Debug)]
pub(crate) struct Lease {
    text: ReadAhead,
    /// The windows that it still needs.
    numbers: Range<u64>,
}

impl Lease {
    /// Reads some bytes at a place; none at the end of the text.
    ///
    /// # Errors
    /// They cannot be read; the run is to stop.
    pub(crate) fn read_at(&self, into: &mut [u8], at: u64) -> Result<usize> {
        let (start, bytes) = match self.text.window_at(at)? {
            Some(found) => found,
            // Behind what is leased: a record that is longer than is usual.
            None => (at, self.text.0.file.fetch(at..at.saturating_add(into.len() as u64))?),
        };
        let from = bytes.get(usize::try_from(at - start).unwrap_or(usize::MAX)..).unwrap_or_default();
        let length = from.len().min(into.len());
        if let (Some(to), Some(from)) = (into.get_mut(..length), from.get(..length)) {
            to.copy_from_slice(from);
        }
        Ok(length)
    }

    /// Gives up the windows before a place.
    pub(crate) fn pass(&mut self, at: u64) {
        self.give_up(at / self.text.0.window);
    }

    /// Gives up the windows before one.
    fn give_up(&mut self, number: u64) {
        let end = number.clamp(self.numbers.start, self.numbers.end);
        if end == self.numbers.start {
            return;
        }
        let Shared { file, window, .. } = &*self.text.0;
        let mut windows = self.text.0.lock();
        // The next range is read from the byte before it on.
        let is_past = |next: u64, number: u64| (number + 1) * window < next || next >= file.size();
        for number in self.numbers.start..end {
            let Some(held) = windows.held.get_mut(&number) else { continue };
            held.leases = held.leases.saturating_sub(1);
            if held.leases == 0 && is_past(windows.next, number) {
                windows.held.remove(&number);
            }
        }
        self.numbers.start = end;
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        self.give_up(self.numbers.end);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    use crate::store::StoredFile;

    /// Where the windows started that were asked for, in order.
    type Asked = Arc<Mutex<Vec<u64>>>;

    /// A text of so many bytes, each its place modulo 251; bytes from 900 on cannot be read.
    fn text(size: u64, window: u64) -> (ReadAhead, Asked) {
        let asked = Asked::default();
        let seen = asked.clone();
        let file = StoredFile::new(size, move |range| {
            seen.lock().unwrap().push(range.start);
            match range.end {
                901.. => Err(Error::other("it is spilt")),
                _ => Ok(range.map(|place| (place % 251) as u8).collect()),
            }
        });
        (ReadAhead::by_windows(RemoteFile::of(file, &Arc::default()), window), asked)
    }

    /// Reads a part of a leased range in pieces, and gives up what was read.
    fn read(lease: &mut Lease, range: Range<u64>, piece: usize) -> Result<Vec<u8>> {
        let (mut at, mut all) = (range.start, Vec::new());
        while at < range.end {
            let mut into = vec![0; piece.min((range.end - at) as usize)];
            let read = lease.read_at(&mut into, at)?;
            all.extend(&into[..read]);
            at += read as u64;
            lease.pass(at);
        }
        Ok(all)
    }

    #[rstest]
    fn ranges_are_read_as_they_stand_and_each_window_is_fetched_once(
        #[values(1, 7, 64, 1000)] window: u64,
        #[values(5, 33, 400)] range: u64,
        #[values(1, 16)] piece: usize,
    ) {
        let size = 800;
        let (text, asked) = text(size, window);
        let ranges: Vec<Range<u64>> =
            (0..size.div_ceil(range)).map(|n| n * range..((n + 1) * range).min(size)).collect();
        // Two ranges are read at a time, as by two threads.
        for pair in ranges.chunks(2) {
            let leases = pair.iter().map(|range| (text.lease(range.clone(), 3), range.clone()));
            for (mut lease, range) in leases.collect::<Vec<_>>() {
                let wider = range.start.saturating_sub(1)..(range.end + 3).min(size);
                let expected: Vec<u8> = wider.clone().map(|place| (place % 251) as u8).collect();
                assert_eq!(read(&mut lease, wider, piece).unwrap(), expected);
            }
        }
        let mut asked = asked.lock().unwrap().clone();
        asked.sort_unstable();
        assert_eq!(asked, (0..size.div_ceil(window)).map(|number| number * window).collect::<Vec<_>>());
        assert!(text.0.lock().held.is_empty());
    }

    #[test]
    fn what_was_given_up_is_fetched_again_and_what_fails_is_told() {
        let (text, asked) = text(1000, 50);
        let all = read(&mut text.lease(0..100, 0), 0..100, 30).unwrap();
        assert_eq!(read(&mut text.lease(10..90, 0), 10..90, 30).unwrap(), all[10..90]);
        assert_eq!(asked.lock().unwrap().iter().filter(|start| **start == 0).count(), 2);
        // A record that goes on behind the lease.
        let mut lease = text.lease(100..200, 10);
        assert_eq!(read(&mut lease, 100..430, 300).unwrap().len(), 330);
        let error = read(&mut text.lease(880..960, 0), 880..960, 30).unwrap_err();
        assert_eq!(error.to_string(), "it is spilt");
    }
}
