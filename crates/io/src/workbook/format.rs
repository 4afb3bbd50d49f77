//! Sheets of workbooks among the formats.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use churn_core::{Error, ErrorKind, Field, Result};

use super::read::WorkbookSource;
use super::write::WorkbookWriter;
use crate::binary::{Out, RowWriter, WriterResources};
use crate::format::known::WORKBOOK;
use crate::format::{FileFormat, Opening, WriteOptions};
use crate::source::Source;

/// Sheets of workbooks.
#[derive(Debug)]
pub(crate) struct WorkbookFormat;

impl FileFormat for WorkbookFormat {
    fn title(&self) -> &str {
        WORKBOOK.title
    }

    fn names(&self) -> Vec<&str> {
        WORKBOOK.names.to_vec()
    }

    fn is_text(&self) -> bool {
        false
    }

    fn starts(&self, first: &[u8]) -> bool {
        (WORKBOOK.starts)(first)
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(WorkbookSource::new(files, &opening)?))
    }

    fn reads_with(&self, option: &str) -> bool {
        !["separator", "quote", "comment", "decimal", "thousands", "encoding"].contains(&option)
    }

    fn may_be_written(&self, path: &Path) -> Result<()> {
        let ending = path.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase);
        let Some(ending) = ending.filter(|ending| self.names().iter().skip(1).any(|name| name == ending))
        else {
            return Ok(());
        };
        let what = format!("Workbooks of the kind .{ending} are read, not written.");
        Err(Error::new(ErrorKind::Check, what).next("Write a workbook as .xlsx."))
    }

    fn may_be_extended(&self) -> Result<()> {
        Err(Error::new(ErrorKind::Check, "Rows cannot be appended to a workbook.")
            .next("Write a workbook of its own beside it, or all sheets in one run: with (sheet = 'Farms')."))
    }

    fn has_sheets(&self) -> bool {
        true
    }

    fn writer(
        &self,
        out: Out,
        fields: &[Field],
        options: &WriteOptions,
        _: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        Ok(Some(Box::new(WorkbookWriter::new(out, fields, options)?)))
    }
}
