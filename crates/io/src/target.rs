//! Files that are complete or not there.
//!
//! Rows go to a file without a name, which takes the target's name when all is written. Until then an older file of
//! that name stays whole, and a run that fails leaves nothing behind. What is no regular file (a pipe, a device) is
//! written into.

use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::{Error, ErrorKind, Result};

use super::identity::FileId;
use super::part::{Part, Wanted, folder_of, followed};
use super::place::{self, Compression, STANDARD};
use super::{store, temporary};

/// What to do where the target is there already.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Mode {
    #[default]
    /// What is there is replaced.
    Replace,
    /// Nothing may be there.
    New,
    /// Rows are added to what is there.
    Append,
}

/// A file being written.
pub struct Target {
    /// The path as it was given.
    pub path: PathBuf,
    out: Option<Out>,
    /// Whether rows of an older file stand before.
    pub continues: bool,
    /// What may stand at its place when it is complete.
    wanted: Wanted,
    /// The older file that rows are appended to, so that nobody else appends to it meanwhile.
    _locked: Option<File>,
    /// Where the file goes when it is complete, if the path is an address.
    sent: Option<Sent>,
}

/// A file that stands in a temporary folder until it is complete, and then goes to an address.
struct Sent {
    to: store::At,
    file: PathBuf,
    _folder: temporary::Folder,
}

impl Sent {
    fn send(self) -> std::io::Result<()> {
        let mut file = File::open(&self.file)?;
        let length = file.metadata()?.len();
        self.to.write(&mut file, length)
    }
}

enum Out {
    Plain(Plain),
    /// Bytes in order: standard output, a pipe, a device.
    Stream(Box<dyn Write + Send>),
    Gzip(flate2::write::GzEncoder<BufWriter<Sink>>),
    Zstd(zstd::stream::write::Encoder<'static, BufWriter<Sink>>),
    Bzip2(bzip2::write::BzEncoder<BufWriter<Sink>>),
}

/// Where compressed bytes go.
enum Sink {
    Part(Box<Part>),
    Stream(Box<dyn Write + Send>),
}

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        match self {
            Sink::Part(part) => part.file().write(bytes),
            Sink::Stream(out) => out.write(bytes),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        if let Sink::Stream(out) = self { out.flush() } else { Ok(()) }
    }
}

/// A file without compression: any place of it can be written to.
struct Plain {
    part: Part,
    /// The same file, for those that write to places of it.
    shared: Arc<File>,
    /// Where the next bytes go.
    at: u64,
}

impl Plain {
    fn new(part: Part) -> std::io::Result<Plain> {
        let shared = Arc::new(part.file().try_clone()?);
        Ok(Plain { part, shared, at: 0 })
    }
}

impl Write for Plain {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        place::write_through_at(&self.shared, bytes, self.at)?;
        self.at += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Bytes that have their place in a file, and are still to be written there: by any worker, at any time.
pub struct Placed {
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
    pub fn write(self) -> Result<()> {
        place::write_through_at(&self.file, &self.bytes, self.at).map_err(|e| failed(&self.path, &e))
    }
}

impl Target {
    /// Starts writing; what goes to an address stands in a folder for temporary files until it is complete: in the one that is given, or
    /// the system's.
    ///
    /// # Errors
    /// The folder is not there or cannot be written to; the target is there and must be new.
    pub fn create(path: &Path, mode: Mode, temporary: Option<&Path>) -> Result<Target> {
        let failed = |e: std::io::Error| failed(path, &e);
        let target = |out, continues, wanted, locked| Target {
            path: path.to_owned(),
            out: Some(out),
            continues,
            wanted,
            _locked: locked,
            sent: None,
        };
        if let Some(to) = store::at(path) {
            let folder = temporary::folder(temporary)?;
            let file = folder.path().join(to.file_name());
            let sent = Some(Sent { to, file: file.clone(), _folder: folder });
            return Ok(Target { path: path.to_owned(), sent, ..Target::create(&file, Mode::Replace, None)? });
        }
        if is_stream(path) {
            let stream: Box<dyn Write + Send> = if is_standard(path) {
                Box::new(std::io::stdout())
            } else {
                Box::new(File::options().write(true).open(path).map_err(failed)?)
            };
            let out = packed(path, Sink::Stream(stream)).map_err(failed)?;
            return Ok(target(out, false, Wanted::Anything, None));
        }
        let exists = path.exists();
        if mode == Mode::New && exists {
            return Err(there_already(path));
        }
        if path.is_dir() {
            return Err(Error::new(ErrorKind::Output, format!("{} is a folder.", path.display())));
        }
        let locked = if mode == Mode::Append && exists { Some(locked(path)?) } else { None };
        let part = Part::create(path).map_err(failed)?;
        let mut out = packed(path, Sink::Part(Box::new(part))).map_err(failed)?;
        let continues = locked.as_ref().is_some_and(|file| file.metadata().is_ok_and(|m| m.len() > 0));
        if continues {
            copy_older(path, &mut out)?;
        }
        // Of two runs that make a file, or append to none, the second must not take away what the first wrote.
        let wanted =
            if mode == Mode::Replace || locked.is_some() { Wanted::Anything } else { Wanted::Nothing };
        Ok(target(out, continues, wanted, locked))
    }

