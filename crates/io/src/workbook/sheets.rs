//! The cells of a sheet as delimited text, a row at a time.
//!
//! Of the usual formats, packed folders of XML or of records (`.xlsx`, `.xlsm`, `.xlsb`), cells are read one after the
//! other and never held together, whatever the size of the sheet or of the area that its corners span; texts that cells
//! share are held. Of the others (`.xls`, `.ods`) a sheet is held as a whole. What would take more than the memory of
//! the run is refused.

use std::fs::File;
use std::io::{BufReader, Write};
use std::path::Path;

use calamine::{Cell, Data, DataRef, DataType, ExcelDateTime, Reader, Sheets, open_workbook_auto};
use churn_core::error::nearest;
use churn_core::names::comma;
use churn_core::parallel::caught;
use churn_core::{Error, ErrorKind, Result, cancel};

use super::held;
use crate::machine::memory_of_a_run;
use crate::sheet::{Corner, SheetPart, corners, is_place};

/// Writes a part of a workbook as delimited text.
///
/// # Errors
/// The file is no workbook, or a damaged one, on which its reader may panic; it lacks the sheet; what has to be held
/// takes more than `memory`; the text cannot be written.
pub(super) fn unpack(file: &Path, part: &SheetPart, memory: Option<u64>, out: &mut impl Write) -> Result<()> {
    caught(|| unpack_sheet(file, part, memory, out))
        .unwrap_or_else(|_| Err(unreadable(file, "its parts do not go together")))
}

fn unpack_sheet(file: &Path, part: &SheetPart, memory: Option<u64>, out: &mut impl Write) -> Result<()> {
    held::check(file, memory_of_a_run(memory))?;
    let mut workbook = open_workbook_auto(file).map_err(|e| unreadable(file, &e.to_string()))?;
    let names = workbook.sheet_names();
    let name = match &part.sheet {
        Some(wanted) => named(wanted, &names, file)?,
        None => first_with_cells(&mut workbook, &names, file)?,
    };
    let mut lines = Lines::new(part, out);
    // Where the cells end decides how wide each row is; a sheet's own word for it may be wrong.
    let mut bounds = UsedArea::default();
    each_cell(&mut workbook, &name, file, |place, _| {
        if !is_place(place) {
            return Err(unreadable(file, "a cell lies outside its sheet"));
        }
        bounds.see(place);
        Ok(true)
    })?;
    lines.within(&bounds);
    each_cell(&mut workbook, &name, file, |place, value| lines.put(place, value).map(|()| true))?;
    lines.end()
}

pub(super) fn unreadable(file: &Path, why: &str) -> Error {
    Error::new(ErrorKind::Input, format!("{} cannot be read as a workbook: {why}.", file.display()))
        .next("Save it as .xlsx again, or as delimited text.")
}

/// The sheet of a name, or of a number from 1.
fn named(wanted: &str, names: &[String], file: &Path) -> Result<String> {
    let by_number = wanted.parse::<usize>().ok().and_then(|n| names.get(n.checked_sub(1)?));
    if let Some(name) = names.iter().find(|name| *name == wanted).or(by_number) {
        return Ok(name.clone());
    }
    let error = Error::new(ErrorKind::Input, format!("{} has no sheet {wanted}.", file.display()))
        .why(format!("Its sheets are {}.", comma(names)));
    Err(match nearest(wanted, names.iter().map(String::as_str)) {
        Some(near) => error.next(format!("Did you mean {near}?")),
        None => error,
    })
}

/// The first sheet that holds a cell.
fn first_with_cells(workbook: &mut Sheets<BufReader<File>>, names: &[String], file: &Path) -> Result<String> {
    for name in names {
        let mut has_cells = false;
        each_cell(workbook, name, file, |_, _| {
            has_cells = true;
            Ok(false)
        })?;
        if has_cells {
            return Ok(name.clone());
        }
    }
    Err(Error::new(ErrorKind::Input, format!("{} holds no cells.", file.display())))
}

