//! What a store gives of a file: a stream of its bytes, and parts of it.

use std::fmt;
use std::io::{ErrorKind, Read, Result as IoResult};
use std::ops::Range;

/// The bytes of a file in a store, from the first to the last.
pub struct StoredStream {
    pub(crate) bytes: Box<dyn Read + Send>,
    /// The same version of the file for reading parts of it.
    pub(crate) file: Option<StoredFile>,
}

impl StoredStream {
    /// A stream of which nothing else is known.
    pub fn new(bytes: impl Read + Send + 'static) -> StoredStream {
        StoredStream { bytes: Box::new(bytes), file: None }
    }

    /// With the same version of the file for reading parts of it: of a large text the rest is then read by ranges, several of them at
    /// once, and the stream is dropped.
    pub fn with_parts(self, file: StoredFile) -> StoredStream {
        StoredStream { file: Some(file), ..self }
    }
}

impl fmt::Debug for StoredStream {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("StoredStream").field("file", &self.file).finish_non_exhaustive()
    }
}

/// Reads the bytes from a place on into a buffer, as many as it has room for.
type ReadAt = dyn Fn(u64, &mut [u8]) -> IoResult<()> + Send + Sync;

/// Gives the bytes of a range as they come.
type ReadRange = dyn Fn(Range<u64>) -> IoResult<Box<dyn Read + Send>> + Send + Sync;

/// One version of a file in a store, of which parts are read by many threads.
pub struct StoredFile {
    pub(super) size: u64,
    /// The bytes at its end that are known already.
    pub(super) end: Vec<u8>,
    how: HowRead,
}

/// How parts of a file are read.
enum HowRead {
    ByPlaces(Box<ReadAt>),
    ByRanges(Box<ReadRange>),
}

impl StoredFile {
    /// A file of so many bytes, and what reads some of them from a place on, into a buffer that it fills, or fails. It is called
    /// from several threads at once, for places within the file; the text of its error stands in a message: "ADDRESS cannot be
    /// read: …". When the file was replaced since it was opened, that must be an error.
    pub fn new(
        size: u64,
        read_at: impl Fn(u64, &mut [u8]) -> IoResult<()> + Send + Sync + 'static,
    ) -> StoredFile {
        StoredFile { size, end: Vec::new(), how: HowRead::ByPlaces(Box::new(read_at)) }
    }

    /// A file of so many bytes, and what asks for those of a range. They are read by threads that work on them: where a reader waits,
    /// it looks at whether the run is to stop.
    pub(super) fn by_ranges(
        size: u64,
        range: impl Fn(Range<u64>) -> IoResult<Box<dyn Read + Send>> + Send + Sync + 'static,
    ) -> StoredFile {
        StoredFile { size, end: Vec::new(), how: HowRead::ByRanges(Box::new(range)) }
    }

    /// Fills a buffer from a place on.
    pub(super) fn read_at(&self, at: u64, into: &mut [u8]) -> IoResult<()> {
        match &self.how {
            HowRead::ByPlaces(read_at) => read_at(at, into),
            HowRead::ByRanges(range) => range(at..at + into.len() as u64)?.read_exact(into),
        }
    }

    /// Whether ranges can be read as they come.
    pub(super) fn gives_ranges(&self) -> bool {
        matches!(self.how, HowRead::ByRanges(_))
    }

    /// The bytes of a range as they come.
    pub(super) fn range(&self, range: Range<u64>) -> IoResult<Box<dyn Read + Send>> {
        match &self.how {
            HowRead::ByPlaces(_) => Err(ErrorKind::Unsupported.into()),
            HowRead::ByRanges(read) => read(range),
        }
    }

    /// With the bytes at its end, which came with the answer that told its size: they are not read again.
    pub fn with_end(self, end: Vec<u8>) -> StoredFile {
        StoredFile { end, ..self }
    }
}

impl fmt::Debug for StoredFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("StoredFile").field("size", &self.size).finish_non_exhaustive()
    }
}
