//! Formats of files: what each is called, how its files are known, read and written; and the catalogue of them.
//!
//! A format implements [`FileFormat`] in a file of its folder, and has a line in `OURS`. Nothing else lists all formats.

#[cfg(not(all(
    feature = "parquet",
    feature = "arrow-ipc",
    feature = "avro",
    feature = "orc",
    feature = "workbook",
    feature = "json"
)))]
mod absent;
mod encoder;
pub(crate) mod known;
mod options;
mod own;

use std::collections::HashMap;
use std::fmt;
use std::ops::Deref;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock};

use churn_core::error::nearest;
use churn_core::names::comma;
use churn_core::{Error, ErrorKind, Field, Result};

pub use encoder::{Encoder, LineEncoder, LineForm};
pub use options::{Codec, TextEncoding, WriteOptions};
pub use own::{OwnFormat, OwnWriter};

use super::binary::{Out, RowWriter, WriterResources};
use super::csv::{Csv, CsvOptions, Tsv};
use super::markdown::Markdown;
use super::place::without_compression;
use super::source::{FetchedSource, ReadResources, Source};
use super::store::{RemoteFile, Transfer};
use super::{place, store, streams, zip};

/// What a format of files is, and what it can do.
pub trait FileFormat: fmt::Debug + Send + Sync + 'static {
    /// What plans and messages call it.
    fn title(&self) -> &str;

    /// The names it goes by, in `with (format = …)` and at the end of files' names; files are written under the first.
    fn names(&self) -> Vec<&str>;

    /// Whether it is text: read from front to back, compressed as a whole, encoded by many workers. All else is read at more
    /// than one place, and written in order.
    fn is_text(&self) -> bool;

    /// Whether parts of its files are read where they are, if their store sends parts; else a copy of the file is read.
    fn reads_parts(&self) -> bool {
        false
    }

    /// Whether a file that starts so is one.
    fn starts(&self, _first: &[u8]) -> bool {
        false
    }

    /// What files that are read in the same way have in common; formats that share it may be read as one table.
    fn kind(&self) -> &str {
        self.title()
    }

    /// Opens files as one table.
    ///
    /// # Errors
    /// A file cannot be read, is damaged, or holds what the language lacks.
    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>>;

    /// Whether an option of `read` means something to it.
    fn reads_with(&self, option: &str) -> bool {
        ["format", "file_column"].contains(&option)
    }

    /// Checks that a file of this name can be written.
    ///
    /// # Errors
    /// Files of this format, or of this ending, are read only.
    fn may_be_written(&self, _path: &Path) -> Result<()> {
        Ok(())
    }

    /// Checks that rows can be added to a file that is there.
    ///
    /// # Errors
    /// They cannot.
    fn may_be_extended(&self) -> Result<()> {
        if self.is_text() {
            return Ok(());
        }
        Err(Error::new(ErrorKind::Check, "Rows cannot be appended to a columnar file.")
            .next("Write a file of its own beside it: read takes both as one table."))
    }

    /// Checks that files of the format hold values of the types of some columns.
    ///
    /// # Errors
    /// They do not.
    fn holds(&self, _fields: &[Field]) -> Result<()> {
        Ok(())
    }

    /// The byte between cells, of delimited text.
    fn separator(&self, _options: &WriteOptions) -> Option<u8> {
        None
    }

    /// Whether its files have sheets.
    fn has_sheets(&self) -> bool {
        false
    }

    /// The compressions that its files can have within.
    fn codecs(&self) -> &[Codec] {
        &[Codec::None]
    }

    /// Whether these have levels.
    fn has_levels(&self) -> bool {
        false
    }

    /// What encodes rows of a text format; `None` for all else.
    fn encoder(&self, _fields: &[Field], _options: &WriteOptions) -> Option<Box<dyn Encoder>> {
        None
    }

    /// What writes rows of a format that is not text; `None` for text.
    ///
    /// # Errors
    /// The start of the file cannot be written.
    fn writer(
        &self,
        _out: Out,
        _fields: &[Field],
        _options: &WriteOptions,
        _resources: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        Ok(None)
    }
}