/// Calls `f` with each cell that has a value, in the order of rows, as long as it gives true.
fn each_cell(
    workbook: &mut Sheets<BufReader<File>>,
    name: &str,
    file: &Path,
    mut f: impl FnMut(Corner, &Data) -> Result<bool>,
) -> Result<()> {
    let failed = |e: String| unreadable(file, &e);
    match workbook {
        Sheets::Xlsx(workbook) => {
            let mut cells = workbook.worksheet_cells_reader(name).map_err(|e| failed(e.to_string()))?;
            each_read(|| cells.next_cell().map_err(|e| failed(e.to_string())), f)
        }
        Sheets::Xlsb(workbook) => {
            let mut cells = workbook.worksheet_cells_reader(name).map_err(|e| failed(e.to_string()))?;
            each_read(|| cells.next_cell().map_err(|e| failed(e.to_string())), f)
        }
        other => {
            let range = other.worksheet_range(name).map_err(|e| failed(e.to_string()))?;
            let (row, column) = range.start().unwrap_or_default();
            for (r, c, value) in range.used_cells() {
                if !f((row + r as u32, column + c as u32), value)? {
                    break;
                }
            }
            Ok(())
        }
    }
}

/// Calls `f` with each cell that `next` reads and that has a value, as long as it gives true.
fn each_read<'a>(
    mut next: impl FnMut() -> Result<Option<Cell<DataRef<'a>>>>,
    mut f: impl FnMut(Corner, &Data) -> Result<bool>,
) -> Result<()> {
    for number in 0u64.. {
        if number % 4096 == 0 {
            cancel::check()?;
        }
        let Some(cell) = next()? else { break };
        let value = Data::from(cell.get_value().clone());
        if !value.is_empty() && !f(cell.get_position(), &value)? {
            break;
        }
    }
    Ok(())
}

/// The corners of all cells.
#[derive(Default)]
struct UsedArea(Option<(Corner, Corner)>);

impl UsedArea {
    fn see(&mut self, (row, column): Corner) {
        let (low, high) = self.0.get_or_insert(((row, column), (row, column)));
        *low = (low.0.min(row), low.1.min(column));
        *high = (high.0.max(row), high.1.max(column));
    }
}

/// Rows of text that are being written.
struct Lines<'a, W> {
    part: &'a SheetPart,
    out: &'a mut W,
    from: Corner,
    to: Corner,
    /// The row whose cells come, and its cells so far.
    row: u32,
    cells: Vec<String>,
    is_blank: bool,
}

impl<'a, W: Write> Lines<'a, W> {
    fn new(part: &'a SheetPart, out: &'a mut W) -> Lines<'a, W> {
        Lines { part, out, from: (0, 0), to: (0, 0), row: 0, cells: Vec::new(), is_blank: true }
    }

    /// Says between which corners all cells are.
    fn within(&mut self, bounds: &UsedArea) {
        let Some((start, end)) = bounds.0 else { return };
        (self.from, self.to) = match self.part.area.as_deref().and_then(corners) {
            Some((from, to)) => (from, to.unwrap_or((end.0.max(from.0), end.1.max(from.1)))),
            // From the sheet's first row, so that lines are the sheet's rows.
            None => ((0, start.1), end),
        };
        // Behind the last cell there is nothing to write, however large the area.
        self.to.0 = self.to.0.min(end.0);
        self.row = self.from.0;
        self.cells = vec![String::new(); (self.to.1 - self.from.1) as usize + 1];
    }

    fn put(&mut self, (row, column): Corner, value: &Data) -> Result<()> {
        let is_within =
            (self.from.0..=self.to.0).contains(&row) && (self.from.1..=self.to.1).contains(&column);
        if !is_within {
            return Ok(());
        }
        if row < self.row {
            let what = format!("row {} stands behind row {}", row + 1, self.row + 1);
            return Err(Error::new(ErrorKind::Input, format!("The sheet's rows are out of order: {what}."))
                .next("Save the workbook again, or as delimited text."));
        }
        while self.row < row {
            self.end_row()?;
        }
        if let Some(cell) = self.cells.get_mut((column - self.from.1) as usize) {
            *cell = text_of(value);
            self.is_blank &= cell.is_empty();
        }
        Ok(())
    }

    fn end_row(&mut self) -> Result<()> {
        let failed =
            |e: std::io::Error| Error::new(ErrorKind::Output, format!("A workbook cannot be unpacked: {e}."));
        if !std::mem::replace(&mut self.is_blank, true) {
            for (i, cell) in self.cells.iter_mut().enumerate() {
                let separator: &[u8] = if i == 0 { b"" } else { b"," };
                self.out.write_all(separator).map_err(failed)?;
                self.out.write_all(cell.as_bytes()).map_err(failed)?;
                cell.clear();
            }
        }
        self.row += 1;
        self.out.write_all(b"\n").map_err(failed)
    }

    fn end(mut self) -> Result<()> {
        while self.row <= self.to.0 {
            self.end_row()?;
        }
        Ok(())
    }
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
