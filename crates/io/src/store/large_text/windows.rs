//! Windows of a large text that are fetched before they are needed, for many threads that read nearly in order.
//!
//! A thread that reads a range of the text leases it. The windows of leased ranges are kept until the last lease that needs them has
//! passed them. Fetched ahead are the window behind the one that is being read, and those at which the next range will start; so what
//! is held is about three windows for each thread. Each window is one request; a few threads send them, while there are some.

use std::collections::{BTreeMap, VecDeque};
use std::io::{Error, ErrorKind, Read, Result};
use std::ops::Range;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use crate::store::{RemoteFile, aside};

/// Bytes of all windows, about, where memory is not bounded, and the part of it where it is.
const ALL: u64 = 64 << 20;
const OF_MEMORY: u64 = 8;

/// Windows that are held for each thread, about.
const OF_A_THREAD: u64 = 3;

/// Bytes of a window: each is a request, which costs both sides as much as some 100 kB of its bytes.
const AT_LEAST: u64 = 64 << 10;
const AT_MOST: u64 = 8 << 20;

/// Windows that the first is cut into, so that the first rows need not wait for all of it.
const FIRST: u64 = 16;

/// Windows that are fetched at once.
const AT_ONCE: usize = 4;

/// A text of which windows are fetched ahead.
#[derive(Clone, Debug)]
pub(super) struct ReadAhead(Arc<Shared>);

#[derive(Debug)]
struct Shared {
    file: RemoteFile,
    /// Where the first window starts.
    origin: u64,
    /// Bytes of a window, and of one of those that the first is cut into.
    window: u64,
    small: u64,
    windows: Mutex<Windows>,
    /// Notified when a window was fetched, or could not be.
    arrived: Condvar,
    /// Memory of windows that nobody reads any more, for those that are still to come: it need not be cleared again.
    free: Mutex<Vec<Vec<u8>>>,
}

#[derive(Debug, Default)]
struct Windows {
    /// By their numbers.
    held: BTreeMap<u64, Window>,
    /// Where the next range will start.
    next: u64,
    /// Those that are to be fetched, in order, and the threads that fetch them.
    asked: VecDeque<u64>,
    fetching: usize,
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
    Here(Arc<Vec<u8>>),
    Failed(ErrorKind, String),
}

impl ReadAhead {
    /// A text that is read from a place on, by a run with so many bytes of memory, if they are bounded.
    pub(super) fn new(file: RemoteFile, memory: Option<u64>, origin: u64) -> ReadAhead {
        let all = memory.map_or(ALL, |memory| (memory / OF_MEMORY).min(ALL));
        let threads = std::thread::available_parallelism().map_or(1, |threads| threads.get() as u64);
        let window = (all / (threads * OF_A_THREAD)).clamp(AT_LEAST, AT_MOST);
        ReadAhead::by_windows(file, window / FIRST * FIRST, origin)
    }

    fn by_windows(file: RemoteFile, window: u64, origin: u64) -> ReadAhead {
        let (windows, arrived, free) = Default::default();
        let small = if window.is_multiple_of(FIRST) { window / FIRST } else { window };
        ReadAhead(Arc::new(Shared { file, origin, window, small, windows, arrived, free }))
    }

    /// Where the first window starts.
    pub(super) fn origin(&self) -> u64 {
        self.0.origin
    }

    /// Leases a range behind the origin, behind which, at a place in it, the next one will start.
    pub(super) fn lease(&self, range: Range<u64>, next: u64) -> WindowLease {
        let shared = &*self.0;
        let size = shared.file.size();
        let last = range.end.saturating_sub(1).max(range.start);
        let numbers = shared.number(range.start)..shared.number(last) + 1;
        let mut windows = shared.lock();
        windows.next = windows.next.max(next);
        for number in numbers.clone() {
            windows.held.entry(number).or_default().leases += 1;
        }
        let next = shared.number(windows.next);
        for ahead in [numbers.start, next, next + 1] {
            if shared.start(ahead) < size {
                windows.held.entry(ahead).or_default();
                self.ask_for(&mut windows, ahead);
            }
        }
        WindowLease { text: self.clone(), numbers }
    }

