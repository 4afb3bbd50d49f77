//! Rows as a sheet.

use std::io::Write;

use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Scalar};
use rust_xlsxwriter::{Format, Workbook, Worksheet, XlsxError};

use crate::binary::{Out, RowWriter, failed};

/// Rows that a sheet has, the heading included.
const ROWS: u32 = 1 << 20;

/// Days from the day that sheets count from to the first of 1970.
const EPOCH: f64 = 25569.0;

/// Microseconds of a day.
const DAY: f64 = 86_400e6;

/// Writes a workbook of one sheet.
pub(crate) struct WorkbookWriter {
    out: Out,
    workbook: Workbook,
    row: u32,
    day: Format,
    time: Format,
    moment: Format,
}

fn unwritten(error: &XlsxError) -> Error {
    Error::new(ErrorKind::Output, format!("The workbook cannot be written: {error}."))
        .next("Write it as delimited text or as Parquet.")
}

impl WorkbookWriter {
    /// Starts a workbook with the names of the columns.
    ///
    /// # Errors
    /// There are more columns than a sheet has.
    pub(crate) fn new(out: Out, fields: &[Field]) -> Result<WorkbookWriter> {
        let mut workbook = Workbook::new();
        let sheet = workbook.add_worksheet();
        let bold = Format::new().set_bold();
        for (column, field) in fields.iter().enumerate() {
            let column = u16::try_from(column).unwrap_or(u16::MAX);
            sheet.write_string_with_format(0, column, &field.name, &bold).map_err(|e| unwritten(&e))?;
        }
        let format = |text: &str| Format::new().set_num_format(text);
        let (day, time, moment) = (format("yyyy-mm-dd"), format("hh:mm:ss"), format("yyyy-mm-dd hh:mm:ss"));
        Ok(WorkbookWriter { out, workbook, row: 1, day, time, moment })
    }
}

impl RowWriter for WorkbookWriter {
    fn write(&mut self, batch: Batch) -> Result<()> {
        if self.row as usize + batch.rows > ROWS as usize {
            let what = "A sheet has 1 048 576 rows, and there are more to write.";
            return Err(Error::new(ErrorKind::Output, what)
                .next("Write them as delimited text or as Parquet, or filter and group them first."));
        }
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
        let formats = (&self.day, &self.time, &self.moment);
        let sheet = self.workbook.worksheet_from_index(0).map_err(|e| unwritten(&e))?;
        for row in 0..batch.rows {
            for (at, column) in (0u16..).zip(&columns) {
                cell(sheet, (self.row + row as u32, at), &Scalar::from_array(column, row), formats)
                    .map_err(|e| unwritten(&e))?;
            }
        }
        self.row += batch.rows as u32;
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<Out> {
        let bytes = self.workbook.save_to_buffer().map_err(|e| unwritten(&e))?;
        self.out.write_all(&bytes).map_err(|e| failed(&e))?;
        Ok(self.out)
    }
}

/// Writes one value; what no cell holds exactly is written as text.
fn cell(
    sheet: &mut Worksheet,
    (row, column): (u32, u16),
    value: &Scalar,
    (day, time, moment): (&Format, &Format, &Format),
) -> std::result::Result<(), XlsxError> {
    match value {
        Scalar::Null => return Ok(()),
        Scalar::Bool(value) => sheet.write_boolean(row, column, *value)?,
        Scalar::Int(value) if value.unsigned_abs() <= 1 << 53 => {
            sheet.write_number(row, column, *value as f64)?
        }
        Scalar::Float(value) if value.is_finite() => sheet.write_number(row, column, *value)?,
        Scalar::Date(days) if *days > -25_509 => {
            sheet.write_number_with_format(row, column, f64::from(*days) + EPOCH, day)?
        }
        Scalar::Time(micros) => sheet.write_number_with_format(row, column, *micros as f64 / DAY, time)?,
        Scalar::Timestamp(micros) if *micros as f64 / DAY > -25_509.0 => {
            sheet.write_number_with_format(row, column, *micros as f64 / DAY + EPOCH, moment)?
        }
        other => sheet.write_string(row, column, other.plain())?,
    };
    Ok(())
}
