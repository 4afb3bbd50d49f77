//! A file that is opened for each piece that is written to it.

use std::fs::File;
use std::io::Write;
use std::path::PathBuf;

/// A file that is open only while bytes are written to it, so that a folder may have more files than a process may have
/// open.
pub(super) struct Reopened {
    path: PathBuf,
    waiting: Vec<u8>,
}

/// Bytes that wait until a file is opened for them.
const WAITING: usize = 16 << 10;

impl Reopened {
    pub(super) fn create(path: PathBuf) -> std::io::Result<Reopened> {
        File::create_new(&path)?;
        Ok(Reopened { path, waiting: Vec::new() })
    }

    fn put(&mut self, more: &[u8]) -> std::io::Result<()> {
        let mut file = File::options().append(true).open(&self.path)?;
        file.write_all(&self.waiting)?;
        self.waiting.clear();
        file.write_all(more)
    }
}

impl Write for Reopened {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        if self.waiting.len() + bytes.len() <= WAITING {
            self.waiting.extend_from_slice(bytes);
        } else {
            self.put(bytes)?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.put(&[])?;
        File::open(&self.path)?.sync_data()
    }
}
