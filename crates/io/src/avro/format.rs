//! Avro files among the formats.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Field, Result};

use super::source::AvroSource;
use super::write::{AvroWriter, is_name};
use crate::binary::without_intervals;
use crate::binary::{Out, RowWriter, WriterResources};
use crate::format::known::AVRO;
use crate::format::{Codec, FileFormat, Opening, WriteOptions};
use crate::source::Source;

/// Avro files.
#[derive(Debug)]
pub(crate) struct AvroFormat;

impl FileFormat for AvroFormat {
    fn title(&self) -> &str {
        AVRO.title
    }

    fn names(&self) -> Vec<&str> {
        AVRO.names.to_vec()
    }

    fn is_text(&self) -> bool {
        false
    }

    fn starts(&self, first: &[u8]) -> bool {
        (AVRO.starts)(first)
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(AvroSource::new(files, &opening.base, opening.options.file_column.as_deref())?))
    }

    fn holds(&self, fields: &[Field]) -> Result<()> {
        without_intervals(self, fields)?;
        let Some(field) = fields.iter().find(|field| !is_name(&field.name)) else { return Ok(()) };
        let column = name(&field.name);
        let what = format!("A field of an Avro file cannot be called {column}.");
        Err(Error::new(ErrorKind::Name, what)
            .why("Its name is made of ASCII letters, digits and _, and starts with no digit.")
            .next(format!("Rename it: rename field = {column}.")))
    }

    fn codecs(&self) -> &[Codec] {
        &[Codec::None, Codec::Deflate, Codec::Snappy, Codec::Zstd, Codec::Bzip2, Codec::Xz]
    }

    fn has_levels(&self) -> bool {
        true
    }

    fn writer(
        &self,
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        _: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        Ok(Some(Box::new(AvroWriter::new(out, fields, options)?)))
    }
}
