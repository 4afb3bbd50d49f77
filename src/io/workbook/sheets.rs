//! The cells of a sheet as delimited text, a row at a time.
//!
//! Of the usual format, a packed folder of XML, cells are read one after the other and never held together, whatever the
//! size of the sheet or of the area that its corners span; texts that cells share are held. Older formats are held as a
//! whole.

use std::fs::File;
use std::io::{BufReader, Read, Write};
use std::path::Path;

use calamine::{Data, DataType, ExcelDateTime, Range, Reader, Sheets, Xlsx, open_workbook_auto};

use super::Part;
use super::read::{Corner, corners};
use crate::cancel;
use crate::error::{Error, ErrorKind, Result, nearest};
use crate::text::comma;

/// Writes a part of a workbook as delimited text.
///
/// # Errors
/// The file is no workbook; it lacks the sheet; the text cannot be written.
pub(super) fn unpack(file: &Path, part: &Part, out: &mut impl Write) -> Result<()> {
    check_shared_texts(file)?;
    let mut workbook = open_workbook_auto(file).map_err(|e| unreadable(file, &e.to_string()))?;
    let names = workbook.sheet_names();
    let name = match &part.sheet {
        Some(wanted) => named(wanted, &names, file)?,
        None => first_with_cells(&mut workbook, &names, file)?,
    };
    let mut lines = Lines::new(part, out);
    if let Sheets::Xlsx(workbook) = &mut workbook {
        // Where the cells end decides how wide each row is; a sheet's own word for it may be wrong.
        let mut bounds = Bounds::default();
        each_cell(workbook, &name, file, |place, _| {
            bounds.see(place);
            Ok(())
        })?;
        lines.within(&bounds);
        each_cell(workbook, &name, file, |place, value| lines.put(place, value))?;
    } else {
        let range = workbook.worksheet_range(&name).map_err(|e| unreadable(file, &e.to_string()))?;
        lines.within(&Bounds::of(&range));
        let (row, column) = range.start().unwrap_or_default();
        for (r, c, value) in range.used_cells() {
            lines.put((row + r as u32, column + c as u32), value)?;
        }
    }
    lines.end()
}

fn unreadable(file: &Path, why: &str) -> Error {
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
        let has_cells = match &mut *workbook {
            Sheets::Xlsx(workbook) => {
                let mut found = false;
                each_cell(workbook, name, file, |_, _| {
                    found = true;
                    Err(Error::new(ErrorKind::Internal, "One cell is enough."))
                })
                .or_else(|error| if found { Ok(()) } else { Err(error) })?;
                found
            }
            other => {
                let range = other.worksheet_range(name).map_err(|e| unreadable(file, &e.to_string()))?;
                !range.is_empty()
            }
        };
        if has_cells {
            return Ok(name.clone());
        }
    }
    Err(Error::new(ErrorKind::Input, format!("{} holds no cells.", file.display())))
}

/// Calls `f` with each cell that has a value, in the order of rows.
fn each_cell(
    workbook: &mut Xlsx<BufReader<File>>,
    name: &str,
    file: &Path,
    mut f: impl FnMut(Corner, &Data) -> Result<()>,
) -> Result<()> {
    let failed = |e: calamine::XlsxError| unreadable(file, &e.to_string());
    let mut cells = workbook.worksheet_cells_reader(name).map_err(failed)?;
    for number in 0u64.. {
        if number % 4096 == 0 {
            cancel::check()?;
        }
        let Some(cell) = cells.next_cell().map_err(failed)? else { break };
        let value = Data::from(cell.get_value().clone());
        if !value.is_empty() {
            f(cell.get_position(), &value)?;
        }
    }
    Ok(())
}

/// Refuses a file that says that it has more texts than it has bytes for: room is made for as many as it says.
fn check_shared_texts(file: &Path) -> Result<()> {
    let Ok(opened) = File::open(file) else { return Ok(()) };
    let Ok(mut packed) = zip::ZipArchive::new(BufReader::new(opened)) else { return Ok(()) };
    let names: Vec<String> = packed.file_names().filter_map(|name| Some(name.ok()?.into_owned())).collect();
    let is_shared = |name: &&String| name.to_ascii_lowercase().ends_with("sharedstrings.xml");
    let Some(name) = names.iter().find(is_shared) else { return Ok(()) };
    let Ok(texts) = packed.by_name(name) else { return Ok(()) };
    let size = texts.size();
    let mut start = Vec::new();
    if texts.take(4096).read_to_end(&mut start).is_err() {
        return Ok(());
    }
    let start = String::from_utf8_lossy(&start);
    let count = start.split("uniqueCount=\"").nth(1).and_then(|rest| rest.split('"').next());
    match count.and_then(|count| count.parse::<u64>().ok()) {
        // The shortest text takes this much: <si/>.
        Some(count) if count > size / 5 + 1 => {
            Err(unreadable(file, &format!("it says that it has {count} texts, and has room for fewer")))
        }
        _ => Ok(()),
    }
}

/// The corners of all cells.
#[derive(Default)]
struct Bounds(Option<(Corner, Corner)>);

impl Bounds {
    fn of(range: &Range<Data>) -> Bounds {
        Bounds(range.start().zip(range.end()))
    }

    fn see(&mut self, (row, column): Corner) {
        let (low, high) = self.0.get_or_insert(((row, column), (row, column)));
        *low = (low.0.min(row), low.1.min(column));
        *high = (high.0.max(row), high.1.max(column));
    }
}

/// Rows of text that are being written.
struct Lines<'a, W> {
    part: &'a Part,
    out: &'a mut W,
    from: Corner,
    to: Corner,
    /// The row whose cells come, and its cells so far.
    row: u32,
    cells: Vec<String>,
    is_blank: bool,
}

impl<'a, W: Write> Lines<'a, W> {
    fn new(part: &'a Part, out: &'a mut W) -> Lines<'a, W> {
        Lines { part, out, from: (0, 0), to: (0, 0), row: 0, cells: Vec::new(), is_blank: true }
    }

    /// Says between which corners all cells are.
    fn within(&mut self, bounds: &Bounds) {
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
