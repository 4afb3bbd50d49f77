//! Files, globs, folders and standard input; and the bytes behind them, uncompressed.

use std::collections::HashSet;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};

use churn_core::error::nearest;
use churn_core::{Error, ErrorKind, Result, cancel};

use super::store;
use super::zip::{self, Member};

/// How a file is compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Compression {
    None,
    Gzip,
    Zstd,
    Bzip2,
    /// One file within a zip archive.
    Zip(Member),
}

impl Compression {
    /// By the name's ending.
    pub(crate) fn of(path: &Path) -> Compression {
        match path.extension().and_then(|e| e.to_str()).map(str::to_ascii_lowercase).as_deref() {
            Some("gz") => Compression::Gzip,
            Some("zst") => Compression::Zstd,
            Some("bz2") => Compression::Bzip2,
            _ => Compression::None,
        }
    }

    /// By the first bytes.
    pub(crate) fn of_bytes(head: &[u8]) -> Compression {
        match head {
            [0x1f, 0x8b, ..] => Compression::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Compression::Zstd,
            [b'B', b'Z', b'h', b'1'..=b'9', ..] => Compression::Bzip2,
            _ => Compression::None,
        }
    }

    /// By the first bytes of a file, and its name: other formats are zip archives too.
    ///
    /// # Errors
    /// It is a zip archive of which one cannot say which file is meant, or how it is packed.
    pub(crate) fn of_file(path: &Path, first: &[u8]) -> std::io::Result<Compression> {
        match first {
            [b'P', b'K', 3 | 5, 4 | 6, ..] if zip::is_named_so(path) => {
                zip::member(path).map(Compression::Zip)
            }
            first => Ok(match (Compression::of_bytes(first), Compression::of(path)) {
                // What is named so and ends within the mark of its kind was cut short, and is no text.
                (Compression::None, named) if named.mark_is_cut_short(first) => named,
                (found, _) => found,
            }),
        }
    }

    /// Whether all that there is of a file is a part of the first bytes of its kind.
    fn mark_is_cut_short(self, first: &[u8]) -> bool {
        let mark: &[u8] = match self {
            Compression::Gzip => &[0x1f, 0x8b],
            Compression::Zstd => &[0x28, 0xb5, 0x2f, 0xfd],
            Compression::Bzip2 => b"BZh",
            Compression::None | Compression::Zip(_) => return false,
        };
        !first.is_empty() && mark.starts_with(first)
    }

    /// The uncompressed bytes.
    pub(crate) fn reader(self, raw: Box<dyn Read + Send>) -> std::io::Result<Box<dyn Read + Send>> {
        Ok(match self {
            Compression::None => raw,
            Compression::Gzip => {
                Box::new(flate2::bufread::MultiGzDecoder::new(BufReader::with_capacity(1 << 18, raw)))
            }
            Compression::Zip(member) => member.reader(raw)?,
            Compression::Zstd => Box::new(zstd::stream::read::Decoder::new(raw)?),
            Compression::Bzip2 => {
                Box::new(bzip2::bufread::MultiBzDecoder::new(BufReader::with_capacity(1 << 18, raw)))
            }
        })
    }
}

/// The name without the ending of its compression.
pub(crate) fn without_compression(path: &Path) -> PathBuf {
    if Compression::of(path) == Compression::None { path.to_owned() } else { path.with_extension("") }
}

/// Writes bytes at a place of a file; its own position is left alone.
pub(crate) fn write_at(file: &File, bytes: &[u8], at: u64) -> std::io::Result<()> {
    #[cfg(unix)]
    return std::os::unix::fs::FileExt::write_all_at(file, bytes, at);
    #[cfg(windows)]
    {
        let (mut bytes, mut at) = (bytes, at);
        while !bytes.is_empty() {
            let written = std::os::windows::fs::FileExt::seek_write(file, bytes, at)?;
            bytes = bytes.get(written..).unwrap_or_default();
            at += written as u64;
        }
        Ok(())
    }
}

/// Bytes of a file whose way to the disk is started together.
#[cfg(target_os = "linux")]
const STARTED: u64 = 4 << 20;

/// As [`write_at`], for bytes that have to be on disk in the end: whenever some millions of them were written, they start on their way
/// there, so that whoever waits for all of them does not wait for the whole file.
pub(crate) fn write_through_at(file: &File, bytes: &[u8], at: u64) -> std::io::Result<()> {
    write_at(file, bytes, at)?;
    #[cfg(target_os = "linux")]
    {
        let started = |at: u64| at / STARTED * STARTED;
        let (first, behind) = (started(at), started(at + bytes.len() as u64));
        if let Some(length) = std::num::NonZeroU64::new(behind - first) {
            // The system starts to write what it is told not to keep; pages that still are on their way stay in its cache. It is a wish:
            // that it is refused does not matter.
            let _ = rustix::fs::fadvise(file, first, Some(length), rustix::fs::Advice::DontNeed);
        }
    }
    Ok(())
}

/// The first bytes of a file; none if it cannot be read, or is no file.
pub fn first_bytes(path: &Path) -> Vec<u8> {
    let mut first = vec![0; 64];
    let read = match path.is_file().then(|| File::open(path)) {
        Some(Ok(file)) => read_at(&file, &mut first, 0).unwrap_or(0),
        _ => 0,
    };
    first.truncate(read);
    first
}

/// Whether the first bytes of a file hold some that text does not: zeros and other control characters.
pub fn has_control_bytes(first: &[u8]) -> bool {
    let is_control = |b: &u8| b.is_ascii_control() && !matches!(b, b'\t' | b'\n' | b'\r' | 0x0c | 0x1b);
    first.iter().take(64).any(is_control)
}

