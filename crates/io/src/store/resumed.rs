//! Bytes that a server sends, taken up where it breaks off.

use std::io::{Error, ErrorKind, Read, Result};
use std::ops::Range;
use std::sync::Arc;

use churn_core::cancel;
use ureq::BodyReader;

use super::{StoredFile, aside};

/// How often an answer is asked for.
pub(super) const ATTEMPTS: u32 = 4;

/// Asks for a range of one version of a file.
pub(super) type Ask = dyn Fn(Range<u64>) -> Result<BodyReader<'static>> + Send + Sync;

/// A file of so many bytes, whose ranges are asked for.
pub(super) fn file(ask: Arc<Ask>, size: u64) -> StoredFile {
    StoredFile::by_ranges(size, move |range| Ok(Box::new(Resumed::range(ask.clone(), range)?)))
}

/// A range of a file as it comes. Where the answer breaks off, the rest is asked for, as often as that gets further.
pub(super) struct Resumed {
    answer: Option<BodyReader<'static>>,
    start: u64,
    /// Where the next byte stands.
    at: u64,
    /// Where the range ends, if that is known.
    end: Option<u64>,
    ask: Option<Arc<Ask>>,
    /// How often it was asked for without a byte since.
    attempts: u32,
}

impl Resumed {
    /// A range that is asked for now.
    ///
    /// # Errors
    /// There is no answer.
    fn range(ask: Arc<Ask>, range: Range<u64>) -> Result<Resumed> {
        let Range { start, end } = range;
        let answer = Some(ask(range)?);
        Ok(Resumed { answer, start, at: start, end: Some(end), ask: Some(ask), attempts: 1 })
    }

    /// All of a file, as it was answered with, of so many bytes if that was told; it is taken up if there is something to ask for the
    /// rest.
    pub(super) fn whole(answer: BodyReader<'static>, length: Option<u64>, ask: Option<Arc<Ask>>) -> Resumed {
        Resumed { answer: Some(answer), start: 0, at: 0, end: length, ask, attempts: 1 }
    }

    /// The answer that is being read. Another one is asked for by another thread, which nobody need wait for to the end.
    fn answer(&mut self) -> Result<&mut BodyReader<'static>> {
        let answer = match (self.answer.take(), &self.ask) {
            (Some(answer), _) => answer,
            (None, Some(ask)) => {
                self.attempts += 1;
                let (ask, rest) = (ask.clone(), self.at..self.end.unwrap_or(u64::MAX));
                aside::once(move || ask(rest))?
            }
            (None, None) => return Err(ErrorKind::UnexpectedEof.into()),
        };
        Ok(self.answer.insert(answer))
    }

    /// The error of what broke off and is not taken up.
    fn broken_off(&self, broken: &Error) -> Error {
        let of = self.end.map(|end| format!(" of {}", end - self.start)).unwrap_or_default();
        let read = self.at - self.start;
        Error::new(broken.kind(), format!("its server broke off after {read}{of} bytes ({broken})"))
    }
}

impl Read for Resumed {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        let left = self.end.map_or(u64::MAX, |end| end - self.at);
        let length = into.len().min(usize::try_from(left).unwrap_or(usize::MAX));
        let Some(into) = into.get_mut(..length).filter(|into| !into.is_empty()) else { return Ok(0) };
        loop {
            let broken = match self.answer()?.read(into) {
                Ok(0) if self.end.is_none() => return Ok(0),
                Ok(0) => Error::new(ErrorKind::UnexpectedEof, "the connection was closed"),
                Ok(read) => {
                    (self.at, self.attempts) = (self.at + read as u64, 0);
                    if self.end == Some(self.at) {
                        // The connection is used again once the end of the answer was seen.
                        let _ = self.answer()?.read(&mut [0]);
                    }
                    return Ok(read);
                }
                Err(error) => error,
            };
            self.answer = None;
            if cancel::is_asked() {
                return Err(broken);
            }
            if self.ask.is_none() || self.attempts >= ATTEMPTS {
                return Err(self.broken_off(&broken));
            }
        }
    }
}
