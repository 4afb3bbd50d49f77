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
use crate::csv::{CsvOptions, CsvSource};
use crate::source::{About, ReadResources, Request, Scan, Source, SourceColumn};
use crate::temporary;

/// Which part of a workbook is read.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SheetPart {
    /// A sheet's name, or its number from 1; else the first sheet that holds anything.
    pub sheet: Option<String>,
    /// `B2:F20`, or `B2` and all that is right of it and below.
    pub area: Option<String>,
}

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
    pub fn new(files: &[PathBuf], options: CsvOptions, resources: &ReadResources) -> Result<WorkbookSource> {
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
        let text = CsvSource::new(&texts, folder.path(), options)?;
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

/// A place in a sheet, from 0: row and column.
pub(super) type Corner = (u32, u32);

/// A corner of an area.
fn corner(text: &str) -> Option<Corner> {
    let letters = text.chars().take_while(char::is_ascii_alphabetic).count();
    let (column, row) = text.split_at_checked(letters)?;
    let digit = |c: char| u32::from(c.to_ascii_uppercase() as u8 - b'A') + 1;
    let column = column.chars().try_fold(0u32, |all, c| all.checked_mul(26)?.checked_add(digit(c)))?;
    Some((row.parse::<u32>().ok()?.checked_sub(1)?, column.checked_sub(1)?))
}

/// The corners of an area: `B2:F20`, or `B2` and what follows; `None` if it is none.
pub(super) fn corners(area: &str) -> Option<(Corner, Option<Corner>)> {
    match area.split_once(':') {
        Some((from, to)) => {
            let (from, to) = (corner(from)?, corner(to)?);
            (from.0 <= to.0 && from.1 <= to.1).then_some((from, Some(to)))
        }
        None => Some((corner(area)?, None)),
    }
}

impl SheetPart {
    /// Whether an area can be read.
    pub fn is_area(text: &str) -> bool {
        corners(text).is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn areas_are_read() {
        assert_eq!(corners("B2:F20"), Some(((1, 1), Some((19, 5)))));
        assert_eq!(corners("aa10"), Some(((9, 26), None)));
        for wrong in ["", "B", "7", "B0", "F20:B2", "B2:"] {
            assert_eq!(corners(wrong), None, "{wrong}");
        }
    }
}