    /// Appends bytes.
    ///
    /// # Errors
    /// The disk is full or fails.
    pub fn write(&mut self, bytes: &[u8]) -> Result<()> {
        let Some(out) = &mut self.out else { return Ok(()) };
        out.writer().write_all(bytes).map_err(|e| failed(&self.path, &e))
    }

    /// Appends bytes; where any place of the file can be written to, they only get their place, and whoever has
    /// them writes them.
    ///
    /// # Errors
    /// As [`Target::write`].
    pub fn append(&mut self, bytes: Vec<u8>) -> Result<Option<Placed>> {
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
    /// The last bytes or the name could not be written; there is a file where there was none.
    pub fn finish(mut self) -> Result<()> {
        let sent = self.sent.take();
        self.complete()?;
        sent.map_or(Ok(()), |sent| sent.send().map_err(|e| not_written(&self.path, &e)))
    }

    /// Gives the file its name.
    fn complete(&mut self) -> Result<()> {
        let Some(out) = self.out.take() else { return Ok(()) };
        let named = |e: std::io::Error| match e.kind() {
            std::io::ErrorKind::AlreadyExists => there_already(&self.path),
            _ => not_written(&self.path, &e),
        };
        let buffered = match out {
            Out::Stream(mut out) => return out.flush().map_err(|e| failed(&self.path, &e)),
            Out::Plain(plain) => return plain.part.finish(self.wanted).map_err(named),
            Out::Gzip(encoder) => encoder.finish().map_err(|e| failed(&self.path, &e))?,
            Out::Zstd(encoder) => encoder.finish().map_err(|e| failed(&self.path, &e))?,
            Out::Bzip2(encoder) => encoder.finish().map_err(|e| failed(&self.path, &e))?,
        };
        match buffered.into_inner().map_err(|e| failed(&self.path, e.error()))? {
            Sink::Part(part) => part.finish(self.wanted).map_err(named),
            Sink::Stream(mut out) => out.flush().map_err(|e| failed(&self.path, &e)),
        }
    }

    /// The target, as messages show it.
    pub fn shown(&self) -> String {
        shown(&self.path)
    }
}

/// Writes a file as a run writes its targets: complete or not at all, and into what is no regular file.
///
/// # Errors
/// The folder is not there or cannot be written to; the disk is full.
pub fn write_file(path: impl AsRef<Path>, bytes: &[u8]) -> Result<()> {
    let mut target = Target::create(path.as_ref(), Mode::Replace, None)?;
    target.write(bytes)?;
    target.finish()
}

/// Whether bytes for a path go to standard output.
pub(crate) fn is_standard(path: &Path) -> bool {
    let names = [STANDARD, "/dev/stdout", "/dev/fd/1", "/proc/self/fd/1"];
    names.iter().any(|name| path == Path::new(name))
}

/// Whether a target is written into, as it is no regular file: standard output, a pipe, a device.
pub fn is_stream(path: &Path) -> bool {
    is_standard(path) || std::fs::metadata(path).is_ok_and(|about| !about.is_file() && !about.is_dir())
}

/// Checks that a file may be written at a path: there is no folder of that name, and one that it would stand in.
///
/// # Errors
/// It may not; the kind of the error is that of a request.
pub fn may_be_written(path: &Path) -> Result<()> {
    if is_stream(path) || store::is_address(path) {
        return Ok(());
    }
    let wrong = |what: String| Err(Error::new(ErrorKind::Check, what));
    let place = followed(path).map_err(|e| not_written(path, &e))?;
    let folder = folder_of(&place);
    match place {
        _ if path.is_dir() => wrong(format!("{} is a folder.", path.display())),
        _ if !folder.is_dir() => wrong(format!("There is no folder {}.", folder.display())),
        _ => Ok(()),
    }
}

/// What writes to a sink, compressed as the name of the target says.
fn packed(path: &Path, sink: Sink) -> std::io::Result<Out> {
    let buffered = |sink| BufWriter::with_capacity(1 << 18, sink);
    Ok(match (Compression::of(path), sink) {
        // No name says that it is an archive to be written.
        (Compression::None | Compression::Zip(_), Sink::Part(part)) => Out::Plain(Plain::new(*part)?),
        (Compression::None | Compression::Zip(_), Sink::Stream(out)) => Out::Stream(out),
        (Compression::Gzip, sink) => {
            Out::Gzip(flate2::write::GzEncoder::new(buffered(sink), flate2::Compression::new(6)))
        }
        (Compression::Zstd, sink) => {
            let mut encoder = zstd::stream::write::Encoder::new(buffered(sink), 3)?;
            encoder.include_checksum(true)?;
            Out::Zstd(encoder)
        }
        (Compression::Bzip2, sink) => {
            Out::Bzip2(bzip2::write::BzEncoder::new(buffered(sink), bzip2::Compression::new(6)))
        }
    })
}

/// The file at a path, locked: it is still there once the lock is held.
fn locked(path: &Path) -> Result<File> {
    let file = place::open(path)?;
    if file.try_lock().is_err() {
        let what = format!("Another run is appending to {}.", path.display());
        return Err(Error::new(ErrorKind::Output, what).next("Run again when it is done."));
    }
    // Another run may have put a new file in its place before the lock was there.
    if FileId::of(path) == FileId::of_file(&file, path) { Ok(file) } else { locked(path) }
}

impl Out {
    fn writer(&mut self) -> &mut dyn Write {
        match self {
            Out::Stream(out) => out,
            Out::Plain(out) => out,
            Out::Gzip(out) => out,
            Out::Zstd(out) => out,
            Out::Bzip2(out) => out,
        }
    }
}

/// A file that its writer holds until it ends.
#[derive(Clone)]
pub struct SharedTarget(Arc<Mutex<Target>>);

impl SharedTarget {
    /// Shares a target among writers.
    pub fn new(target: Target) -> SharedTarget {
        SharedTarget(Arc::new(Mutex::new(target)))
    }

