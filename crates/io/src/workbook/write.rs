//! Rows as a sheet of a workbook, which may have several.

use std::io::Write;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Scalar, Type};
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Format, Workbook, Worksheet, XlsxError};

use crate::binary::{Out, RowWriter, failed};
use crate::format::WriteOptions;

/// Rows that a sheet has, the heading included.
const ROWS: u32 = 1 << 20;

/// Days from the day that sheets count from to the first of 1970.
const EPOCH: f64 = 25569.0;

/// Microseconds of a day.
const DAY: f64 = 86_400e6;

/// The widest that a column is made, in characters.
const WIDEST: usize = 60;

/// A workbook that is written: its sheets that are complete, by their order, and where it goes when all are.
struct Book {
    out: Option<Out>,
    complete: Vec<(usize, Worksheet)>,
    /// Sheets that are still written.
    open: usize,
}

/// Writes a sheet; with the last one that is complete the workbook is written.
pub(crate) struct WorkbookWriter {
    book: Arc<Mutex<Book>>,
    sheet: Worksheet,
    /// Its place among the sheets.
    order: usize,
    row: u32,
    columns: Vec<SheetColumn>,
}

/// How a column is shown, and how wide its values are.
struct SheetColumn {
    format: Option<Format>,
    width: usize,
}

fn unwritten(error: &XlsxError) -> Error {
    Error::new(ErrorKind::Output, format!("The workbook cannot be written: {error}."))
        .next("Write it as delimited text or as Parquet.")
}

fn locked(book: &Arc<Mutex<Book>>) -> MutexGuard<'_, Book> {
    book.lock().unwrap_or_else(PoisonError::into_inner)
}

impl WorkbookWriter {
    /// Starts a workbook with the names of the columns.
    ///
    /// # Errors
    /// There are more columns than a sheet has; the sheet cannot have its name.
    pub(crate) fn new(out: Out, fields: &[Field], options: &WriteOptions) -> Result<WorkbookWriter> {
        let book = Book { out: Some(out), complete: Vec::new(), open: 0 };
        WorkbookWriter::sheet(Arc::new(Mutex::new(book)), fields, options)
    }

    /// Starts a sheet of a workbook.
    fn sheet(book: Arc<Mutex<Book>>, fields: &[Field], options: &WriteOptions) -> Result<WorkbookWriter> {
        let mut sheet = Worksheet::new();
        let failed = |e: XlsxError| unwritten(&e);
        if let Some(name) = &options.sheet {
            sheet.set_name(name).map_err(failed)?;
        }
        let bold = Format::new().set_bold();
        for (column, field) in fields.iter().enumerate() {
            let column = u16::try_from(column).unwrap_or(u16::MAX);
            sheet.write_string_with_format(0, column, &field.name, &bold).map_err(failed)?;
        }
        // The heading stays in sight.
        sheet.set_freeze_panes(1, 0).map_err(failed)?;
        let column = |field: &Field| SheetColumn {
            format: number_format(field, options).map(|text| Format::new().set_num_format(text)),
            width: field.name.chars().count(),
        };
        let columns = fields.iter().map(column).collect();
        locked(&book).open += 1;
        Ok(WorkbookWriter { book, sheet, order: options.order, row: 1, columns })
    }
}

/// How the values of a column are shown: as it was asked for, else dates by ISO 8601 and decimals with all their digits.
fn number_format(field: &Field, options: &WriteOptions) -> Option<String> {
    let asked = options.number_formats.iter().find(|(column, _)| *column == field.name);
    let by_type = || match &field.kind {
        Type::Date => Some("yyyy-mm-dd".to_owned()),
        Type::Time => Some("hh:mm:ss".to_owned()),
        Type::Timestamp => Some("yyyy-mm-dd hh:mm:ss".to_owned()),
        Type::Decimal(_, scale) if *scale > 0 => {
            Some(format!("0.{}", "0".repeat(scale.unsigned_abs().into())))
        }
        _ => None,
    };
    asked.map(|(_, format)| format.clone()).or_else(by_type)
}

