//! Formats by name, and what each offers for writing.

use std::fmt;
use std::path::Path;

use arrow_array::BinaryViewArray;
use churn_core::error::nearest;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Type};

use super::arrow::write::ArrowWriter;
use super::avro::write::{AvroWriter, is_name};
use super::binary::{Out, RowWriter, WriterResources};
use super::csv::encoded::encoded;
use super::csv::write::CsvEncoder;
use super::json::write::JsonEncoder;
use super::markdown::MarkdownEncoder;
use super::parquet::write::ParquetWriter;
use super::place::{has_control_bytes, without_compression};
use super::web;
use super::workbook::write::WorkbookWriter;
use super::zip;

/// Rows into bytes. Batches are encoded by many workers and written in order.
pub trait Encoder: Send + Sync {
    /// What stands before the rows.
    fn start(&self) -> Vec<u8>;
    /// The rows of a batch; `ready` has those that are lines already, of an encoder that gives its lines a form.
    fn rows(&self, batch: &Batch, ready: Option<&BinaryViewArray>) -> Result<Vec<u8>>;
    /// Values of a batch that the format cannot write, and that become null.
    fn lost(&self, _batch: &Batch) -> usize {
        0
    }
    /// What writes rows as lines of their own, if those of this format are such.
    fn by_line(self: Box<Self>) -> Option<Box<dyn LineEncoder>> {
        None
    }
    /// The form of its lines, if sources may have rows in it.
    fn line_form(&self) -> Option<LineForm> {
        None
    }
    /// What stands between the rows of two batches.
    fn between(&self) -> &'static [u8] {
        b""
    }
    /// What stands after the rows.
    fn end(&self) -> &'static [u8] {
        b""
    }
}

/// Rows into lines, each the same whatever stands around it.
pub trait LineEncoder: Encoder {
    /// Lines without their ends: those that stand somewhere, and in the places of null among them the rows of a batch;
    /// these alone if none stand.
    fn lines(&self, batch: &Batch, standing: Option<&BinaryViewArray>) -> Result<BinaryViewArray>;
}

/// Cells with separators between them, texts in double quotes only where they need them, null the empty cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineForm {
    pub(crate) separator: u8,
}

/// How a file is compressed within, or as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Codec {
    /// No compression.
    None,
    /// Gzip.
    Gzip,
    /// Deflate.
    Deflate,
    /// Zstandard.
    Zstd,
    /// Snappy.
    Snappy,
    /// LZ4.
    Lz4,
    /// Brotli.
    Brotli,
}

/// The names of compressions.
const CODECS: [(&str, Codec); 7] = [
    ("none", Codec::None),
    ("gzip", Codec::Gzip),
    ("deflate", Codec::Deflate),
    ("zstd", Codec::Zstd),
    ("snappy", Codec::Snappy),
    ("lz4", Codec::Lz4),
    ("brotli", Codec::Brotli),
];

impl Codec {
    /// By name.
    pub fn named(word: &str) -> Option<Codec> {
        CODECS.iter().find(|(name, _)| *name == word).map(|(_, codec)| *codec)
    }

    /// The lowest and the highest level, where there are levels.
    pub fn levels(self) -> Option<(i32, i32)> {
        match self {
            Codec::Gzip | Codec::Deflate => Some((0, 9)),
            Codec::Zstd => Some((1, 22)),
            Codec::Brotli => Some((0, 11)),
            _ => None,
        }
    }
}

impl fmt::Display for Codec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = CODECS.iter().find(|(_, codec)| codec == self);
        f.write_str(name.map_or("none", |(name, _)| name))
    }
}

/// The encoding of text that is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TextEncoding {
    /// UTF-8 without a mark of byte order.
    #[default]
    Utf8,
    /// UTF-8 with a mark, as some spreadsheets want it.
    Utf8Marked,
    /// UTF-16, the low byte first, with a mark.
    Utf16,
    /// Windows-1252, of which Latin-1 is most.
    Latin1,
}

/// The names of encodings.
const ENCODINGS: [(&str, TextEncoding); 4] = [
    ("utf-8", TextEncoding::Utf8),
    ("utf-8-bom", TextEncoding::Utf8Marked),
    ("utf-16", TextEncoding::Utf16),
    ("latin1", TextEncoding::Latin1),
];

impl TextEncoding {
    /// By name.
    pub fn named(word: &str) -> Option<TextEncoding> {
        ENCODINGS.iter().find(|(name, _)| name.eq_ignore_ascii_case(word)).map(|(_, encoding)| *encoding)
    }
}

/// How a file is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WriteOptions {
    /// The byte between cells.
    pub separator: u8,
    /// Whether names are written first.
    pub header: bool,
    /// What is written for null.
    pub missing: String,
    /// Whether every cell is quoted.
    pub quote_always: bool,
    /// The byte before the decimals of numbers.
    pub decimal: u8,
    /// Whether lines end with a carriage return and a line feed.
    pub crlf: bool,
    /// The encoding of text.
    pub encoding: TextEncoding,
    /// The name of the sheet of a workbook.
    pub sheet: Option<String>,
    /// The place of the table among those of its file.
    pub order: usize,
    /// How a workbook shows the numbers and dates of some columns.
    pub number_formats: Vec<(String, String)>,
    /// The compression, where the format's own is not wanted.
    pub codec: Option<Codec>,
    /// The level of compression.
    pub level: Option<i32>,
    /// Columns that the rows are sorted by: name, descending, nulls first.
    pub sorted_by: Vec<(String, bool, bool)>,
    /// Columns by whose values rows go to files of their own, in a folder.
    pub split_by: Vec<String>,
}

