//! ORC files among the formats.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result};

use super::source::OrcSource;
use crate::format::known::ORC;
use crate::format::{FileFormat, Opening};
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

    /// What would write them has no decimals, lists and statistics.
    fn may_be_written(&self, _: &Path) -> Result<()> {
        Err(Error::new(ErrorKind::Check, "ORC files are read, not written.").next("Write a Parquet file."))
    }
}