impl RowWriter for WorkbookWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        if self.row as usize + batch.rows > ROWS as usize {
            let what = "A sheet has 1 048 576 rows, and there are more to write.";
            return Err(Error::new(ErrorKind::Output, what)
                .next("Write them as delimited text or as Parquet, or filter and group them first."));
        }
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
        for ((at, values), column) in (0u16..).zip(&columns).zip(&mut self.columns) {
            for row in 0..batch.rows {
                let value = Scalar::from_array(values, row);
                column.width = column.width.max(width(&value));
                cell(&mut self.sheet, (self.row + row as u32, at), &value, column.format.as_ref())
                    .map_err(|e| unwritten(&e))?;
            }
        }
        self.row += batch.rows as u32;
        Ok(())
    }

    fn another(&self, fields: &[Field], options: &WriteOptions) -> Result<Option<Box<dyn RowWriter>>> {
        let writer = WorkbookWriter::sheet(self.book.clone(), fields, options)?;
        Ok(Some(Box::new(writer)))
    }

    fn finish(self: Box<Self>) -> Result<Out> {
        let WorkbookWriter { book, mut sheet, order, columns, .. } = *self;
        for (at, column) in (0u16..).zip(&columns) {
            let width = column.width.clamp(6, WIDEST) as f64 + 2.0;
            sheet.set_column_width(at, width).map_err(|e| unwritten(&e))?;
        }
        let mut book = locked(&book);
        book.complete.push((order, sheet));
        book.open -= 1;
        if book.open > 0 {
            return Ok(Out::nowhere());
        }
        book.complete.sort_by_key(|(order, _)| *order);
        let mut workbook = Workbook::new();
        // The same rows are the same bytes, whenever they are written.
        let created = ExcelDateTime::from_ymd(2000, 1, 1).map_err(|e| unwritten(&e))?;
        workbook.set_properties(&DocProperties::new().set_creation_datetime(&created));
        for (_, sheet) in book.complete.drain(..) {
            workbook.push_worksheet(sheet);
        }
        let bytes = workbook.save_to_buffer().map_err(|e| unwritten(&e))?;
        let mut out = book.out.take().unwrap_or_else(Out::nowhere);
        out.write_all(&bytes).map_err(|e| failed(&e))?;
        Ok(out)
    }
}

/// About how many characters a value is shown with.
fn width(value: &Scalar) -> usize {
    match value {
        Scalar::Null => 0,
        Scalar::Text(text) => text.lines().map(|line| line.chars().count()).max().unwrap_or(0),
        Scalar::Date(_) => 10,
        Scalar::Time(_) => 8,
        Scalar::Timestamp(_) => 19,
        // A float that is not rounded has many more digits than a sheet shows.
        Scalar::Float(_) => value.plain().len().min(12),
        value => value.plain().chars().count(),
    }
}

/// Writes one value; what no cell holds exactly is written as text.
fn cell(
    sheet: &mut Worksheet,
    (row, column): (u32, u16),
    value: &Scalar,
    format: Option<&Format>,
) -> std::result::Result<(), XlsxError> {
    let number = match value {
        Scalar::Null => return Ok(()),
        Scalar::Bool(value) => {
            sheet.write_boolean(row, column, *value)?;
            return Ok(());
        }
        Scalar::Int(value) if value.unsigned_abs() <= 1 << 53 => Some(*value as f64),
        Scalar::Float(value) if value.is_finite() => Some(*value),
        Scalar::Date(days) if *days > -25_509 => Some(f64::from(*days) + EPOCH),
        Scalar::Time(micros) => Some(*micros as f64 / DAY),
        Scalar::Timestamp(micros) if *micros as f64 / DAY > -25_509.0 => Some(*micros as f64 / DAY + EPOCH),
        Scalar::Decimal(unscaled, _, _) if unscaled.unsigned_abs() < 10_u128.pow(15) => {
            value.plain().parse().ok()
        }
        _ => None,
    };
    match (number, format) {
        (Some(number), Some(format)) => sheet.write_number_with_format(row, column, number, format)?,
        (Some(number), None) => sheet.write_number(row, column, number)?,
        (None, _) => sheet.write_string(row, column, value.plain())?,
    };
    Ok(())
}