    /// Has a window fetched that is held, unless it was asked for.
    fn ask_for(&self, windows: &mut Windows, number: u64) {
        let Some(Window { state: state @ State::NotAskedFor, .. }) = windows.held.get_mut(&number) else {
            return;
        };
        *state = State::Asked;
        windows.asked.push_back(number);
        if windows.fetching < AT_ONCE {
            let own = self.0.clone();
            match aside::start(move || own.fetch_asked()) {
                Ok(()) => windows.fetching += 1,
                Err(error) if windows.fetching == 0 => {
                    windows.arrived(number, Err(error));
                }
                // Those that are fetching take it.
                Err(_) => {}
            }
        }
    }

    /// The window that holds a place, once it is there; `None` if no lease has it.
    fn window_at(&self, at: u64) -> Result<Option<(u64, Arc<Vec<u8>>)>> {
        let number = self.0.number(at);
        let mut windows = self.0.lock();
        loop {
            match windows.held.get(&number).map(|window| &window.state) {
                None => return Ok(None),
                Some(State::NotAskedFor) => self.ask_for(&mut windows, number),
                Some(State::Failed(kind, what)) => return Err(Error::new(*kind, what.clone())),
                Some(State::Here(bytes)) => {
                    let found = (self.0.start(number), bytes.clone());
                    self.ask_for(&mut windows, number + 1);
                    return Ok(Some(found));
                }
                Some(State::Asked) => {
                    windows = aside::wait(&self.0.arrived, windows)?;
                }
            }
        }
    }
}

impl Windows {
    /// Takes the bytes of a window, or why there are none.
    fn arrived(&mut self, number: u64, fetched: Result<Vec<u8>>) {
        if let Some(window) = self.held.get_mut(&number) {
            window.state = match fetched {
                Ok(bytes) => State::Here(Arc::new(bytes)),
                Err(error) => State::Failed(error.kind(), error.to_string()),
            };
        }
    }
}

impl Shared {
    /// The window that holds a place.
    fn number(&self, at: u64) -> u64 {
        let at = at.saturating_sub(self.origin);
        if at < self.window { at / self.small } else { at / self.window + self.window / self.small - 1 }
    }

    /// Where a window starts.
    fn start(&self, number: u64) -> u64 {
        let small = self.window / self.small;
        let start = match number.checked_sub(small) {
            None => number * self.small,
            Some(behind) => (behind + 1).saturating_mul(self.window),
        };
        self.origin.saturating_add(start)
    }

    /// Fetches windows as long as some are asked for.
    fn fetch_asked(&self) {
        let mut windows = self.lock();
        while let Some(number) = windows.asked.pop_front() {
            if !windows.held.contains_key(&number) {
                continue;
            }
            drop(windows);
            let fetched = aside::guarded(|| self.fetch(number));
            windows = self.lock();
            windows.arrived(number, fetched);
            self.arrived.notify_all();
        }
        windows.fetching -= 1;
    }

    /// The bytes of a window.
    fn fetch(&self, number: u64) -> Result<Vec<u8>> {
        let range = self.start(number)..self.start(number + 1).min(self.file.size());
        let free = self.free.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut bytes = free.unwrap_or_default();
        bytes.resize(usize::try_from(range.end - range.start).map_err(Error::other)?, 0);
        self.file.read_exact_at(&mut bytes, range.start)?;
        Ok(bytes)
    }

    /// Keeps the memory of a window, if it was fetched and nobody is reading it.
    fn keep(&self, window: Window) {
        if let State::Here(bytes) = window.state
            && let Ok(bytes) = Arc::try_unwrap(bytes)
        {
            self.free.lock().unwrap_or_else(PoisonError::into_inner).push(bytes);
        }
    }

    fn lock(&self) -> MutexGuard<'_, Windows> {
        self.windows.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A range of a text that one thread reads from front to back.
#[derive(Debug)]
pub(super) struct WindowLease {
    text: ReadAhead,
    /// The windows that it still needs.
    numbers: Range<u64>,
}

impl WindowLease {
    /// Reads some bytes at a place; none at the end of the text.
    ///
    /// # Errors
    /// They cannot be read; the run is to stop.
    pub(super) fn read_at(&self, into: &mut [u8], at: u64) -> Result<usize> {
        let Some((start, bytes)) = self.text.window_at(at)? else {
            // Behind what is leased: a record that is longer than is usual.
            return self.text.0.file.read_some(into, at);
        };
        let mut rest = bytes.get(usize::try_from(at - start).unwrap_or(usize::MAX)..).unwrap_or_default();
        rest.read(into)
    }

