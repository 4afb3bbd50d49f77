//! How a text is opened again for the run, and how its bytes become text.

use std::io::{Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::{Error, ErrorKind, Result};
use encoding_rs::{Encoding as Charset, UTF_16BE, UTF_16LE, WINDOWS_1252};

use super::options::Encoding;
use crate::charset::{self, Decoding, LineFeeds};
use crate::open_files::PositionedFile;
use crate::place::{self, Compression};
use crate::store::{self, RemoteFile, Transfer};
use crate::streams;

/// How the text is opened again for the run.
pub(super) enum HowOpened {
    File(Decoder),
    /// A text in a store of which parts are read: its bytes are the text.
    Parts(RemoteFile),
    /// The reader of a stream is kept, its first bytes are in the head. It can be read once; an address is opened again.
    Stream(Mutex<Option<Box<dyn Read + Send>>>, Decoder, Arc<Transfer>),
}

impl std::fmt::Debug for HowOpened {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            HowOpened::File(_) => "file",
            HowOpened::Parts(_) => "parts",
            HowOpened::Stream(..) => "stream",
        })
    }
}

impl HowOpened {
    /// Whether the text is read from front to back as it comes.
    pub(super) fn is_stream(&self) -> bool {
        matches!(self, HowOpened::Stream(..))
    }

    /// The file of a text in a store of which parts are read.
    pub(super) fn in_store(&self) -> Option<&RemoteFile> {
        match self {
            HowOpened::Parts(file) => Some(file),
            HowOpened::File(_) | HowOpened::Stream(..) => None,
        }
    }

    /// Ends the reading of a stream.
    pub(super) fn let_go(&mut self) {
        if let HowOpened::Stream(reader, ..) = self {
            *reader.get_mut().unwrap_or_else(PoisonError::into_inner) = None;
        }
    }

    /// What was not read yet of a stream; `None` if it was taken, and of all else.
    pub(super) fn take_rest(&self) -> Option<Box<dyn Read + Send>> {
        match self {
            HowOpened::Stream(reader, ..) => reader.lock().unwrap_or_else(PoisonError::into_inner).take(),
            HowOpened::File(_) | HowOpened::Parts(_) => None,
        }
    }

    /// The text from its start; a stream that is no address can be read only once.
    ///
    /// # Errors
    /// It cannot be read; the stream was read before.
    pub(super) fn again(&self, path: &Path) -> Result<Box<dyn Read + Send>> {
        let (decoder, raw): (_, Box<dyn Read + Send>) = match self {
            HowOpened::File(decoder) => (decoder, Box::new(place::open(path)?)),
            HowOpened::Parts(file) => return Ok(Box::new(file.reader(0))),
            HowOpened::Stream(_, decoder, transfer) if store::is_address(path) => {
                (decoder, streams::take(path, transfer)?)
            }
            HowOpened::Stream(..) => return Err(streams::read_once(path)),
        };
        decoder.reader(raw).map_err(|e| place::unreadable(path, &e))
    }

    /// The bytes from a place on, of what is no stream.
    ///
    /// # Errors
    /// They cannot be read.
    pub(super) fn bytes_from(&self, path: &Path, from: u64) -> std::io::Result<Box<dyn Read + Send>> {
        match self {
            HowOpened::Parts(file) => Ok(Box::new(file.reader(from))),
            HowOpened::File(_) => {
                let mut file = std::fs::File::open(path)?;
                file.seek(SeekFrom::Start(from))?;
                Ok(Box::new(file))
            }
            HowOpened::Stream(..) => Err(std::io::ErrorKind::NotSeekable.into()),
        }
    }

    /// A text whose bytes are read at any place.
    ///
    /// # Errors
    /// It cannot be read.
    pub(super) fn positioned(&self, path: &Path) -> Result<PositionedFile> {
        match self {
            HowOpened::Parts(file) => Ok(PositionedFile::Remote(file.clone())),
            HowOpened::File(_) | HowOpened::Stream(..) => PositionedFile::local(path),
        }
    }
}

/// How the bytes of a file become text.
#[derive(Clone, Copy)]
pub(super) struct Decoder {
    compression: Compression,
    charset: Option<&'static Charset>,
    /// Whether lines end with carriage returns alone.
    pub(super) lone_returns: bool,
}

impl Decoder {
    /// How a file is decoded that has these first bytes; `wanted` is the encoding that was said.
    ///
    /// # Errors
    /// It is a file of another format, or an archive of which one cannot say which file is meant.
    pub(super) fn of(path: &Path, shown: &str, first: &[u8], wanted: Encoding) -> Result<Decoder> {
        let compression = Compression::of_file(path, first).map_err(|e| place::unreadable(path, &e))?;
        if let Some(format) = other_format(first).filter(|_| compression == Compression::None) {
            return Err(Error::new(
                ErrorKind::Input,
                format!("{shown} is {format}, which is not read as text."),
            )
            .next("Give it the ending of its format, or say which it is: with (format = …)."));
        }
        let charset = charset(first, compression, wanted);
        Ok(Decoder { compression, charset, lone_returns: false })
    }

    /// Whether the bytes need no decoding.
    pub(super) fn is_text_itself(self) -> bool {
        self.compression == Compression::None && self.charset.is_none() && !self.lone_returns
    }

    pub(super) fn reader(self, raw: Box<dyn Read + Send>) -> std::io::Result<Box<dyn Read + Send>> {
        let plain = self.compression.reader(raw)?;
        let text: Box<dyn Read + Send> = match self.charset {
            // UTF-8 is passed through as it is, so that a bad byte is found with its place.
            None => plain,
            Some(charset) => Box::new(Decoding::new(plain, charset)),
        };
        Ok(if self.lone_returns { Box::new(LineFeeds::new(text)) } else { text })
    }
}

/// What a file is that is no text, by its first bytes. A text may start with the same letters: then no byte of zero or
/// the like follows them.
fn other_format(first: &[u8]) -> Option<&'static str> {
    let known: [(&[u8], &str); 6] = [
        (b"PAR1", "a Parquet file"),
        (b"ARROW1", "an Arrow file"),
        (b"PK\x03\x04", "a workbook or another packed file"),
        (b"Obj\x01", "an Avro file"),
        (b"ORC", "an ORC file"),
        (b"%PDF-", "a PDF document"),
    ];
    let is_text = !place::has_control_bytes(first);
    known.iter().find(|(mark, _)| first.starts_with(mark) && !is_text).map(|(_, format)| *format)
}

/// The encoding to decode from; `None` if the bytes are UTF-8 and need none.
fn charset(first: &[u8], compression: Compression, wanted: Encoding) -> Option<&'static Charset> {
    match (first, wanted) {
        ([0xff, 0xfe, ..], _) => Some(UTF_16LE),
        ([0xfe, 0xff, ..], _) => Some(UTF_16BE),
        (_, Encoding::Utf16) => Some(charset::utf16_without_mark(first).unwrap_or(UTF_16LE)),
        (_, Encoding::Latin1) => Some(WINDOWS_1252),
        _ if compression != Compression::None => None,
        _ => charset::utf16_without_mark(first),
    }
}