impl Default for WriteOptions {
    fn default() -> Self {
        WriteOptions {
            separator: b',',
            header: true,
            missing: String::new(),
            quote_always: false,
            decimal: b'.',
            crlf: false,
            encoding: TextEncoding::Utf8,
            sheet: None,
            order: 0,
            number_formats: Vec::new(),
            codec: None,
            level: None,
            sorted_by: Vec::new(),
            split_by: Vec::new(),
        }
    }
}

/// A file format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// Cells between commas.
    Csv,
    /// Cells between tabs.
    Tsv,
    /// One array of records.
    Json,
    /// A record a line.
    NdJson,
    /// A table of Markdown; only written.
    Markdown,
    /// Parquet.
    Parquet,
    /// Arrow's files and streams.
    Arrow,
    /// Avro.
    Avro,
    /// Sheets of workbooks.
    Workbook,
}

/// The names a format goes by; the line to add for a new one.
const NAMES: &[(&str, Format)] = &[
    ("csv", Format::Csv),
    ("txt", Format::Csv),
    ("tsv", Format::Tsv),
    ("json", Format::Json),
    ("ndjson", Format::NdJson),
    ("jsonl", Format::NdJson),
    ("md", Format::Markdown),
    ("markdown", Format::Markdown),
    ("parquet", Format::Parquet),
    ("arrow", Format::Arrow),
    ("feather", Format::Arrow),
    ("avro", Format::Avro),
    ("xlsx", Format::Workbook),
    ("xlsm", Format::Workbook),
    ("xlsb", Format::Workbook),
    ("xls", Format::Workbook),
    ("ods", Format::Workbook),
];

/// Names of workbooks that are read and not written.
const ONLY_READ: &[&str] = &["xlsm", "xlsb", "xls", "ods"];

