//! Parquet files among the formats.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::{Field, Result};

use super::source::ParquetSource;
use super::write::ParquetWriter;
use crate::binary::without_intervals;
use crate::binary::{Out, RowWriter, WriterResources};
use crate::format::known::PARQUET;
use crate::format::{Codec, FileFormat, Opening, WriteOptions};
use crate::source::Source;

/// Parquet files.
#[derive(Debug)]
pub(crate) struct ParquetFormat;

impl FileFormat for ParquetFormat {
    fn title(&self) -> &str {
        PARQUET.title
    }

    fn names(&self) -> Vec<&str> {
        PARQUET.names.to_vec()
    }

    fn is_text(&self) -> bool {
        false
    }

    fn reads_parts(&self) -> bool {
        true
    }

    fn starts(&self, first: &[u8]) -> bool {
        (PARQUET.starts)(first)
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(ParquetSource::new(files, &opening)?))
    }

    fn holds(&self, fields: &[Field]) -> Result<()> {
        without_intervals(self, fields)
    }

    fn codecs(&self) -> &[Codec] {
        &[Codec::None, Codec::Snappy, Codec::Zstd, Codec::Gzip, Codec::Lz4, Codec::Brotli]
    }

    fn has_levels(&self) -> bool {
        true
    }

    fn writer(
        &self,
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        resources: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        Ok(Some(Box::new(ParquetWriter::new(out, fields, options, resources))))
    }
}
