//! A file in a store, of which parts are fetched.

use std::fmt;
use std::io::{Error, Read, Result};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bytes::Bytes;

use super::{StoredFile, Transfer, aside, at};

/// Ranges of a file that are fetched at once.
const AT_ONCE: usize = 4;

/// A file in a store, of which parts are fetched by many threads, and counted.
#[derive(Clone)]
pub(crate) struct RemoteFile {
    file: Arc<StoredFile>,
    transfer: Arc<Transfer>,
}

impl fmt::Debug for RemoteFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.file.fmt(f)
    }
}

impl RemoteFile {
    /// The files at addresses, several opened at once; `None` for a path that is none, or whose store reads files only from front to
    /// back. The error of one that is not there, or cannot be read, stands at its place.
    pub(crate) fn open_all(
        paths: &[PathBuf],
        transfer: &Arc<Transfer>,
    ) -> Result<Vec<Result<Option<RemoteFile>>>> {
        let transfer = transfer.clone();
        aside::each(paths.to_vec(), AT_ONCE, move |path: PathBuf| Ok(RemoteFile::open(&path, &transfer)))
    }

    fn open(path: &Path, transfer: &Arc<Transfer>) -> Result<Option<RemoteFile>> {
        let Some(at) = at(path) else { return Ok(None) };
        let Some(file) = at.open()? else { return Ok(None) };
        transfer.add_request();
        transfer.add_bytes(file.end.len());
        Ok(Some(RemoteFile::of(file, transfer)))
    }

    /// A file that was opened, whose bytes are counted from now on.
    pub(crate) fn of(file: StoredFile, transfer: &Arc<Transfer>) -> RemoteFile {
        RemoteFile { file: Arc::new(file), transfer: transfer.clone() }
    }

    /// Its length in bytes.
    pub(crate) fn size(&self) -> u64 {
        self.file.size
    }

    /// Whether its store sends what it was asked for, by asking for the last byte: a server may say so and not do it.
    pub(crate) fn sends_parts(&self) -> bool {
        self.fetch(self.size().saturating_sub(1)..self.size()).is_ok()
    }

    /// The bytes of a range, fewer where the file ends within it.
    ///
    /// # Errors
    /// They cannot be read; the file was replaced; the run is to stop.
    pub(crate) fn fetch(&self, range: Range<u64>) -> Result<Bytes> {
        let fetched = self.fetch_all(vec![range])?;
        fetched.into_iter().next().ok_or_else(|| Error::other("an answer was lost"))
    }

    /// The bytes of ranges, several fetched at once.
    ///
    /// # Errors
    /// As [`RemoteFile::fetch`].
    pub(crate) fn fetch_all(&self, ranges: Vec<Range<u64>>) -> Result<Vec<Bytes>> {
        let ranges: Vec<Range<u64>> = ranges.into_iter().map(|range| self.within(range)).collect();
        if let [range] = &ranges[..]
            && let Some(known) = self.known(range)
        {
            return Ok(vec![known]);
        }
        let own = self.clone();
        aside::each(ranges, AT_ONCE, move |range| match own.known(&range) {
            Some(known) => Ok(known),
            None => own.ask(range),
        })
    }

    /// Fetches bytes from a place on into a buffer, as many as there are.
    ///
    /// # Errors
    /// As [`RemoteFile::fetch`].
    pub(super) fn read_some(&self, into: &mut [u8], at: u64) -> Result<usize> {
        let bytes = self.fetch(at..at.saturating_add(into.len() as u64))?;
        (&bytes[..]).read(into)
    }

    /// The bytes from a place on, fetched piece by piece as they are read.
    pub(crate) fn reader(&self, from: u64) -> impl Read + Send + use<> {
        PieceByPiece { file: self.clone(), at: from, piece: Bytes::new() }
    }

    fn within(&self, range: Range<u64>) -> Range<u64> {
        let end = range.end.min(self.size());
        range.start.min(end)..end
    }

    /// Bytes that came when the file was opened.
    fn known(&self, range: &Range<u64>) -> Option<Bytes> {
        let end = &self.file.end;
        if range.is_empty() {
            return Some(Bytes::new());
        }
        let start = range.start.checked_sub(self.size().checked_sub(end.len() as u64)?)?;
        let start = usize::try_from(start).ok()?;
        let length = usize::try_from(range.end - range.start).ok()?;
        end.get(start..start.checked_add(length)?).map(Bytes::copy_from_slice)
    }

    fn ask(&self, range: Range<u64>) -> Result<Bytes> {
        let mut bytes = vec![0; usize::try_from(range.end - range.start).map_err(Error::other)?];
        self.read_exact_at(&mut bytes, range.start)?;
        Ok(Bytes::from(bytes))
    }

