//! Where a block stands, and what is told of what is wrong there.

use churn_core::names::name;
use churn_core::readable::plural;
use churn_core::{Error, ErrorKind, Type};
use churn_kernels::grid::Ragged;
use churn_kernels::number;

use super::cells::BlockCells;
use super::cutter::count_lines;
use super::decode::ColumnDecoder;
use super::head::{Head, not_utf8};
use super::scan::CsvScanState;

/// Where a block stands, for messages.
#[derive(Clone, Copy)]
pub(super) struct At<'a> {
    pub(super) shared: &'a CsvScanState,
    pub(super) file: usize,
    pub(super) offset: u64,
    /// Lines before it, if they were counted.
    pub(super) lines: Option<u64>,
    /// Whether it was only guessed that a record starts there. Most of what is wrong with it is the guess, so lines are not
    /// counted for its message: a block whose guess was right is read again for that.
    pub(super) is_guess: bool,
}

impl At<'_> {
    fn shown(&self) -> &str {
        self.shared.heads.get(self.file).map_or("", |h| h.shown.as_str())
    }

    /// The number of the line that holds a byte of the block.
    fn line(&self, bytes: &[u8], place: usize) -> Option<u64> {
        if self.is_guess {
            return None;
        }
        let within = count_lines(bytes.get(..place).unwrap_or(bytes));
        match self.lines {
            Some(lines) => Some(lines + within + 1),
            None => Some(line_at(self.shared.heads.get(self.file)?, self.offset)? + within),
        }
    }

    pub(super) fn not_utf8(&self, bytes: &[u8], place: usize) -> Error {
        not_utf8().in_file(self.shown(), self.line(bytes, place), None)
    }

    pub(super) fn open_quote(&self, bytes: &[u8], place: usize) -> Error {
        Error::new(ErrorKind::Data, "A quote opens here and never closes.")
            .in_file(self.shown(), self.line(bytes, place), None)
            .next("Mend the line, or say with (quote = none) if the file has no quoted cells.")
    }

    pub(super) fn ragged(&self, cells: &BlockCells<'_>, row: &Ragged, width: usize) -> Error {
        let line = cells.bytes.get(row.start..row.end).unwrap_or_default();
        let line: String = String::from_utf8_lossy(line).trim_end().chars().take(100).collect();
        let (cells_found, columns) = (plural(row.cells as u64, "cell"), plural(width as u64, "column"));
        let what = format!("A row has {cells_found} where the table has {columns}.");
        let mut error = Error::new(ErrorKind::Data, what)
            .in_file(self.shown(), self.line(cells.bytes, row.start), None)
            .why(line);
        if width == 1 {
            error = error.next("If the cells are separated by something else, say with (separator = ';').");
        }
        let say = if row.cells < width {
            error = error.next("Say with (bad_rows = pad) to fill short rows with nulls and count them,");
            "with"
        } else {
            "Say with"
        };
        error
            .next(format!("{say} (bad_rows = skip) to leave such rows out and count them,"))
            .next("or with (bad_rows = 'rejects.csv') to write them to a file.")
    }

    /// A row with the wrong number of cells, for the ledger: its file and how it begins.
    pub(super) fn ragged_example(&self, cells: &BlockCells<'_>, row: &Ragged) -> String {
        let line = cells.bytes.get(row.start..row.end).unwrap_or_default();
        let line: String = String::from_utf8_lossy(line).trim_end().chars().take(60).collect();
        format!("{} in {}: {line}", plural(row.cells as u64, "cell"), self.shown())
    }

    /// A cell that is not of its column's type, for the ledger: its value, its column, its file.
    pub(super) fn bad_example(&self, cells: &BlockCells<'_>, row: usize, column: usize) -> String {
        let shown = self.shared.names.get(column).map(String::as_str).unwrap_or_default();
        let value: String = self.value(cells, row, column).0.chars().take(60).collect();
        format!("'{value}' of {} in {}", name(shown), self.shown())
    }

    /// The text of a cell, and where it stands in its block.
    fn value(&self, cells: &BlockCells<'_>, row: usize, column: usize) -> (String, usize) {
        let cast = self.shared.casts.get(self.file).and_then(|c| c.get(column));
        let cell = cast.and_then(|c| c.position).map(|p| cells.get(row, p));
        let value = cell.map(|c| String::from_utf8_lossy(&cells.plain(c)).into_owned()).unwrap_or_default();
        (value, cell.map_or(0, |c| c.start))
    }

    pub(super) fn bad_cell(&self, cells: &BlockCells<'_>, row: usize, column: usize) -> Error {
        let kind = self.shared.kinds.get(column).cloned().unwrap_or(Type::Text);
        let cast = self.shared.casts.get(self.file).and_then(|c| c.get(column));
        let (value, place) = self.value(cells, row, column);
        let shown = self.shared.names.get(column).map(String::as_str).unwrap_or_default();
        let quoted = name(shown);
        let article = if kind == Type::Int { "an" } else { "a" };
        let is_inferred = cast.is_some_and(|cast| cast.exact);
        let loss = is_inferred.then(|| self.loss(&kind, value.trim().as_bytes())).flatten();
        let value: String = value.chars().take(60).collect();
        let what = match loss {
            Some(loss) => format!("'{value}' would lose {loss} as {article} {kind}."),
            None => format!("'{value}' is not {article} {kind}."),
        };
        let error = Error::new(ErrorKind::Data, what).in_file(
            self.shown(),
            self.line(cells.bytes, place),
            Some(shown),
        );
        if loss.is_some() {
            let next = format!("Say with (types = ({quoted} text)) to keep such cells as they stand,");
            let error =
                error.why("No cell looked at before the run had any, so the column was taken for one.");
            return error
                .next(next)
                .next(format!("or with (types = ({quoted} {kind})) to read them as numbers."));
        }
        let error = error.why(if is_inferred {
            "The column was taken for one by the cells looked at before the run."
        } else {
            "types = (…) says that the column is one."
        });
        let error = match wider(&kind, value.as_bytes()) {
            Some(wider) => error.next(format!("Say with (types = ({quoted} {wider})): this cell is one.")),
            None => error,
        };
        error
            .next("Say with (bad_cells = null) to make null of such cells and count them,")
            .next(format!("with (missing = ('', '{}')) if this text means null,", value.replace('\'', "''")))
            .next(format!("or with (types = ({quoted} text)) to read the column as text."))
    }

    /// What a number would lose as its column's type, if it is one.
    fn loss(&self, kind: &Type, value: &[u8]) -> Option<&'static str> {
        let value = ColumnDecoder::number(&self.shared.options).normal(value)?;
        if !matches!(kind, Type::Int | Type::Float) || number::parse_float(&value).is_none() {
            return None;
        }
        let is_whole = number::is_whole(&value);
        match value.first() {
            _ if number::has_leading_zero(&value) => Some("its leading zeros"),
            _ if is_whole && number::parse_int(&value).is_none() => Some("digits"),
            Some(b'+') if is_whole => Some("its sign"),
            _ => None,
        }
    }
}

/// The wider type that a cell fits which is not of its column's type.
fn wider(kind: &Type, value: &[u8]) -> Option<Type> {
    match kind {
        Type::Int => number::parse_float(value).map(|_| Type::Float),
        Type::Date => churn_kernels::calendar::parse_timestamp(value).map(|_| Type::Timestamp),
        _ => None,
    }
}

/// The number of the line that holds a byte of a file, by reading up to there.
pub(super) fn line_at(head: &Head, offset: u64) -> Option<u64> {
    use std::io::Read;
    let mut reader = head.bytes_from_start().ok()?.take(offset);
    let mut buffer = vec![0; 1 << 18];
    let mut lines = 1;
    loop {
        match reader.read(&mut buffer).ok()? {
            0 => return Some(lines),
            n => lines += count_lines(buffer.get(..n)?),
        }
    }
}