    /// Gives up the windows before a place.
    pub(super) fn pass(&mut self, at: u64) {
        self.give_up(self.text.0.number(at));
    }

    /// Gives up the windows before one.
    fn give_up(&mut self, number: u64) {
        let end = number.clamp(self.numbers.start, self.numbers.end);
        if end == self.numbers.start {
            return;
        }
        let shared = &*self.text.0;
        let mut windows = shared.lock();
        // The next range is read from the byte before it on.
        let is_past = |next: u64, number: u64| shared.start(number + 1) < next || next >= shared.file.size();
        for number in self.numbers.start..end {
            let Some(held) = windows.held.get_mut(&number) else { continue };
            held.leases = held.leases.saturating_sub(1);
            if held.leases == 0 && is_past(windows.next, number) {
                windows.held.remove(&number).into_iter().for_each(|window| shared.keep(window));
            }
        }
        self.numbers.start = end;
    }
}

impl Drop for WindowLease {
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
    fn text(size: u64, window: u64, origin: u64) -> (ReadAhead, Asked) {
        let asked = Asked::default();
        let seen = asked.clone();
        let file = StoredFile::new(size, move |at, into| {
            seen.lock().unwrap().push(at);
            if at + into.len() as u64 > 900 {
                return Err(Error::other("it is spilt"));
            }
            (at..).zip(into).for_each(|(place, into)| *into = (place % 251) as u8);
            Ok(())
        });
        (ReadAhead::by_windows(RemoteFile::of(file, &Arc::default()), window, origin), asked)
    }

    /// Reads a part of a leased range in pieces, and gives up what was read.
    fn read(lease: &mut WindowLease, range: Range<u64>, piece: usize) -> Result<Vec<u8>> {
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
        #[values(1, 7, 64, 160, 1000)] window: u64,
        #[values(5, 33, 400)] range: u64,
        #[values(1, 16)] piece: usize,
        #[values(0, 210)] origin: u64,
    ) {
        let size = 800;
        let (text, asked) = text(size, window, origin.saturating_sub(1));
        let ranges: Vec<Range<u64>> = (0..(size - origin).div_ceil(range))
            .map(|n| origin + n * range..(origin + (n + 1) * range).min(size))
            .collect();
        let wider = |range: &Range<u64>| range.start.saturating_sub(1)..(range.end + 3).min(size);
        // Two ranges are read at a time, as by two threads.
        for pair in ranges.chunks(2) {
            let leases = pair.iter().map(|range| (text.lease(wider(range), range.end), wider(range)));
            for (mut lease, range) in leases.collect::<Vec<_>>() {
                let expected: Vec<u8> = range.clone().map(|place| (place % 251) as u8).collect();
                assert_eq!(read(&mut lease, range, piece).unwrap(), expected);
            }
        }
        let mut asked = asked.lock().unwrap().clone();
        asked.sort_unstable();
        let (small, number) = (text.0.small, |start: u64| text.0.number(start));
        let starts: Vec<u64> = (0..=number(size - 1)).map(|number| text.0.start(number)).collect();
        assert_eq!(asked, starts);
        assert!(
            small == window
                || number(text.0.origin + window) == FIRST
                    && number(size - 1) == FIRST - 1 + (size - 1 - text.0.origin) / window
        );
        assert!(text.0.lock().held.is_empty());
    }

    #[test]
    fn what_was_given_up_is_fetched_again_and_what_fails_is_told() {
        let (text, asked) = text(1000, 50, 0);
        let all = read(&mut text.lease(0..100, 100), 0..100, 30).unwrap();
        assert_eq!(read(&mut text.lease(10..90, 90), 10..90, 30).unwrap(), all[10..90]);
        assert_eq!(asked.lock().unwrap().iter().filter(|start| **start == 0).count(), 2);
        // A record that goes on behind the lease.
        let mut lease = text.lease(100..210, 200);
        assert_eq!(read(&mut lease, 100..430, 300).unwrap().len(), 330);
        let error = read(&mut text.lease(880..960, 960), 880..960, 30).unwrap_err();
        assert_eq!(error.to_string(), "it is spilt");
    }
}
