//! Inputs that are read from front to back: standard input, pipes, devices, addresses on the web.
//!
//! What an input holds is looked at before the run, to find its format and its columns, and read in the run. A pipe
//! cannot be opened a second time: the second open of a FIFO waits for another writer, and what was read of standard
//! input is gone. So such an input is opened once in the process; the bytes that were looked at are kept in front of
//! the rest until a source takes both.

use std::collections::HashMap;
use std::fs::File;
use std::io::{Cursor, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Mutex, MutexGuard, PoisonError};

use churn_core::readable::bytes;
use churn_core::{Error, ErrorKind, Result};

use super::own::capitalized;
use super::place::{self, Compression, STANDARD};
use super::source::ReadResources;
use super::store::{self, Counted, RemoteFile, StoredFile, StoredStream, Transfer};
use super::temporary::Folder;

/// Addresses of one table whose connections stay open between the look at them and the run; of more, each is opened again.
pub(crate) const KEPT_OPEN: usize = 4;

/// A stream of which some bytes may have been read.
struct Opened {
    first: Vec<u8>,
    rest: Box<dyn Read + Send>,
    /// What it is a stream of, if that is a file in a store of which parts can be read.
    file: Option<StoredFile>,
}

/// Streams that are open and were not taken by a source yet; `None` for standard input once it was.
static OPEN: LazyLock<Mutex<HashMap<PathBuf, Option<Opened>>>> = LazyLock::new(Mutex::default);

fn open_streams() -> MutexGuard<'static, HashMap<PathBuf, Option<Opened>>> {
    OPEN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Whether a path is an input that is read from front to back: standard input, a pipe, a device, an address, or a file
/// that the system makes while it is read, whose size is told as 0.
pub fn is_stream(path: &Path) -> bool {
    if path == Path::new(STANDARD) || store::is_address(path) {
        return true;
    }
    match std::fs::metadata(path) {
        Ok(about) if about.is_file() && about.len() == 0 => {
            let mut byte = [0];
            File::open(path).and_then(|mut file| file.read(&mut byte)).is_ok_and(|read| read > 0)
        }
        Ok(about) => !about.is_file() && !about.is_dir(),
        Err(_) => false,
    }
}

/// What messages call a stream.
pub fn shown(path: &Path) -> String {
    match store::at(path) {
        Some(at) => at.shown(),
        None if path == Path::new(STANDARD) => "standard input".to_owned(),
        None => path.display().to_string(),
    }
}

/// What messages call a file that is known by a name of its own unless it is standard input or an address.
pub(crate) fn named(path: &Path, name: &str) -> String {
    let has_own = path == Path::new(STANDARD) || store::is_address(path);
    if has_own { shown(path) } else { name.to_owned() }
}

fn opened<'a>(
    streams: &'a mut HashMap<PathBuf, Option<Opened>>,
    path: &Path,
) -> Result<&'a mut Option<Opened>> {
    if !streams.contains_key(path) {
        let opened = match store::at(path) {
            Some(at) => at.read().map(|StoredStream { bytes, file }| (bytes, file)),
            None => waiting::open(path).map(|bytes| (bytes, None)),
        };
        let (rest, file) = opened.map_err(|e| place::unreadable(path, &e))?;
        streams.insert(path.to_owned(), Some(Opened { first: Vec::new(), rest, file }));
    }
    Ok(streams.entry(path.to_owned()).or_insert(None))
}

/// The error of a stream that was read before.
pub fn read_once(path: &Path) -> Error {
    let shown = shown(path);
    Error::new(ErrorKind::Input, format!("{} can be read only once.", capitalized(&shown)))
        .next("Write it to a file first, and read the file.")
}

/// How a stream is compressed, by its first bytes.
///
/// # Errors
/// As [`peek`].
pub(crate) fn compression(path: &Path) -> Result<Compression> {
    peek_raw(path, 16).map(|first| Compression::of_bytes(&first))
}

/// The first bytes of a stream as they are, at most `most` of them; they stay in front of the rest. Waits for them.
fn peek_raw(path: &Path, most: usize) -> Result<Vec<u8>> {
    let mut streams = open_streams();
    let Some(Opened { first, rest, .. }) = opened(&mut streams, path)? else { return Err(read_once(path)) };
    if first.len() < most {
        let wanted = (most - first.len()) as u64;
        rest.take(wanted).read_to_end(first).map_err(|e| place::unreadable(path, &e))?;
    }
    Ok(first.get(..most.min(first.len())).unwrap_or_default().to_vec())
}

/// The first bytes of a stream, uncompressed, at most `most` of them; they stay in front of the rest. Waits for them.
///
/// # Errors
/// The stream cannot be read, or a source has taken it.
pub fn peek(path: &Path, most: usize) -> Result<Vec<u8>> {
    let head = peek_raw(path, most)?;
    if Compression::of_bytes(&head) == Compression::None {
        return Ok(head);
    }
    // The bytes that the compressed ones give, up to where they are cut off.
    let mut plain = Vec::new();
    let reader = Compression::of_bytes(&head).reader(Box::new(Cursor::new(head)));
    let mut reader = reader.map_err(|e| place::unreadable(path, &e))?;
    let mut byte = [0; 64];
    while let Ok(read) = reader.read(&mut byte) {
        plain.extend_from_slice(byte.get(..read).unwrap_or_default());
        if read == 0 || plain.len() >= most {
            break;
        }
    }
    Ok(plain)
}

/// The bytes of a stream from its start, for the one source that reads them; those of an address are counted, and can be taken
/// again.
///
/// # Errors
/// It was taken before, or cannot be read.
pub(crate) fn take(path: &Path, transfer: &Arc<Transfer>) -> Result<Box<dyn Read + Send>> {
    take_with_file(path, transfer).map(|(bytes, _)| bytes)
}