/// How files are opened as one table.
#[derive(Clone, Debug, Default)]
pub struct Opening {
    /// The folder that messages show paths relative to.
    pub base: PathBuf,
    /// The options of `read`, of which a format takes what means something to it.
    pub options: CsvOptions,
    /// What may be used.
    pub resources: ReadResources,
    /// Counts what is fetched from stores.
    pub(crate) transfer: Arc<Transfer>,
    /// Those of the files of which parts are fetched.
    pub(crate) remote: HashMap<PathBuf, RemoteFile>,
}

impl Opening {
    /// How files are opened whose paths are shown relative to a folder.
    pub fn new(base: PathBuf, options: CsvOptions, resources: ReadResources) -> Opening {
        Opening { base, options, resources, ..Opening::default() }
    }

    /// The files with copies in place of those that are streams, for a format that is read at more than one place; and the
    /// folders of these copies, with which they vanish. Files of which parts can be fetched stay where they are, if the format
    /// wants it so.
    ///
    /// # Errors
    /// A stream cannot be read, or not kept.
    fn copied(
        &mut self,
        files: &[PathBuf],
        reads_parts: bool,
    ) -> Result<(Vec<PathBuf>, Vec<super::temporary::Folder>)> {
        let (mut copies, mut folders) = (Vec::new(), Vec::new());
        if reads_parts {
            self.open_parts(files)?;
        }
        for file in files {
            if streams::is_stream(file) && !self.remote.contains_key(file) {
                let (folder, copy) = streams::spool(file, &self.resources, &self.transfer)?;
                folders.push(folder);
                copies.push(copy);
            } else {
                copies.push(file.clone());
            }
        }
        // A single stream is told of by its own name.
        if let (Some(folder), [_]) = (folders.first(), files) {
            folder.path().clone_into(&mut self.base);
        }
        Ok((copies, folders))
    }

    /// Opens those of the files of which parts can be fetched.
    fn open_parts(&mut self, files: &[PathBuf]) -> Result<()> {
        let addresses: Vec<PathBuf> = files.iter().filter(|file| store::is_address(file)).cloned().collect();
        let Some(first) = addresses.first() else { return Ok(()) };
        let opened = RemoteFile::open_all(&addresses, &self.transfer);
        for (file, opened) in addresses.iter().zip(opened.map_err(|e| place::unreadable(first, &e))?) {
            if let Some(remote) = opened.map_err(|e| place::unreadable(file, &e))? {
                streams::let_go(file);
                self.remote.insert(file.clone(), remote);
            }
        }
        Ok(())
    }
}

/// A format of the catalogue.
#[derive(Clone, Debug)]
pub struct Format(Arc<dyn FileFormat>);

impl Deref for Format {
    type Target = dyn FileFormat;

    fn deref(&self) -> &(dyn FileFormat + 'static) {
        &*self.0
    }
}

impl PartialEq for Format {
    fn eq(&self, other: &Format) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.title())
    }
}

impl Format {
    /// A format that is in no catalogue yet.
    pub fn new(format: impl FileFormat) -> Format {
        Format(Arc::new(format))
    }

    /// The ending of its files' names.
    pub(crate) fn ending(&self) -> &str {
        self.names().first().copied().unwrap_or_default()
    }

    /// Whether files of both formats are read in the same way.
    pub fn is_read_as(&self, other: &Format) -> bool {
        self.kind() == other.kind()
    }

    /// Opens files as one table; streams from copies, unless the format is text.
    ///
    /// # Errors
    /// As [`FileFormat::open`].
    pub fn open_files(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        let mut opening = Opening { transfer: Arc::default(), ..opening };
        let fetches = files.iter().any(|file| store::is_address(file));
        if !fetches && (self.is_text() || !files.iter().any(|file| streams::is_stream(file))) {
            return self.open(files, opening);
        }
        let (files, folders) = match self.is_text() {
            true => (files.to_owned(), Vec::new()),
            false => opening.copied(files, self.reads_parts())?,
        };
        let transfers = fetches.then(|| opening.transfer.clone()).into_iter().collect();
        Ok(Arc::new(FetchedSource::new(self.open(&files, opening)?, transfers, folders)))
    }
}

/// The format of a feature: itself where this build has it, else one that tells so.
macro_rules! of_feature {
    ($feature:literal, $format:expr, $known:expr) => {{
        #[cfg(feature = $feature)]
        let format = Format::new($format);
        #[cfg(not(feature = $feature))]
        let format = Format::new(absent::Absent { known: $known, feature: $feature });
        format
    }};
}

