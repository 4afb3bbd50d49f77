//! Files that are read at many places, of which few are open at once: a process may have about a thousand open.

use std::collections::VecDeque;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::Result;

use super::identity::FileId;
use super::place;

/// Files of a source that are open at once.
const MOST: usize = 64;

/// The open files of a source, those that were opened last at the end.
#[derive(Debug, Default)]
pub(crate) struct OpenFiles {
    next: AtomicU64,
    open: Mutex<VecDeque<(u64, Arc<File>)>>,
}

/// A file that many threads read at places of their own. It is opened again when it is read after others were.
#[derive(Clone, Debug)]
pub(crate) struct PositionedFile {
    /// What it is known by among the open ones.
    key: u64,
    path: PathBuf,
    id: FileId,
    size: u64,
    files: Arc<OpenFiles>,
}

impl PositionedFile {
    /// Opens a file as one of a source's.
    ///
    /// # Errors
    /// It cannot be read.
    pub(crate) fn open(path: &Path, files: &Arc<OpenFiles>) -> Result<PositionedFile> {
        let file = place::open(path)?;
        let size = file.metadata().map_err(|e| place::unreadable(path, &e))?.len();
        let (id, path) = (FileId::of_file(&file, path), path.to_owned());
        let key = files.next.fetch_add(1, Ordering::Relaxed);
        files.keep(key, Arc::new(file));
        Ok(PositionedFile { key, path, id, size, files: files.clone() })
    }

    /// Bytes that it had when it was first opened.
    pub(crate) fn size(&self) -> u64 {
        self.size
    }

    /// The open file.
    ///
    /// # Errors
    /// It cannot be opened again, or another file took its place.
    pub(crate) fn file(&self) -> std::io::Result<Arc<File>> {
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

    /// Reads some bytes at a place.
    pub(crate) fn read_at(&self, into: &mut [u8], at: u64) -> std::io::Result<usize> {
        place::read_at(&*self.file()?, into, at)
    }

    /// Reads bytes at a place, all of them.
    ///
    /// # Errors
    /// It cannot be read, or ends before them.
    pub(crate) fn read_exactly(&self, mut into: &mut [u8], mut at: u64) -> std::io::Result<()> {
        let file = self.file()?;
        while !into.is_empty() {
            match place::read_at(&file, into, at)? {
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
                PositionedFile::open(&path, &files).unwrap()
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
