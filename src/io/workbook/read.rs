//! A sheet of a workbook as a source.
//!
//! The cells become delimited text in a temporary file, numbers in shortest form and dates as in ISO 8601, and the
//! reader of such text goes on from there: headings of several rows, types, missing values and bad cells are treated
//! alike, and a number that is stored as text is a number.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use calamine::{Data, ExcelDateTime, Range, Reader, open_workbook_auto};

use crate::error::{Error, ErrorKind, Result, nearest};
use crate::io::csv::{CsvOptions, CsvSource};
use crate::io::source::{About, Request, Scan, Source, SourceColumn};
use crate::io::temporary;
use crate::text::comma;

/// Which part of a workbook is read.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Part {
    /// A sheet's name, or its number from 1; else the first sheet that holds anything.
    pub(crate) sheet: Option<String>,
    /// `B2:F20`, or `B2` and all that is right of it and below.
    pub(crate) area: Option<String>,
}

/// Workbooks read as one table.
#[derive(Debug)]
pub(crate) struct WorkbookSource {
    text: CsvSource,
    about: About,
    _folder: temporary::Folder,
}

impl WorkbookSource {
    /// Opens workbooks and reads a sheet of each.
    ///
    /// # Errors
    /// A file is no workbook; it lacks the sheet; what the sheet holds is no table.
    pub(crate) fn new(
        files: &[PathBuf],
        options: CsvOptions,
        temporary: Option<&Path>,
    ) -> Result<WorkbookSource> {
        let failed =
            |e: std::io::Error| Error::new(ErrorKind::Input, format!("A workbook cannot be unpacked: {e}."));
        let folder = temporary::folder(temporary)?;
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
            let range = sheet(file, &options.part)?;
            let mut out = BufWriter::new(File::create(&path).map_err(failed)?);
            write(&range, &options.part, &mut out).and_then(|()| out.flush()).map_err(failed)?;
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

/// The cells of the wanted sheet.
fn sheet(file: &Path, part: &Part) -> Result<Range<Data>> {
    let shown = file.display();
    let unreadable = |e: calamine::Error| {
        Error::new(ErrorKind::Input, format!("{shown} cannot be read as a workbook: {e}."))
            .next("Save it as .xlsx again, or as delimited text.")
    };
    let mut workbook = open_workbook_auto(file).map_err(unreadable)?;
    let names = workbook.sheet_names();
    let name = match &part.sheet {
        Some(wanted) => {
            let by_number = wanted.parse::<usize>().ok().and_then(|n| names.get(n.checked_sub(1)?));
            match names.iter().find(|name| *name == wanted).or(by_number) {
                Some(name) => name.clone(),
                None => {
                    let error = Error::new(ErrorKind::Input, format!("{shown} has no sheet {wanted}."))
                        .why(format!("Its sheets are {}.", comma(&names)));
                    let near = nearest(wanted, names.iter().map(String::as_str));
                    return Err(match near {
                        Some(near) => error.next(format!("Did you mean {near}?")),
                        None => error,
                    });
                }
            }
        }
        None => {
            let mut found = None;
            for name in &names {
                if !workbook.worksheet_range(name).map_err(unreadable)?.is_empty() {
                    found = Some(name.clone());
                    break;
                }
            }
            found.ok_or_else(|| Error::new(ErrorKind::Input, format!("{shown} holds no cells.")))?
        }
    };
    workbook.worksheet_range(&name).map_err(unreadable)
}

/// A place in a sheet, from 0: row and column.
type Corner = (u32, u32);

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

impl Part {
    /// Whether an area can be read.
    pub(crate) fn is_area(text: &str) -> bool {
        corners(text).is_some()
    }
}

/// Writes the cells of a part as delimited text.
fn write(range: &Range<Data>, part: &Part, out: &mut impl Write) -> std::io::Result<()> {
    let (Some(start), Some(end)) = (range.start(), range.end()) else { return Ok(()) };
    let (from, to) = match part.area.as_deref().and_then(corners) {
        Some((from, to)) => (from, to.unwrap_or((end.0.max(from.0), end.1.max(from.1)))),
        // From the sheet's first row, so that lines are the sheet's rows.
        None => ((0, start.1), end),
    };
    for row in from.0..=to.0 {
        let cells: Vec<String> = (from.1..=to.1)
            .map(|column| range.get_value((row, column)).map(text_of).unwrap_or_default())
            .collect();
        let is_blank = cells.iter().all(String::is_empty);
        let line = if is_blank { String::new() } else { cells.join(",") };
        writeln!(out, "{line}")?;
    }
    Ok(())
}

/// A cell as it stands in delimited text.
fn text_of(cell: &Data) -> String {
    match cell {
        Data::Empty => String::new(),
        Data::Int(value) => value.to_string(),
        Data::Float(value) if value.fract() == 0.0 && value.abs() < 1e15 => format!("{value:.0}"),
        Data::Float(value) => value.to_string(),
        Data::Bool(value) => value.to_string(),
        Data::DateTime(moment) => moment_text(moment),
        Data::String(text) | Data::DateTimeIso(text) | Data::DurationIso(text) => quoted(text),
        Data::Error(error) => quoted(&error.to_string()),
    }
}

fn quoted(text: &str) -> String {
    if text.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", text.replace('"', "\"\""))
    } else {
        text.to_owned()
    }
}

/// The number of the last day of the year 9999 in a workbook.
const LAST_DAY: f64 = 2_958_465.0;

/// A day, a time, or both; a duration is a number of days, and so is what the calendar has no day for.
fn moment_text(moment: &ExcelDateTime) -> String {
    let value = moment.as_f64();
    let is_duration = moment.is_duration() && !(0.0..1.0).contains(&value);
    if is_duration || !(0.0..LAST_DAY + 1.0).contains(&value) {
        return value.to_string();
    }
    let (year, month, day, hour, minute, second, milli) = moment.to_ymd_hms_milli();
    let milli = if milli == 0 { String::new() } else { format!(".{milli:03}") };
    let time = format!("{hour:02}:{minute:02}:{second:02}{milli}");
    if (0.0..1.0).contains(&value) {
        time
    } else if value.fract() == 0.0 {
        format!("{year:04}-{month:02}-{day:02}")
    } else {
        format!("{year:04}-{month:02}-{day:02} {time}")
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