/// The formats of the library, in the order in which first bytes are held against them; the line to add for a new one.
static OURS: LazyLock<Vec<Format>> = LazyLock::new(|| {
    vec![
        Format::new(Csv),
        Format::new(Tsv),
        of_feature!("json", super::json::Json, known::JSON),
        of_feature!("json", super::json::NdJson, known::NDJSON),
        Format::new(Markdown),
        of_feature!("parquet", super::parquet::ParquetFormat, known::PARQUET),
        of_feature!("arrow-ipc", super::arrow::ArrowFormat, known::ARROW),
        of_feature!("avro", super::avro::AvroFormat, known::AVRO),
        of_feature!("orc", super::orc::OrcFormat, known::ORC),
        of_feature!("workbook", super::workbook::WorkbookFormat, known::WORKBOOK),
    ]
});

/// The formats that there are: those of the library, and a user's own.
#[derive(Clone, Debug, Default)]
pub struct Formats {
    own: Vec<Format>,
}

impl Formats {
    /// With one more format.
    ///
    /// # Errors
    /// There is one that goes by one of its names; it has no name.
    pub fn with(mut self, format: Format) -> Result<Formats> {
        let names = format.names();
        if names.is_empty() {
            return Err(Error::new(ErrorKind::Name, format!("The format {format} has no name.")));
        }
        if let Some(name) = names.iter().find(|name| self.find(name).is_some()) {
            let what = format!("There is a format {name} already.");
            return Err(Error::new(ErrorKind::Name, what).next("Give yours another name."));
        }
        self.own.push(format);
        Ok(self)
    }

    /// All formats, a user's own first: they are the ones that were asked for.
    pub fn all(&self) -> impl Iterator<Item = &Format> {
        self.own.iter().chain(OURS.iter())
    }

    /// Both together; a format of both must be the same one.
    ///
    /// # Errors
    /// Both have a format of one name, and not the same.
    pub fn together(self, other: &Formats) -> Result<Formats> {
        other.own.iter().try_fold(self, |formats, format| {
            if formats.own.contains(format) { Ok(formats) } else { formats.with(format.clone()) }
        })
    }

    fn find(&self, word: &str) -> Option<&Format> {
        self.all().find(|format| format.names().iter().any(|name| name.eq_ignore_ascii_case(word)))
    }

    /// By name.
    ///
    /// # Errors
    /// There is none of that name.
    pub fn named(&self, word: &str) -> Result<Format> {
        self.find(word).cloned().ok_or_else(|| {
            let names: Vec<&str> = self.all().flat_map(|format| format.names()).collect();
            let error = Error::new(ErrorKind::Check, format!("There is no format {word}."))
                .why(format!("The formats are {}.", comma(&names)));
            match nearest(word, names) {
                Some(near) => error.next(format!("Did you mean {near}?")),
                None => error,
            }
        })
    }

    /// By a file's name; `None` if its ending tells nothing.
    pub fn of(&self, path: &Path) -> Option<Format> {
        let plain = without_compression(path);
        self.find(plain.extension()?.to_str()?).cloned()
    }

    /// By a file's name, that of the one file within a zip archive, or that at the end of an address.
    pub fn of_file(&self, path: &Path) -> Option<Format> {
        if let Some(at) = store::at(path) {
            return self.of(Path::new(&at.file_name()));
        }
        match zip::member_name(path) {
            Some(name) => self.of(Path::new(&name)),
            None => self.of(path),
        }
    }

    /// By the first bytes of a file; `None` if they are those of no format that has marks.
    pub fn of_bytes(&self, first: &[u8]) -> Option<Format> {
        self.all().find(|format| format.starts(first)).cloned()
    }

    /// Delimited text, which is what nothing else is known to be.
    pub fn csv(&self) -> Format {
        OURS.iter().find(|format| format.title() == Csv.title()).cloned().unwrap_or_else(|| Format::new(Csv))
    }
}

/// The error of a file that is not as files of the format are, and why.
pub(crate) fn damaged(format: &impl FileFormat, shown: &str, why: &str) -> Error {
    Error::new(ErrorKind::Data, format!("The {} file cannot be read.", format.title()))
        .in_file(shown, None, None)
        .why(format!("Its reader says: {}.", why.trim_end_matches('.')))
        .next("It may be cut short or damaged: fetch or write it again.")
}
