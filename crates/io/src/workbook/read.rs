//! A sheet of a workbook as a source.
//!
//! The cells become delimited text in a temporary file, numbers in shortest form and dates as in ISO 8601, and the
//! reader of such text goes on from there: headings of several rows, types, missing values and bad cells are treated
//! alike, and a number that is stored as text is a number.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::PathBuf;

use churn_core::{Error, ErrorKind, Result};

use super::sheets;
use crate::csv::CsvSource;
use crate::format::Opening;
use crate::source::{About, Request, Scan, Source, SourceColumn};
use crate::temporary;

/// Workbooks read as one table.
#[derive(Debug)]
pub struct WorkbookSource {
    text: CsvSource,
    about: About,
    _folder: temporary::Folder,
}

impl WorkbookSource {
    /// Opens workbooks and reads a sheet of each.
    ///
    /// # Errors
    /// A file is no workbook; it lacks the sheet; what the sheet holds is no table.
    pub fn new(files: &[PathBuf], opening: &Opening) -> Result<WorkbookSource> {
        let Opening { options, resources, .. } = opening;
        let failed =
            |e: std::io::Error| Error::new(ErrorKind::Input, format!("A workbook cannot be unpacked: {e}."));
        let folder = temporary::folder(resources.temporary.as_deref())?;
        let mut texts: Vec<PathBuf> = Vec::new();
        for file in files {
            let name = file.file_name().map(PathBuf::from).unwrap_or_default();
            let path = folder.path().join(&name);
            if texts.contains(&path) {
                let what = format!("Two workbooks are called {}.", name.display());
                return Err(
                    Error::new(ErrorKind::Input, what).next("Read them apart, and append one to the other.")
                );
            }
            let mut out = BufWriter::new(File::create(&path).map_err(failed)?);
            sheets::unpack(file, &options.part, resources.memory, &mut out)?;
            out.flush().map_err(failed)?;
            texts.push(path);
        }
        let of_texts = Opening { base: folder.path().to_owned(), ..opening.clone() };
        let text = CsvSource::new(&texts, &of_texts)?;
        let size = |file: &PathBuf| std::fs::metadata(file).map_or(0, |m| m.len());
        let about = About { bytes: Some(files.iter().map(size).sum()), ..text.about().clone() };
        Ok(WorkbookSource { text, about, _folder: folder })
    }
}

impl Source for WorkbookSource {
    fn columns(&self) -> &[SourceColumn] {
        self.text.columns()
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        self.text.open(request)
    }
}
