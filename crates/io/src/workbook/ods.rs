//! The cells that are held of an `.ods` file: a few letters may repeat a cell and a row any number of times.

use std::io::BufRead;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use crate::sheet;

const MOST_COLUMNS: u64 = sheet::MOST_COLUMNS as u64;
const MOST_ROWS: u64 = sheet::MOST_ROWS as u64;

/// A sheet as far as it was read.
#[derive(Default)]
struct Sheet {
    /// Cells of each row once, as the file has it.
    written: u64,
    /// Rows up to the last one with a value, and rows without one behind it.
    rows: u64,
    blank_rows: u64,
    columns: u64,
}

/// A row as far as it was read.
struct Row {
    repeats: u64,
    /// Cells up to the last one with a value, and cells without one behind it.
    cells: u64,
    blank: u64,
}

/// How many cells are held of all sheets, each as the file has it and once more in the area that they span. Text that
/// is not as the format has it ends the count: the reader of the sheet tells of it.
pub(super) fn cells(content: impl BufRead) -> u64 {
    let mut reader = Reader::from_reader(content);
    let (mut all, mut sheet, mut row) = (0u64, Sheet::default(), None);
    let mut buffer = Vec::new();
    loop {
        buffer.clear();
        match reader.read_event_into(&mut buffer) {
            Ok(Event::Start(start)) => begin(&start, true, &mut row),
            Ok(Event::Empty(start)) => {
                begin(&start, false, &mut row);
                if start.name().as_ref() == "table:table-row" {
                    sheet.take(row.take());
                }
            }
            Ok(Event::End(end)) if end.name().as_ref() == "table:table-row" => sheet.take(row.take()),
            Ok(Event::End(end)) if end.name().as_ref() == "table:table" => {
                all = all.saturating_add(std::mem::take(&mut sheet).cells());
            }
            Ok(Event::Eof) | Err(_) => return all.saturating_add(sheet.cells()),
            Ok(_) => {}
        }
    }
}

/// Begins a row, or takes note of a cell in it; `is_open` if something stands in it.
fn begin(start: &BytesStart<'_>, is_open: bool, row: &mut Option<Row>) {
    let times = |name: &str| {
        let written = start.try_get_attribute(name).ok().flatten();
        let number = written.and_then(|value| value.value.parse::<u64>().ok());
        number.unwrap_or(1)
    };
    match (start.name().as_ref(), row) {
        ("table:table-row", row) => {
            let repeats = times("table:number-rows-repeated").min(MOST_ROWS);
            *row = Some(Row { repeats, cells: 0, blank: 0 });
        }
        ("table:table-cell" | "table:covered-table-cell", Some(row)) => {
            let repeats = times("table:number-columns-repeated");
            let attributes = start.attributes().flatten();
            let is_value = |name: &str| name.starts_with("office:") || name == "table:formula";
            if is_open || attributes.into_iter().any(|attribute| is_value(attribute.key.as_ref())) {
                row.cells = (row.cells + row.blank).saturating_add(repeats).min(MOST_COLUMNS);
                row.blank = 0;
            } else {
                row.blank = row.blank.saturating_add(repeats).min(MOST_COLUMNS);
            }
        }
        _ => {}
    }
}

impl Sheet {
    /// Takes a row that has ended.
    fn take(&mut self, row: Option<Row>) {
        let Some(row) = row else { return };
        self.written += row.cells;
        if row.cells == 0 {
            self.blank_rows = (self.blank_rows + row.repeats).min(MOST_ROWS);
        } else {
            self.rows = (self.rows + self.blank_rows + row.repeats).min(MOST_ROWS);
            self.blank_rows = 0;
            self.columns = self.columns.max(row.cells);
        }
    }

    fn cells(self) -> u64 {
        self.written + self.rows * self.columns
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::as_written("<table:table-row><table:table-cell office:value='1'/><table:table-cell><text:p>a</text:p></table:table-cell></table:table-row>", 2 + 2)]
    #[case::blank_ends_do_not_count("<table:table-row><table:table-cell office:value='1'/><table:table-cell table:number-columns-repeated='16383'/></table:table-row><table:table-row table:number-rows-repeated='1048575'><table:table-cell table:number-columns-repeated='16384'/></table:table-row>", 1 + 1)]
    #[case::far_corners("<table:table-row><table:table-cell office:value='1'/></table:table-row><table:table-row table:number-rows-repeated='1000'><table:table-cell/></table:table-row><table:table-row><table:table-cell table:number-columns-repeated='99'/><table:table-cell office:value='1'/></table:table-row>", 101 + 1002 * 100)]
    #[case::repeated_cells("<table:table-row table:number-rows-repeated='9999999'><table:table-cell office:value='1' table:number-columns-repeated='9999999'/></table:table-row>", 16_384 + (1 << 20) * 16_384)]
    #[case::an_empty_row("<table:table-row/><table:table-row><table:table-cell table:formula='of:=1'/></table:table-row>", 1 + 2)]
    #[case::cut_short("<table:table-row><table:table-cell office:value='1'/></table:table-row><table:table-row", 1 + 1)]
    fn cells_are_counted(#[case] rows: &str, #[case] expected: u64) {
        let content = format!("<office:body><table:table>{rows}</table:table></office:body>");
        assert_eq!(cells(content.as_bytes()), expected);
    }
}