    /// Whether ranges can be read as they come.
    pub(super) fn gives_ranges(&self) -> bool {
        self.file.gives_ranges()
    }

    /// The bytes of a range as they come, asked for by this thread, to be counted by whoever reads them.
    ///
    /// # Errors
    /// As [`RemoteFile::fetch`].
    pub(super) fn stream(&self, range: Range<u64>) -> Result<Box<dyn Read + Send>> {
        let stream = self.file.range(range)?;
        self.transfer.add_request();
        Ok(stream)
    }

    /// Counts bytes of a stream.
    pub(super) fn count(&self, bytes: usize) {
        self.transfer.add_bytes(bytes);
    }

    /// Fills a buffer from a place on, asked for by this thread, which waits for it.
    ///
    /// # Errors
    /// As [`RemoteFile::fetch`], but that of a run that is to stop.
    pub(super) fn read_exact_at(&self, into: &mut [u8], at: u64) -> Result<()> {
        self.file.read_at(at, into)?;
        self.transfer.add_request();
        self.transfer.add_bytes(into.len());
        Ok(())
    }
}

/// Bytes that are fetched at once for a reader.
const PIECE: u64 = 4 << 20;

/// A file in a store, read from a place on.
struct PieceByPiece {
    file: RemoteFile,
    at: u64,
    /// What was fetched and is not read yet.
    piece: Bytes,
}

impl Read for PieceByPiece {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        if self.piece.is_empty() {
            self.piece = self.file.fetch(self.at..self.at.saturating_add(PIECE))?;
            self.at += self.piece.len() as u64;
        }
        let read = (&self.piece[..]).read(into)?;
        drop(self.piece.split_to(read));
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    use crate::store::{Store, StoredStream, Stores};

    /// Milk of 100 bytes, whose last 10 come when it is opened; some cannot be read.
    #[derive(Debug)]
    struct Tank;

    impl Store for Tank {
        fn schemes(&self) -> Vec<&str> {
            vec!["tank"]
        }

        fn read(&self, _: &str) -> Result<StoredStream> {
            Ok(StoredStream::new(std::io::empty()))
        }

        fn open(&self, address: &str) -> Result<Option<StoredFile>> {
            if address.ends_with("stream") {
                return Ok(None);
            }
            let file = StoredFile::new(100, |at, into| {
                match at {
                    50 => return Err(Error::other("it is spilt")),
                    60 => panic!("it froze"),
                    _ => (at..).zip(into).for_each(|(byte, into)| *into = byte as u8),
                }
                Ok(())
            });
            Ok(Some(file.with_end((90..100).collect())))
        }
    }

    fn opened(address: &str) -> (Stores, PathBuf) {
        let stores = Stores::default().with(Tank).unwrap();
        let path = stores.addresses(address).unwrap().unwrap().remove(0);
        (stores, path)
    }

    #[test]
    fn ranges_are_fetched_in_order_and_counted() {
        let (_stores, path) = opened("tank://milk");
        let transfer = Arc::new(Transfer::default());
        let file = RemoteFile::open(&path, &transfer).unwrap().unwrap();
        assert_eq!((transfer.bytes(), transfer.requests()), (10, 1));
        let ranges = vec![70..75, 0..3, 95..97, 88..120, 200..210, 5..5, 1..2, 2..3, 3..4];
        let parts = file.fetch_all(ranges).unwrap();
        let expected: Vec<Vec<u8>> = [70..75, 0..3, 95..97, 88..100, 0..0, 0..0, 1..2, 2..3, 3..4]
            .map(|range: Range<u8>| range.collect())
            .to_vec();
        assert_eq!(parts, expected);
        // The end was there already, and nothing is asked for nothing.
        assert_eq!((transfer.bytes(), transfer.requests()), (10 + 5 + 3 + 12 + 3, 1 + 6));
        assert_eq!(transfer.to_string(), "33 bytes in 7 requests");
        let mut read = Vec::new();
        file.reader(64).take(20).read_to_end(&mut read).unwrap();
        assert_eq!(read, (64..84).collect::<Vec<u8>>());
        for (range, told) in [(50..55, "it is spilt"), (60..61, "its store panicked: it froze")] {
            assert_eq!(file.fetch(range).unwrap_err().to_string(), told);
        }
    }

    #[test]
    fn what_is_no_address_or_is_streamed_has_no_parts() {
        let transfer = Arc::default();
        assert!(RemoteFile::open(Path::new("milk.csv"), &transfer).unwrap().is_none());
        let (_stores, path) = opened("tank://stream");
        assert!(RemoteFile::open(&path, &transfer).unwrap().is_none());
        assert_eq!(transfer.requests(), 0);
    }
}