/// Reads some bytes at a place of a file; its own position is left alone.
pub fn read_at(file: &File, into: &mut [u8], at: u64) -> std::io::Result<usize> {
    #[cfg(unix)]
    return std::os::unix::fs::FileExt::read_at(file, into, at);
    #[cfg(windows)]
    return std::os::windows::fs::FileExt::seek_read(file, into, at);
}

/// Fills a buffer from a place of a file.
pub(crate) fn read_exact_at(file: &File, mut into: &mut [u8], mut at: u64) -> std::io::Result<()> {
    while !into.is_empty() {
        match read_at(file, into, at)? {
            0 => return Err(std::io::ErrorKind::UnexpectedEof.into()),
            read => {
                into = into.get_mut(read..).unwrap_or_default();
                at += read as u64;
            }
        }
    }
    Ok(())
}

/// The name of standard input and output.
pub(crate) const STANDARD: &str = "-";

/// Finds the files that a path of a request means: itself, a glob's, a folder's; in order of name.
///
/// # Errors
/// Nothing is there; the message names what is nearby.
pub fn files(path: &str, base: &Path) -> Result<Vec<PathBuf>> {
    if path == STANDARD {
        return Ok(vec![PathBuf::from(STANDARD)]);
    }
    let full = base.join(path);
    if full.exists() || !path.contains(['*', '?', '[']) {
        return files_at(Path::new(path), path, base);
    }
    // Only the path as it is written is a pattern, not the folder it is relative to.
    let base = glob::Pattern::escape(&base.to_string_lossy());
    let pattern = Path::new(&base).join(path);
    let pattern = pattern.to_string_lossy();
    let paths = glob::glob(&pattern).map_err(|error| {
        Error::new(ErrorKind::Input, format!("{path} is not a pattern of file names: {}.", error.msg))
    })?;
    let mut found: Vec<PathBuf> = paths.filter_map(Result::ok).filter(|p| p.is_file()).collect();
    found.sort();
    if found.is_empty() {
        return Err(Error::new(ErrorKind::Input, format!("No file fits {path}.")).next(looked_in(&full)));
    }
    Ok(found)
}

/// The files that a path means which is no pattern: itself, or a folder's, in order of name.
///
/// # Errors
/// Nothing is there; the message shows the path so, and names what is nearby.
pub fn files_at(path: &Path, shown: &str, base: &Path) -> Result<Vec<PathBuf>> {
    let full = base.join(path);
    if full.is_dir() {
        let mut found = Vec::new();
        list(&full, &mut found, &mut HashSet::new())?;
        found.sort();
        if found.is_empty() {
            return Err(Error::new(ErrorKind::Input, format!("The folder {shown} holds no files.")));
        }
        return Ok(found);
    }
    if full.exists() { Ok(vec![full]) } else { Err(missing(shown, &full)) }
}

fn looked_in(full: &Path) -> String {
    let folder = full.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let shown = std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned());
    format!("Looked in {}.", shown.display())
}

fn missing(path: &str, full: &Path) -> Error {
    let error = Error::new(ErrorKind::Input, format!("There is no file {path}."));
    let folder = full.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let names: Vec<String> = std::fs::read_dir(folder)
        .map(|entries| entries.flatten().map(|e| e.file_name().to_string_lossy().into_owned()).collect())
        .unwrap_or_default();
    let wanted = full.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    match nearest(&wanted, names.iter().map(String::as_str)) {
        Some(near) => error.why(looked_in(full)).next(format!("Did you mean {near}?")),
        None => error.why(looked_in(full)),
    }
}

/// All files below a folder but hidden ones. A link may lead back up: a folder that was seen is not entered again.
fn list(folder: &Path, into: &mut Vec<PathBuf>, seen: &mut HashSet<PathBuf>) -> Result<()> {
    let place = std::fs::canonicalize(folder).map_err(|e| unreadable(folder, &e))?;
    if !seen.insert(place) {
        return Ok(());
    }
    cancel::check()?;
    let entries = std::fs::read_dir(folder).map_err(|e| unreadable(folder, &e))?;
    for entry in entries.flatten() {
        let path = entry.path();
        let hidden = entry.file_name().to_string_lossy().starts_with(['.', '_']);
        if hidden {
            continue;
        }
        if path.is_dir() {
            list(&path, into, seen)?;
        } else {
            into.push(path);
        }
    }
    Ok(())
}

/// Opens a file.
///
/// # Errors
/// It cannot be read.
pub(crate) fn open(path: &Path) -> Result<File> {
    File::open(path).map_err(|e| unreadable(path, &e))
}

/// Whether the system refuses a file as the process has too many open.
pub fn are_too_many_open(error: &std::io::Error) -> bool {
    #[cfg(unix)]
    {
        let code = error.raw_os_error();
        code == Some(rustix::io::Errno::MFILE.raw_os_error())
            || code == Some(rustix::io::Errno::NFILE.raw_os_error())
    }
    #[cfg(not(unix))]
    {
        let _ = error;
        false
    }
}

/// The error of a process that may have no more files open.
pub fn too_many_open() -> Error {
    Error::new(ErrorKind::Input, "More files are open than the system allows.")
        .next("Allow more, ulimit -n 4096, or give the run more memory, so that it needs fewer files.")
}

/// The error of a file that the system does not give.
pub(crate) fn unreadable(path: &Path, error: &std::io::Error) -> Error {
    if cancel::is_asked() {
        return cancel::stopped();
    }
    if are_too_many_open(error) {
        return too_many_open();
    }
    let shown = store::at(path).map_or_else(|| path.display().to_string(), |at| at.shown());
    Error::new(ErrorKind::Input, format!("{shown} cannot be read: {error}.")).caused_by_io(error)
}
