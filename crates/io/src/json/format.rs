//! JSON among the formats: an array of records, or a record a line.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Field, Result};

use super::source::{JsonOptions, JsonSource};
use super::write::JsonEncoder;
use crate::csv::BadCells;
use crate::format::known::{JSON, NDJSON};
use crate::format::{Encoder, FileFormat, Opening, WriteOptions};
use crate::source::Source;

/// Options of `read` that mean something to records.
const OPTIONS: [&str; 6] = ["format", "file_column", "types", "missing", "dates", "bad_cells"];

/// One array of records.
#[derive(Debug)]
pub(crate) struct Json;

impl FileFormat for Json {
    fn title(&self) -> &str {
        JSON.title
    }

    fn names(&self) -> Vec<&str> {
        JSON.names.to_vec()
    }

    fn is_text(&self) -> bool {
        true
    }

    fn starts(&self, first: &[u8]) -> bool {
        (JSON.starts)(first)
    }

    fn open(
        &self,
        files: &[PathBuf],
        Opening { base, options, transfer, .. }: Opening,
    ) -> Result<Arc<dyn Source>> {
        if let Some((column, _)) = options.patterns.first() {
            let what = format!("JSON has one pattern for all dates, and {} has its own.", name(column));
            return Err(Error::new(ErrorKind::Check, what).next("Say with (dates = '%d/%m/%Y')."));
        }
        let options = JsonOptions {
            types: options.types,
            missing: options.missing.unwrap_or_default(),
            dates: options.dates,
            lenient: options.bad_cells == BadCells::Null,
            file_column: options.file_column,
        };
        Ok(Arc::new(JsonSource::new(files, &base, options, &transfer)?))
    }

    fn reads_with(&self, option: &str) -> bool {
        OPTIONS.contains(&option)
    }

    fn may_be_extended(&self) -> Result<()> {
        Err(Error::new(ErrorKind::Check, "Rows cannot be appended to a JSON array.")
            .next("Write NDJSON: a record a line."))
    }

    fn encoder(&self, fields: &[Field], _: &WriteOptions) -> Option<Box<dyn Encoder>> {
        Some(Box::new(JsonEncoder::new(fields, true)))
    }
}

/// A record a line. Its files are read as those of JSON, which start alike.
#[derive(Debug)]
pub(crate) struct NdJson;

impl FileFormat for NdJson {
    fn title(&self) -> &str {
        NDJSON.title
    }

    fn names(&self) -> Vec<&str> {
        NDJSON.names.to_vec()
    }

    fn is_text(&self) -> bool {
        true
    }

    fn kind(&self) -> &str {
        Json.title()
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Json.open(files, opening)
    }

    fn reads_with(&self, option: &str) -> bool {
        Json.reads_with(option)
    }

    fn encoder(&self, fields: &[Field], _: &WriteOptions) -> Option<Box<dyn Encoder>> {
        Some(Box::new(JsonEncoder::new(fields, false)))
    }
}
