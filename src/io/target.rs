//! Files that are complete or not there.
//!
//! Rows go to a temporary file beside the target, which takes the target's name when all is written. Until
//! then an older file of that name stays whole, and a run that fails leaves nothing behind.

use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use tempfile::NamedTempFile;

use super::place::{self, Compression, STANDARD};
use crate::error::{Error, ErrorKind, Result};

/// What to do where the target is there already.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Mode {
    #[default]
    Replace,
    New,
    Append,
}

/// A file being written.
pub(crate) struct Target {
    path: PathBuf,
    out: Option<Out>,
    /// Whether rows of an older file stand before.
    pub(crate) continues: bool,
}

enum Out {
    Standard(std::io::Stdout),
    Plain(Plain),
    Gzip(flate2::write::GzEncoder<BufWriter<NamedTempFile>>),
    Zstd(zstd::stream::write::Encoder<'static, BufWriter<NamedTempFile>>),
    Bzip2(bzip2::write::BzEncoder<BufWriter<NamedTempFile>>),
}

/// A file without compression: any place of it can be written to.
struct Plain {
    file: NamedTempFile,
    /// The same file, for those that write to places of it.
    shared: Arc<File>,
    /// Where the next bytes go.
    at: u64,
}

impl Plain {
    fn new(file: NamedTempFile) -> std::io::Result<Plain> {
        let shared = Arc::new(file.as_file().try_clone()?);
        Ok(Plain { file, shared, at: 0 })
    }
}

impl Write for Plain {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        place::write_at(&self.shared, bytes, self.at)?;
        self.at += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Bytes that have their place in a file, and are still to be written there: by any worker, at any time.
pub(crate) struct Placed {
    file: Arc<File>,
    path: PathBuf,
    bytes: Vec<u8>,
    at: u64,
}

impl Placed {
    /// Writes the bytes.
    ///
    /// # Errors
    /// The disk is full or fails.
    pub(crate) fn write(self) -> Result<()> {
        place::write_at(&self.file, &self.bytes, self.at).map_err(|e| failed(&self.path, &e))
    }
}

impl Target {
    /// Starts writing.
    ///
    /// # Errors
    /// The folder is not there or cannot be written to; the target is there and must be new.
    pub(crate) fn create(path: &Path, mode: Mode) -> Result<Target> {
        if path == Path::new(STANDARD) {
            return Ok(Target {
                path: path.to_owned(),
                out: Some(Out::Standard(std::io::stdout())),
                continues: false,
            });
        }
        let exists = path.exists();
        if mode == Mode::New && exists {
            return Err(Error::new(ErrorKind::Output, format!("{} is there already.", path.display()))
                .next("Choose another name, or say mode = replace."));
        }
        if path.is_dir() {
            return Err(Error::new(ErrorKind::Output, format!("{} is a folder.", path.display())));
        }
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mut builder = tempfile::Builder::new();
        builder.prefix(".churn-").suffix(".part");
        #[cfg(unix)]
        builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o644));
        let temporary = builder.tempfile_in(folder).map_err(|e| failed(path, &e))?;
        let zstd_failed = |e: std::io::Error| failed(path, &e);
        let buffered = |file| BufWriter::with_capacity(1 << 18, file);
        let mut out = match Compression::of(path) {
            Compression::None => Out::Plain(Plain::new(temporary).map_err(|e| failed(path, &e))?),
            Compression::Gzip => {
                Out::Gzip(flate2::write::GzEncoder::new(buffered(temporary), flate2::Compression::new(6)))
            }
            Compression::Zstd => {
                Out::Zstd(zstd::stream::write::Encoder::new(buffered(temporary), 3).map_err(zstd_failed)?)
            }
            Compression::Bzip2 => {
                Out::Bzip2(bzip2::write::BzEncoder::new(buffered(temporary), bzip2::Compression::new(6)))
            }
        };
        let continues = mode == Mode::Append && exists && std::fs::metadata(path).is_ok_and(|m| m.len() > 0);
        if continues {
            copy_older(path, &mut out)?;
        }
        Ok(Target { path: path.to_owned(), out: Some(out), continues })
    }

    /// Appends bytes.
    ///
    /// # Errors
    /// The disk is full or fails.
    pub(crate) fn write(&mut self, bytes: &[u8]) -> Result<()> {
        let Some(out) = &mut self.out else { return Ok(()) };
        out.writer().write_all(bytes).map_err(|e| failed(&self.path, &e))
    }