/// The bytes of a stream as of [`take`]; and the same version of the file in a store that they are of, if parts of it can be read.
///
/// # Errors
/// As [`take`].
pub(crate) fn take_with_file(
    path: &Path,
    transfer: &Arc<Transfer>,
) -> Result<(Box<dyn Read + Send>, Option<RemoteFile>)> {
    let mut streams = open_streams();
    let Some(Opened { first, rest, file }) = opened(&mut streams, path)?.take() else {
        return Err(read_once(path));
    };
    if path != Path::new(STANDARD) {
        streams.remove(path);
    }
    let whole = Cursor::new(first).chain(rest);
    if store::is_address(path) {
        let file = file.map(|file| RemoteFile::of(file, transfer));
        return Ok((Box::new(Counted::new(whole, transfer.clone())), file));
    }
    Ok((Box::new(whole), None))
}

/// Ends the reading of an address that was looked at, for a format that reads parts of it.
pub(crate) fn let_go(path: &Path) {
    open_streams().remove(path);
}

/// Bytes of an address that are copied at most, so that one without an end fills no disk.
const MOST_COPIED: u64 = 64 << 30;

/// Copies a stream to a temporary file, for a format that is read at more than one place. The file is named after the
/// stream and vanishes with the folder that is given.
///
/// # Errors
/// The stream cannot be read, or the folder for temporary files is full.
pub(crate) fn spool(
    path: &Path,
    resources: &ReadResources,
    transfer: &Arc<Transfer>,
) -> Result<(Folder, PathBuf)> {
    let folder = super::temporary::folder(resources.temporary.as_deref())?;
    let name = store::at(path).map_or_else(|| shown(path), |at| at.file_name()).replace(['/', '\\'], " ");
    let target = folder.path().join(name.trim());
    let reader = take(path, transfer)?;
    let most = if store::is_address(path) { MOST_COPIED } else { u64::MAX };
    copy(reader, path, &target, most)?;
    Ok((folder, target))
}

/// Copies a stream to a file, of no more bytes than that.
fn copy(mut reader: impl Read, path: &Path, target: &Path, most: u64) -> Result<()> {
    let full = |e: std::io::Error| {
        let what = format!("{} cannot be kept in a temporary file: {e}.", shown(path));
        Error::new(ErrorKind::Output, what).next("Name another folder for temporary files: --temporary.")
    };
    let mut file = File::create(target).map_err(full)?;
    let mut left = most;
    let mut buffer = vec![0; 1 << 18];
    loop {
        let read = match reader.read(&mut buffer) {
            Ok(0) => break,
            Ok(read) => read,
            Err(e) if e.kind() == std::io::ErrorKind::Interrupted => continue,
            Err(e) => return Err(place::unreadable(path, &e)),
        };
        left = left.checked_sub(read as u64).ok_or_else(|| too_long(path, most))?;
        file.write_all(buffer.get(..read).unwrap_or_default()).map_err(full)?;
    }
    Ok(())
}

/// The error of a stream that has more bytes than are copied.
fn too_long(path: &Path, most: u64) -> Error {
    Error::new(ErrorKind::Input, format!("{} is longer than {}.", shown(path), bytes(most)))
        .why("Its store does not send parts of it, and a copy of it may not be longer.")
        .next("Fetch it first, and read the file.")
}

/// Reading that waits for bytes, and stops waiting when the run is to stop.
#[cfg(unix)]
mod waiting {
    use std::fs::File;
    use std::io::{Error, Read, Result};
    use std::path::Path;

    use rustix::event::{PollFd, PollFlags, Timespec, poll};
    use rustix::fs::{OFlags, fcntl_getfl, fcntl_setfl};

    use super::STANDARD;
    use churn_core::cancel;

    /// Nanoseconds between two looks at whether to go on waiting.
    const LOOK: i64 = 100_000_000;

    struct Waiting(File);

    /// Opens a stream; of a FIFO no writer need be there yet.
    pub(super) fn open(path: &Path) -> Result<Box<dyn Read + Send>> {
        if path == Path::new(STANDARD) {
            let file = File::from(rustix::io::dup(rustix::stdio::stdin())?);
            return Ok(Box::new(Waiting(file)));
        }
        let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let file = File::from(rustix::fs::open(path, flags, rustix::fs::Mode::empty())?);
        fcntl_setfl(&file, fcntl_getfl(&file)? - OFlags::NONBLOCK)?;
        Ok(Box::new(Waiting(file)))
    }

    impl Read for Waiting {
        fn read(&mut self, into: &mut [u8]) -> Result<usize> {
            loop {
                if cancel::is_asked() {
                    return Err(Error::other("the run was stopped"));
                }
                let timeout = Timespec { tv_sec: 0, tv_nsec: LOOK };
                let mut handles = [PollFd::new(&self.0, PollFlags::IN)];
                match poll(&mut handles, Some(&timeout)) {
                    Ok(0) | Err(rustix::io::Errno::INTR) => {}
                    // Whatever stands against waiting, reading tells of it.
                    _ => return self.0.read(into),
                }
            }
        }
    }
}

#[cfg(not(unix))]
mod waiting {
    use std::io::{Read, Result};
    use std::path::Path;

    use super::STANDARD;

    pub(super) fn open(path: &Path) -> Result<Box<dyn Read + Send>> {
        if path == Path::new(STANDARD) {
            return Ok(Box::new(std::io::stdin()));
        }
        Ok(Box::new(std::fs::File::open(path)?))
    }
}