impl Format {
    /// By name.
    pub fn named(word: &str) -> Result<Format> {
        let found = NAMES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word));
        found.map(|(_, format)| *format).ok_or_else(|| {
            let error = Error::new(ErrorKind::Check, format!("There is no format {word}."))
                .why(format!("The formats are {}.", churn_core::names::comma(NAMES.iter().map(|(n, _)| n))));
            match nearest(word, NAMES.iter().map(|(n, _)| *n)) {
                Some(near) => error.next(format!("Did you mean {near}?")),
                None => error,
            }
        })
    }

    /// By a file's name; `None` if its ending tells nothing.
    pub fn of(path: &Path) -> Option<Format> {
        let plain = without_compression(path);
        let ending = plain.extension()?.to_str()?;
        Format::named(ending).ok()
    }

    /// By a file's name, that of the one file within a zip archive, or that at the end of an address.
    pub fn of_file(path: &Path) -> Option<Format> {
        if web::is_address(path) {
            return Format::of(Path::new(&web::file_name(path)));
        }
        match zip::member_name(path) {
            Some(name) => Format::of(Path::new(&name)),
            None => Format::of(path),
        }
    }

    /// Whether a file of this name is read only: its ending, then.
    pub fn only_read(path: &Path) -> Option<&str> {
        let ending = path.extension()?.to_str()?;
        ONLY_READ.iter().any(|name| name.eq_ignore_ascii_case(ending)).then_some(ending)
    }

    /// The ending of its files' names.
    pub(crate) fn ending(self) -> &'static str {
        NAMES.iter().find(|(_, format)| *format == self).map_or("csv", |(name, _)| name)
    }

    /// Whether files of both formats are read in the same way.
    pub fn is_read_as(self, other: Format) -> bool {
        let is_json = |format: Format| matches!(format, Format::Json | Format::NdJson);
        self == other || is_json(self) && is_json(other)
    }

    /// By the first bytes of a file; `None` if they are those of no format that has marks.
    pub fn of_bytes(first: &[u8]) -> Option<Format> {
        let is_binary = has_control_bytes(first);
        match first {
            [b'P', b'A', b'R', b'1', ..] if is_binary => Some(Format::Parquet),
            [b'A', b'R', b'R', b'O', b'W', b'1', ..] if is_binary => Some(Format::Arrow),
            [b'O', b'b', b'j', 1, ..] => Some(Format::Avro),
            // A stream of Arrow batches: the mark of a message and the bytes of its length.
            [0xff, 0xff, 0xff, 0xff, _, _, 0, 0, ..] => Some(Format::Arrow),
            [b'P', b'K', 3, 4, ..] | [0xd0, 0xcf, 0x11, 0xe0, ..] => Some(Format::Workbook),
            _ => starts_a_record(first).then_some(Format::Json),
        }
    }

    /// Whether an option of `read` means something to it.
    pub fn reads_with(self, option: &str) -> bool {
        let any = ["format", "file_column"];
        let records = ["types", "missing", "dates", "bad_cells"];
        match self {
            Format::Csv | Format::Tsv | Format::Markdown => true,
            Format::Json | Format::NdJson => any.contains(&option) || records.contains(&option),
            Format::Parquet | Format::Arrow | Format::Avro => any.contains(&option),
            Format::Workbook => {
                let text = ["separator", "quote", "comment", "decimal", "thousands", "encoding"];
                !text.contains(&option)
            }
        }
    }

    /// The compressions that its files can have within.
    pub fn codecs(self) -> &'static [Codec] {
        match self {
            Format::Parquet => {
                &[Codec::None, Codec::Snappy, Codec::Zstd, Codec::Gzip, Codec::Lz4, Codec::Brotli]
            }
            Format::Arrow => &[Codec::None, Codec::Lz4, Codec::Zstd],
            Format::Avro => &[Codec::None, Codec::Deflate, Codec::Snappy, Codec::Zstd],
            _ => &[Codec::None],
        }
    }

    /// Whether it is text, encoded by many workers and put together in order.
    pub fn is_text(self) -> bool {
        !matches!(self, Format::Parquet | Format::Arrow | Format::Avro | Format::Workbook)
    }

    /// What encodes rows of a text format; `None` for a columnar one.
    pub fn encoder(self, fields: &[Field], options: &WriteOptions) -> Option<Box<dyn Encoder>> {
        Some(match self {
            Format::Csv => encoded(CsvEncoder::new(fields, options.clone()), options.encoding),
            Format::Tsv => {
                let tabs = WriteOptions { separator: b'\t', ..options.clone() };
                encoded(CsvEncoder::new(fields, tabs), options.encoding)
            }
            Format::Json => Box::new(JsonEncoder::new(fields, true)),
            Format::NdJson => Box::new(JsonEncoder::new(fields, false)),
            Format::Markdown => Box::new(MarkdownEncoder::new(fields)),
            Format::Parquet | Format::Arrow | Format::Avro | Format::Workbook => return None,
        })
    }

    /// Checks that files of the format hold values of the types of some columns.
    ///
    /// # Errors
    /// They do not.
    pub fn holds(self, fields: &[Field]) -> Result<()> {
        let interval = fields.iter().find(|field| field.kind == Type::Interval);
        if let Some(field) = interval.filter(|_| matches!(self, Format::Parquet | Format::Avro)) {
            let column = churn_core::names::name(&field.name);
            let what =
                format!("{self} files hold no intervals of months and microseconds, and {column} is one.");
            let next = format!("Write it as text: add {column} = cast({column} as text).");
            return Err(Error::new(ErrorKind::Type, what).next(next));
        }
        if let Some(field) = fields.iter().find(|field| self == Format::Avro && !is_name(&field.name)) {
            let column = churn_core::names::name(&field.name);
            let what = format!("A field of an Avro file cannot be called {column}.");
            return Err(Error::new(ErrorKind::Name, what)
                .why("Its name is made of ASCII letters, digits and _, and starts with no digit.")
                .next(format!("Rename it: rename field = {column}.")));
        }
        Ok(())
    }

    /// The error of a file that is not as files of the format are, and why.
    pub(crate) fn damaged(self, shown: &str, why: &str) -> Error {
        Error::new(ErrorKind::Data, format!("The {self} file cannot be read."))
            .in_file(shown, None, None)
            .why(format!("Its reader says: {}.", why.trim_end_matches('.')))
            .next("It may be cut short or damaged: fetch or write it again.")
    }

    /// What writes rows of a columnar format; `None` for a text format.
    ///
    /// # Errors
    /// The start of the file cannot be written.
    pub fn writer(
        self,
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        resources: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        self.holds(fields)?;
        Ok(match self {
            Format::Parquet => Some(Box::new(ParquetWriter::new(out, fields, options, resources))),
            Format::Arrow => Some(Box::new(ArrowWriter::new(out, fields, options)?)),
            Format::Avro => Some(Box::new(AvroWriter::new(out, fields, options)?)),
            Format::Workbook => Some(Box::new(WorkbookWriter::new(out, fields, options)?)),
            _ => None,
        })
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Format::Csv => "CSV",
            Format::Tsv => "TSV",
            Format::Json => "JSON",
            Format::NdJson => "NDJSON",
            Format::Markdown => "Markdown",
            Format::Parquet => "Parquet",
            Format::Arrow => "Arrow",
            Format::Avro => "Avro",
            Format::Workbook => "workbook",
        })
    }
}

/// Whether a text starts as JSON records do: with a brace and a quoted name, or a bracket and a record.
fn starts_a_record(first: &[u8]) -> bool {
    let first = first.strip_prefix(b"\xef\xbb\xbf").unwrap_or(first);
    match first.trim_ascii_start() {
        [b'{', rest @ ..] => matches!(rest.trim_ascii_start().first(), Some(b'"' | b'}')),
        [b'[', rest @ ..] => matches!(rest.trim_ascii_start().first(), Some(b'{')),
        _ => false,
    }
}
