//! Encoded pages and columns that wait until their row group ends: in memory while they are few, else in a file.

use std::fs::File;
use std::io::Read;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use parquet::errors::Result;
use parquet::file::reader::{ChunkReader, Length};

use crate::binary::WriterResources;
use crate::place;

/// Where the bytes of all columns of a file wait.
#[derive(Clone, Debug)]
pub(super) struct Spool(Arc<SpoolState>);

#[derive(Debug)]
struct SpoolState {
    resources: WriterResources,
    /// Bytes in memory.
    held: AtomicUsize,
    file: Mutex<Spilled>,
}

/// The temporary file: made when it is needed, and filled from its start again once nothing in it is wanted.
#[derive(Debug, Default)]
struct Spilled {
    file: Option<Arc<File>>,
    end: u64,
    wanted: usize,
}

/// Bytes that wait.
#[derive(Debug)]
pub(super) struct Spooled {
    spool: Spool,
    bytes: SpoolPlace,
}

#[derive(Debug)]
enum SpoolPlace {
    Memory(Bytes),
    File { file: Arc<File>, offset: u64, length: usize },
}

impl Spool {
    pub(super) fn new(resources: &WriterResources) -> Spool {
        let state =
            SpoolState { resources: resources.clone(), held: AtomicUsize::new(0), file: Mutex::default() };
        Spool(Arc::new(state))
    }

    /// Keeps bytes until they are dropped.
    ///
    /// # Errors
    /// There is no room in memory, and none on the disk.
    pub(super) fn keep(&self, bytes: Bytes) -> Result<Spooled> {
        let held = self.0.held.fetch_add(bytes.len(), Ordering::Relaxed) + bytes.len();
        if held <= self.0.resources.bytes {
            return Ok(Spooled { spool: self.clone(), bytes: SpoolPlace::Memory(bytes) });
        }
        self.0.held.fetch_sub(bytes.len(), Ordering::Relaxed);
        let (file, offset) = self.room(bytes.len() as u64)?;
        let place = SpoolPlace::File { file: file.clone(), offset, length: bytes.len() };
        let spooled = Spooled { spool: self.clone(), bytes: place };
        place::write_at(&file, &bytes, offset)?;
        Ok(spooled)
    }

    /// The temporary file, and where in it so many bytes may be written.
    fn room(&self, bytes: u64) -> std::io::Result<(Arc<File>, u64)> {
        let mut spilled = self.spilled();
        let file = match &spilled.file {
            Some(file) => file.clone(),
            None => Arc::new(self.0.resources.temporary_file()?),
        };
        spilled.file.get_or_insert_with(|| file.clone());
        let offset = spilled.end;
        spilled.end += bytes;
        spilled.wanted += 1;
        Ok((file, offset))
    }

    fn spilled(&self) -> std::sync::MutexGuard<'_, Spilled> {
        self.0.file.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Spooled {
    /// How many bytes there are.
    pub(super) fn length(&self) -> usize {
        match &self.bytes {
            SpoolPlace::Memory(bytes) => bytes.len(),
            SpoolPlace::File { length, .. } => *length,
        }
    }

    fn bytes(&self) -> std::io::Result<Bytes> {
        match &self.bytes {
            SpoolPlace::Memory(bytes) => Ok(bytes.clone()),
            SpoolPlace::File { file, offset, length } => {
                let mut bytes = vec![0; *length];
                place::read_exact_at(file, &mut bytes, *offset)?;
                Ok(bytes.into())
            }
        }
    }
}

impl Drop for Spooled {
    fn drop(&mut self) {
        match &self.bytes {
            SpoolPlace::Memory(bytes) => {
                self.spool.0.held.fetch_sub(bytes.len(), Ordering::Relaxed);
            }
            SpoolPlace::File { .. } => {
                let mut spilled = self.spool.spilled();
                spilled.wanted -= 1;
                if spilled.wanted == 0 {
                    spilled.end = 0;
                }
            }
        }
    }
}

/// An encoded column: its pages, the dictionary first.
#[derive(Debug)]
pub(super) struct EncodedColumn(Arc<Vec<Spooled>>);

impl EncodedColumn {
    pub(super) fn new(pages: Vec<Spooled>) -> EncodedColumn {
        EncodedColumn(Arc::new(pages))
    }
}

impl Length for EncodedColumn {
    fn len(&self) -> u64 {
        self.0.iter().map(|page| page.length() as u64).sum()
    }
}

impl ChunkReader for EncodedColumn {
    type T = PageReader;

    fn get_read(&self, start: u64) -> Result<PageReader> {
        let mut pages = PageReader { pages: self.0.clone(), next: 0, page: Bytes::new() };
        std::io::copy(&mut pages.by_ref().take(start), &mut std::io::sink())?;
        Ok(pages)
    }

    fn get_bytes(&self, start: u64, length: usize) -> Result<Bytes> {
        let mut bytes = Vec::with_capacity(length);
        self.get_read(start)?.take(length as u64).read_to_end(&mut bytes)?;
        Ok(bytes.into())
    }
}

/// Reads the pages of a column, one at a time.
pub(super) struct PageReader {
    pages: Arc<Vec<Spooled>>,
    next: usize,
    /// What is left of the page before the next one.
    page: Bytes,
}

impl Read for PageReader {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        while self.page.is_empty() {
            let Some(page) = self.pages.get(self.next) else { return Ok(0) };
            self.page = page.bytes()?;
            self.next += 1;
        }
        let part = self.page.split_to(into.len().min(self.page.len()));
        into.iter_mut().zip(&part).for_each(|(into, byte)| *into = *byte);
        Ok(part.len())
    }
}

#[cfg(test)]
mod tests {
    use churn_core::parallel::Threads;

    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Whatever waits in memory or in the file comes back, however much of it is dropped between.
        #[test]
        fn what_waits_comes_back(lengths in proptest::collection::vec(0usize..3_000, 1..40), room in 0usize..20_000) {
            let resources = WriterResources::new(Threads::new(1), 0, None);
            let resources = resources.share(resources.bytes / room.max(1));
            let spool = Spool::new(&resources);
            let content = |i: usize, length: usize| Bytes::from(vec![i as u8; length]);
            let mut waiting = Vec::new();
            for (i, length) in lengths.iter().enumerate() {
                waiting.push(spool.keep(content(i, *length)).unwrap());
                if i % 7 == 6 {
                    waiting.clear();
                }
                let first = i + 1 - waiting.len();
                for (k, spooled) in waiting.iter().enumerate() {
                    prop_assert_eq!(spooled.bytes().unwrap(), content(first + k, lengths[first + k]));
                }
            }
            prop_assert!(spool.0.held.load(Ordering::Relaxed) <= resources.bytes);
            let column = EncodedColumn::new(waiting);
            let all = column.get_bytes(0, usize::try_from(column.len()).unwrap()).unwrap();
            let half = column.len() / 2;
            prop_assert_eq!(column.get_bytes(half, all.len()).unwrap(), all.slice(half as usize..));
        }
    }
}