    /// The target, as messages show it.
    pub fn shown(&self) -> String {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).shown()
    }

    /// Whether the target was given by this path.
    pub fn is_of(&self, path: &Path) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).path == path
    }

    /// Gives the file its name, when the last that shares it asks for it; the writers have ended and are gone.
    ///
    /// # Errors
    /// As [`Target::finish`].
    pub fn finish(self) -> Result<()> {
        let target = Arc::into_inner(self.0).map(|t| t.into_inner().unwrap_or_else(PoisonError::into_inner));
        target.map_or(Ok(()), Target::finish)
    }
}

impl Write for SharedTarget {
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
pub fn starts_with(path: &Path, start: &[u8]) -> Result<bool> {
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

fn shown(path: &Path) -> String {
    match store::at(path) {
        Some(at) => at.shown(),
        None if is_standard(path) => "standard output".to_owned(),
        None => path.display().to_string(),
    }
}

/// The error of a target that is there and must be new.
pub(crate) fn there_already(path: &Path) -> Error {
    Error::new(ErrorKind::Output, format!("{} is there already.", path.display()))
        .next("Choose another name, or say mode = replace.")
}

/// The error of a target that cannot be written; a reader that went away is told apart.
fn not_written(path: &Path, error: &std::io::Error) -> Error {
    if error.kind() == std::io::ErrorKind::BrokenPipe {
        return Error::new(ErrorKind::Interrupted, "The reader of the output went away.");
    }
    let shown = if is_standard(path) { "Standard output".to_owned() } else { shown(path) };
    Error::new(ErrorKind::Output, format!("{shown} cannot be written: {error}.")).caused_by_io(error)
}

/// The error of a target that cannot be written while no target has its name yet.
fn failed(path: &Path, error: &std::io::Error) -> Error {
    not_written(path, error).why("Nothing was changed: an older file of that name is as it was.")
}
