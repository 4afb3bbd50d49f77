//! ORC files among the formats.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Field, Result, Type};

use super::source::OrcSource;
use super::write::{OrcWriter, is_written};
use crate::binary::{Out, RowWriter, WriterResources};
use crate::format::known::ORC;
use crate::format::{Codec, FileFormat, Opening, WriteOptions};
use crate::source::Source;

/// ORC files.
#[derive(Debug)]
pub(crate) struct OrcFormat;

impl FileFormat for OrcFormat {
    fn title(&self) -> &str {
        ORC.title
    }

    fn names(&self) -> Vec<&str> {
        ORC.names.to_vec()
    }

    fn is_text(&self) -> bool {
        false
    }

    fn reads_parts(&self) -> bool {
        true
    }

    fn starts(&self, first: &[u8]) -> bool {
        (ORC.starts)(first)
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(OrcSource::new(files, &opening)?))
    }

    /// Columns of single values that have a type in ORC which the encoder knows.
    fn holds(&self, fields: &[Field]) -> Result<()> {
        let Some(field) = fields.iter().find(|field| !is_written(&field.kind)) else { return Ok(()) };
        let (column, kind) = (name(&field.name), &field.kind);
        let what = format!("An ORC file is written without values of type {kind}, and {column} has them.");
        let instead = if matches!(kind, Type::Decimal(..)) { "float" } else { "text" };
        Err(Error::new(ErrorKind::Type, what)
            .why("It is written of the types bool, int, float, text, date, timestamp and binary.")
            .next(format!(
                "Write a Parquet file, or another type: add {column} = cast({column} as {instead})."
            )))
    }

    fn codecs(&self) -> &[Codec] {
        &[Codec::None, Codec::Deflate, Codec::Snappy, Codec::Lz4, Codec::Zstd]
    }

    fn writer(
        &self,
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        _: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        Ok(Some(Box::new(OrcWriter::new(out, fields, options)?)))
    }
}
