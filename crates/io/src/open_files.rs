//! Files that are read at many places: those on disk, of which few are open at once since a process may have about a thousand
//! open, and those in stores, of which parts are fetched.

use std::collections::{HashMap, VecDeque};
use std::fs::File;
use std::io::Read;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use churn_core::Result;

use super::identity::FileId;
use super::place;
use super::store::RemoteFile;

/// Files of a source that are open at once.
const MOST: usize = 64;

/// The open files of a source, those that were opened last at the end.
#[derive(Debug, Default)]
pub(crate) struct OpenFiles {
    next: AtomicU64,
    open: Mutex<VecDeque<(u64, Arc<File>)>>,
}

/// A file that many threads read at places of their own.
#[derive(Clone, Debug)]
pub(crate) enum PositionedFile {
    Local(LocalFile),
    Remote(RemoteFile),
}

impl PositionedFile {
    /// Opens a file as one of a source's: where parts of it are fetched, as it was opened then.
    ///
    /// # Errors
    /// It cannot be read.
    pub(crate) fn open(
        path: &Path,
        files: &Arc<OpenFiles>,
        remote: &HashMap<PathBuf, RemoteFile>,
    ) -> Result<PositionedFile> {
        match remote.get(path) {
            Some(remote) => Ok(PositionedFile::Remote(remote.clone())),
            None => Ok(PositionedFile::Local(LocalFile::open(path, files)?)),
        }
    }

    /// A file on disk that is no other's.
    ///
    /// # Errors
    /// It cannot be read.
    pub(crate) fn local(path: &Path) -> Result<PositionedFile> {
        LocalFile::open(path, &Arc::default()).map(PositionedFile::Local)
    }

    /// Bytes that it had when it was first opened.
    pub(crate) fn size(&self) -> u64 {
        match self {
            PositionedFile::Local(file) => file.size,
            PositionedFile::Remote(file) => file.size(),
        }
    }

    /// Reads some bytes at a place.
    pub(crate) fn read_at(&self, into: &mut [u8], at: u64) -> std::io::Result<usize> {
        match self {
            PositionedFile::Local(file) => place::read_at(&*file.file()?, into, at),
            PositionedFile::Remote(file) => {
                let fetched = file.fetch(at..at.saturating_add(into.len() as u64))?;
                (&fetched[..]).read(into)
            }
        }
    }

    /// The bytes of ranges, which must lie within it; those of a file in a store are fetched several at once.
    ///
    /// # Errors
    /// They cannot be read.
    pub(crate) fn read_ranges(&self, ranges: Vec<Range<u64>>) -> std::io::Result<Vec<Bytes>> {
        let PositionedFile::Remote(file) = self else {
            let read = |range: Range<u64>| {
                let mut part = vec![0; usize::try_from(range.end - range.start).unwrap_or(0)];
                self.read_exactly(&mut part, range.start).map(|()| Bytes::from(part))
            };
            return ranges.into_iter().map(read).collect();
        };
        file.fetch_all(ranges)
    }

    /// Reads bytes at a place, all of them.
    ///
    /// # Errors
    /// It cannot be read, or ends before them.
    pub(crate) fn read_exactly(&self, mut into: &mut [u8], mut at: u64) -> std::io::Result<()> {
        while !into.is_empty() {
            match self.read_at(into, at)? {
                0 => return Err(std::io::Error::other("it became shorter while it was read")),
                read => {
                    into = into.get_mut(read..).unwrap_or_default();
                    at += read as u64;
                }
            }
        }
        Ok(())
    }
}

/// A file on disk. It is opened again when it is read after others were.
#[derive(Clone, Debug)]
pub(crate) struct LocalFile {
    /// What it is known by among the open ones.
    key: u64,
    path: PathBuf,
    id: FileId,
    size: u64,
    files: Arc<OpenFiles>,
}

impl LocalFile {
    fn open(path: &Path, files: &Arc<OpenFiles>) -> Result<LocalFile> {
        let file = place::open(path)?;
        let size = file.metadata().map_err(|e| place::unreadable(path, &e))?.len();
        let (id, path) = (FileId::of_file(&file, path), path.to_owned());
        let key = files.next.fetch_add(1, Ordering::Relaxed);
        files.keep(key, Arc::new(file));
        Ok(LocalFile { key, path, id, size, files: files.clone() })
    }

    /// The open file.
    ///
    /// # Errors
    /// It cannot be opened again, or another file took its place.
    fn file(&self) -> std::io::Result<Arc<File>> {
        if let Some(file) = self.files.find(self.key) {
            return Ok(file);
        }
        let file = File::open(&self.path)?;
        if !FileId::of_file(&file, &self.path).is_number_of(&self.id) {
            return Err(std::io::Error::other("another file took its place while it was read"));
        }
        let file = Arc::new(file);
        self.files.keep(self.key, file.clone());
        Ok(file)
    }
}

impl OpenFiles {
    fn find(&self, key: u64) -> Option<Arc<File>> {
        let open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        // Files are read one after the other: those that were opened last are asked for most.
        open.iter().rev().find(|(of, _)| *of == key).map(|(_, file)| file.clone())
    }

    /// Keeps a file open, and closes the one that was opened first if there are too many.
    fn keep(&self, key: u64, file: Arc<File>) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.push_back((key, file));
        if open.len() > MOST {
            open.pop_front();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_files_are_read_than_are_open() {
        let folder = tempfile::tempdir().unwrap();
        let files = Arc::new(OpenFiles::default());
        let read = |file: &PositionedFile| {
            let mut bytes = vec![0; file.size() as usize];
            file.read_at(&mut bytes, 0).map(|_| String::from_utf8(bytes).unwrap())
        };
        let opened: Vec<PositionedFile> = (0..3 * MOST)
            .map(|number| {
                let path = folder.path().join(number.to_string());
                std::fs::write(&path, format!("farm {number}")).unwrap();
                PositionedFile::open(&path, &files, &HashMap::new()).unwrap()
            })
            .collect();
        for (number, file) in opened.iter().enumerate() {
            assert_eq!(read(file).unwrap(), format!("farm {number}"));
        }
        assert_eq!(files.open.lock().unwrap().len(), MOST);
        std::fs::write(folder.path().join("new"), "farm 0").unwrap();
        std::fs::rename(folder.path().join("new"), folder.path().join("0")).unwrap();
        assert!(read(&opened[0]).unwrap_err().to_string().contains("another file took its place"));
    }
}
