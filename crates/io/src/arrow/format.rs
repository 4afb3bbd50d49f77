//! Arrow's files and streams among the formats.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::{Field, Result};

use super::source::ArrowSource;
use super::write::ArrowWriter;
use crate::binary::{Out, RowWriter, WriterResources};
use crate::format::known::ARROW;
use crate::format::{Codec, FileFormat, Opening, WriteOptions};
use crate::source::Source;

/// Arrow's files and streams.
#[derive(Debug)]
pub(crate) struct ArrowFormat;

impl FileFormat for ArrowFormat {
    fn title(&self) -> &str {
        ARROW.title
    }

    fn names(&self) -> Vec<&str> {
        ARROW.names.to_vec()
    }

    fn is_text(&self) -> bool {
        false
    }

    fn reads_parts(&self) -> bool {
        true
    }

    fn starts(&self, first: &[u8]) -> bool {
        (ARROW.starts)(first)
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(ArrowSource::new(files, &opening)?))
    }

    fn codecs(&self) -> &[Codec] {
        &[Codec::None, Codec::Lz4, Codec::Zstd]
    }

    fn writer(
        &self,
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        _: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        Ok(Some(Box::new(ArrowWriter::new(out, fields, options)?)))
    }
}
