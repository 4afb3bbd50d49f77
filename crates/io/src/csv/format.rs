//! Delimited text among the formats: cells between commas, or other bytes, and cells between tabs.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::{Field, Result};

use super::encoded::encoded;
use super::source::CsvSource;
use super::write::CsvEncoder;
use crate::format::{Encoder, FileFormat, Opening, WriteOptions};
use crate::source::Source;

/// Cells between commas.
#[derive(Debug)]
pub(crate) struct Csv;

impl FileFormat for Csv {
    fn title(&self) -> &str {
        "CSV"
    }

    fn names(&self) -> Vec<&str> {
        vec!["csv", "txt"]
    }

    fn is_text(&self) -> bool {
        true
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(CsvSource::new(files, &opening)?))
    }

    fn reads_with(&self, _: &str) -> bool {
        true
    }

    fn separator(&self, options: &WriteOptions) -> Option<u8> {
        Some(options.separator)
    }

    fn encoder(&self, fields: &[Field], options: &WriteOptions) -> Option<Box<dyn Encoder>> {
        Some(encoded(CsvEncoder::new(fields, options.clone()), options.encoding))
    }
}

/// Cells between tabs.
#[derive(Debug)]
pub(crate) struct Tsv;

impl FileFormat for Tsv {
    fn title(&self) -> &str {
        "TSV"
    }

    fn names(&self) -> Vec<&str> {
        vec!["tsv"]
    }

    fn is_text(&self) -> bool {
        true
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Csv.open(files, opening)
    }

    fn reads_with(&self, _: &str) -> bool {
        true
    }

    fn separator(&self, _: &WriteOptions) -> Option<u8> {
        Some(b'\t')
    }

    fn encoder(&self, fields: &[Field], options: &WriteOptions) -> Option<Box<dyn Encoder>> {
        Csv.encoder(fields, &WriteOptions { separator: b'\t', ..options.clone() })
    }
}