    /// Appends bytes; where any place of the file can be written to, they only get their place, and whoever has
    /// them writes them.
    ///
    /// # Errors
    /// As [`Target::write`].
    pub(crate) fn append(&mut self, bytes: Vec<u8>) -> Result<Option<Placed>> {
        if let Some(Out::Plain(plain)) = &mut self.out {
            let at = plain.at;
            plain.at += bytes.len() as u64;
            return Ok(Some(Placed { file: plain.shared.clone(), path: self.path.clone(), bytes, at }));
        }
        self.write(&bytes).map(|()| None)
    }

    /// Gives the file its name.
    ///
    /// # Errors
    /// The last bytes or the name could not be written.
    pub(crate) fn finish(mut self) -> Result<()> {
        let Some(out) = self.out.take() else { return Ok(()) };
        let buffered = match out {
            Out::Standard(mut out) => return out.flush().map_err(|e| failed(&self.path, &e)),
            Out::Plain(plain) => {
                plain.file.persist(&self.path).map_err(|e| failed(&self.path, &e.error))?;
                return Ok(());
            }
            Out::Gzip(encoder) => encoder.finish().map_err(|e| failed(&self.path, &e))?,
            Out::Zstd(encoder) => encoder.finish().map_err(|e| failed(&self.path, &e))?,
            Out::Bzip2(encoder) => encoder.finish().map_err(|e| failed(&self.path, &e))?,
        };
        let file = buffered.into_inner().map_err(|e| failed(&self.path, e.error()))?;
        file.persist(&self.path).map_err(|e| failed(&self.path, &e.error))?;
        Ok(())
    }
}

impl Out {
    fn writer(&mut self) -> &mut dyn Write {
        match self {
            Out::Standard(out) => out,
            Out::Plain(out) => out,
            Out::Gzip(out) => out,
            Out::Zstd(out) => out,
            Out::Bzip2(out) => out,
        }
    }
}

/// A file that its writer holds until it ends.
#[derive(Clone)]
pub(crate) struct Shared(Arc<Mutex<Target>>);

impl Shared {
    pub(crate) fn new(target: Target) -> Shared {
        Shared(Arc::new(Mutex::new(target)))
    }

    /// Gives the file its name; its writer has ended and is gone.
    ///
    /// # Errors
    /// As [`Target::finish`].
    pub(crate) fn finish(self) -> Result<()> {
        let target = Arc::into_inner(self.0).map(|t| t.into_inner().unwrap_or_else(PoisonError::into_inner));
        target.map_or(Ok(()), Target::finish)
    }
}

impl Write for Shared {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let mut target = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        target.out.as_mut().map_or(Ok(bytes.len()), |out| out.writer().write(bytes))
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Whether a file that rows are appended to starts as they would; a new or empty one does.
///
/// # Errors
/// The file cannot be read.
pub(crate) fn starts_with(path: &Path, start: &[u8]) -> Result<bool> {
    if !path.exists() {
        return Ok(true);
    }
    let file: File = place::open(path)?;
    let reader = Compression::of(path).reader(Box::new(file)).map_err(|e| place::unreadable(path, &e))?;
    let mut found = Vec::new();
    reader.take(start.len() as u64).read_to_end(&mut found).map_err(|e| place::unreadable(path, &e))?;
    Ok(found.is_empty() || found == start)
}

/// Copies the rows that are there, and ends their last line.
fn copy_older(path: &Path, out: &mut Out) -> Result<()> {
    let file: File = place::open(path)?;
    let mut reader =
        BufReader::new(Compression::of(path).reader(Box::new(file)).map_err(|e| failed(path, &e))?);
    let mut buffer = vec![0; 1 << 18];
    let mut last = b'\n';
    loop {
        let read = reader.read(&mut buffer).map_err(|e| failed(path, &e))?;
        let Some(part) = buffer.get(..read).filter(|p| !p.is_empty()) else { break };
        last = part.last().copied().unwrap_or(last);
        out.writer().write_all(part).map_err(|e| failed(path, &e))?;
    }
    if last != b'\n' {
        out.writer().write_all(b"\n").map_err(|e| failed(path, &e))?;
    }
    Ok(())
}

/// The error of a target that cannot be written; a reader that went away is told apart.
fn failed(path: &Path, error: &std::io::Error) -> Error {
    if error.kind() == std::io::ErrorKind::BrokenPipe {
        return Error::new(ErrorKind::Interrupted, "The reader of the output went away.");
    }
    let shown =
        if path == Path::new(STANDARD) { "Standard output".to_owned() } else { path.display().to_string() };
    Error::new(ErrorKind::Output, format!("{shown} cannot be written: {error}."))
        .why("Nothing was changed: an older file of that name is as it was.")
}
