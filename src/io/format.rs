//! Formats by name, and what each offers for writing.

use std::path::Path;

use super::csv::write::CsvEncoder;
use super::json::JsonEncoder;
use super::place::without_compression;
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::expr::{Batch, Field};

/// Rows into bytes. Batches are encoded by many workers and written in order.
pub(crate) trait Encoder: Send + Sync {
    /// What stands before the rows.
    fn start(&self) -> Vec<u8>;
    /// The rows of a batch.
    fn rows(&self, batch: &Batch) -> Result<Vec<u8>>;
    /// What stands between the rows of two batches.
    fn between(&self) -> &'static [u8] {
        b""
    }
    /// What stands after the rows.
    fn end(&self) -> &'static [u8] {
        b""
    }
}

/// How text formats are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct WriteOptions {
    pub(crate) separator: u8,
    pub(crate) header: bool,
    pub(crate) missing: String,
    pub(crate) quote_always: bool,
}

impl Default for WriteOptions {
    fn default() -> Self {
        WriteOptions { separator: b',', header: true, missing: String::new(), quote_always: false }
    }
}

/// A file format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Format {
    Csv,
    Tsv,
    Json,
    NdJson,
}

/// The names a format goes by; the line to add for a new one.
const NAMES: &[(&str, Format)] = &[
    ("csv", Format::Csv),
    ("txt", Format::Csv),
    ("tsv", Format::Tsv),
    ("json", Format::Json),
    ("ndjson", Format::NdJson),
    ("jsonl", Format::NdJson),
];

impl Format {
    /// By name.
    pub(crate) fn named(word: &str) -> Result<Format> {
        let found = NAMES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word));
        found.map(|(_, format)| *format).ok_or_else(|| {
            let error = Error::new(ErrorKind::Check, format!("There is no format {word}."))
                .why(format!("The formats are {}.", crate::text::comma(NAMES.iter().map(|(n, _)| n))));
            match nearest(word, NAMES.iter().map(|(n, _)| *n)) {
                Some(near) => error.next(format!("Did you mean {near}?")),
                None => error,
            }
        })
    }

    /// By a file's name; `None` if its ending tells nothing.
    pub(crate) fn of(path: &Path) -> Option<Format> {
        let plain = without_compression(path);
        let ending = plain.extension()?.to_str()?;
        Format::named(ending).ok()
    }

    /// Whether it is delimited text.
    pub(crate) fn is_delimited(self) -> bool {
        matches!(self, Format::Csv | Format::Tsv)
    }

    /// What writes it.
    pub(crate) fn encoder(self, fields: &[Field], options: &WriteOptions) -> Box<dyn Encoder> {
        match self {
            Format::Csv => Box::new(CsvEncoder::new(fields, options.clone())),
            Format::Tsv => {
                Box::new(CsvEncoder::new(fields, WriteOptions { separator: b'\t', ..options.clone() }))
            }
            Format::Json => Box::new(JsonEncoder::new(fields, true)),
            Format::NdJson => Box::new(JsonEncoder::new(fields, false)),
        }
    }
}
