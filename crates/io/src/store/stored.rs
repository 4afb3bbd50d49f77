//! What a store gives of a file: a stream of its bytes, and parts of it.

use std::fmt;
use std::io::{Read, Result as IoResult};

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

/// One version of a file in a store, of which parts are read by many threads.
pub struct StoredFile {
    pub(super) size: u64,
    /// The bytes at its end that are known already.
    pub(super) end: Vec<u8>,
    pub(super) read_at: Box<ReadAt>,
}

impl StoredFile {
    /// A file of so many bytes, and what reads some of them from a place on, into a buffer that it fills, or fails. It is called
    /// from several threads at once, for places within the file; the text of its error stands in a message: "ADDRESS cannot be
    /// read: …". When the file was replaced since it was opened, that must be an error.
    pub fn new(
        size: u64,
        read_at: impl Fn(u64, &mut [u8]) -> IoResult<()> + Send + Sync + 'static,
    ) -> StoredFile {
        StoredFile { size, end: Vec::new(), read_at: Box::new(read_at) }
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
