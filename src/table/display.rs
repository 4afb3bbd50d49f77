//! A table as text: open, aligned, with a caption that says what is shown of how much.

use std::fmt;

use churn_core::aligned::cut;
use churn_core::names::comma;
use churn_core::readable::{grouped, plural, shown};
use churn_core::widen::widen;
use churn_core::{Result, Scalar, Type};
use churn_io::format::Encoder;
use churn_io::markdown::MarkdownEncoder;
use unicode_width::UnicodeWidthStr;

use super::Table;

/// The widest that a text cell is shown.
const CELL: usize = 32;

/// A table to be shown within a width and a number of rows.
#[derive(Clone, Copy, Debug)]
pub struct View<'a> {
    table: &'a Table,
    width: usize,
    rows: usize,
    /// What stands above instead of what is shown of how much.
    caption: Option<&'static str>,
}

impl View<'_> {
    /// The same under another caption, where the table is itself a part of something.
    #[must_use]
    pub fn captioned(self, caption: &'static str) -> Self {
        View { caption: Some(caption), ..self }
    }
}

impl Table {
    /// The table as text, no wider than `width` columns of a terminal, the first `rows` rows of it.
    pub fn view(&self, width: usize, rows: usize) -> View<'_> {
        View { table: self, width, rows, caption: None }
    }

    /// The table in Markdown, all of its rows.
    ///
    /// # Errors
    /// None that a table could cause.
    pub fn markdown(&self) -> Result<String> {
        let encoder = MarkdownEncoder::new(&self.fields);
        let mut out = encoder.start();
        for batch in &self.batches {
            out.extend(encoder.rows(batch, None)?);
        }
        Ok(String::from_utf8_lossy(&out).into_owned())
    }
}

impl fmt::Display for Table {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.view(100, 20).fmt(f)
    }
}

/// A column's cells as text.
struct ShownColumn {
    name: String,
    cells: Vec<String>,
    right: bool,
    width: usize,
}

fn columns(table: &Table, rows: usize) -> Vec<ShownColumn> {
    let mut columns: Vec<ShownColumn> = table
        .fields
        .iter()
        .map(|f| {
            let right = f.kind.is_number();
            ShownColumn { name: cut(&f.name, CELL), cells: Vec::new(), right, width: 0 }
        })
        .collect();
    let mut left = rows;
    for batch in &table.batches {
        let rows = left.min(batch.rows);
        left -= rows;
        for ((column, array), field) in columns.iter_mut().zip(&batch.columns).zip(&table.fields) {
            let Ok(array) = widen(array) else { continue };
            column.cells.extend((0..rows).map(|row| cell(&Scalar::from_array(&array, row), &field.kind)));
        }
    }
    for column in &mut columns {
        if column.right {
            align_points(&mut column.cells);
        }
        column.width = column.cells.iter().map(|c| c.width()).max().unwrap_or(0).max(column.name.width());
    }
    columns
}

fn cell(value: &Scalar, kind: &Type) -> String {
    match value {
        Scalar::Null => "·".into(),
        Scalar::Float(v) => shown(*v),
        Scalar::Text(text) if text.is_empty() => "\"\"".into(),
        Scalar::Text(text) => cut(text, CELL),
        other if *kind == Type::Text => cut(&other.plain(), CELL),
        other => cut(&other.plain(), CELL * 2),
    }
}

/// Pads numbers at their right so that their points stand below each other.
fn align_points(cells: &mut [String]) {
    let after = |cell: &str| cell.find('.').map_or(0, |p| cell.len() - p);
    let most = cells.iter().filter(|c| !c.contains('e')).map(|c| after(c)).max().unwrap_or(0);
    for cell in cells.iter_mut().filter(|c| !c.contains('e')) {
        let missing = most - after(cell);
        cell.push_str(&" ".repeat(missing));
    }
}

impl fmt::Display for View<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let rows = self.table.len().min(self.rows);
        let columns = columns(self.table, rows);
        let mut fitting = 0;
        let mut width = 0;
        for column in &columns {
            let more = column.width + if fitting == 0 { 0 } else { 2 };
            if width + more > self.width && fitting > 0 {
                break;
            }
            width += more;
            fitting += 1;
        }
        let (shown, hidden) = columns.split_at(fitting);
        let hidden = not_shown(columns.len(), hidden);
        match self.caption {
            Some(caption) => writeln!(f, "{caption}{hidden}")?,
            None if hidden.is_empty() => {
                let columns = plural(columns.len() as u64, "column");
                writeln!(f, "{}, {columns}", caption(rows as u64, self.table.total))?;
            }
            None => writeln!(f, "{}{hidden}", caption(rows as u64, self.table.total))?,
        }
        if !columns.is_empty() {
            writeln!(f)?;
            write_line(f, shown.iter().map(|c| (c.name.as_str(), c)))?;
            for row in 0..rows {
                write_line(f, shown.iter().map(|c| (c.cells.get(row).map_or("", String::as_str), c)))?;
            }
        }
        Ok(())
    }
}

fn write_line<'a>(
    f: &mut fmt::Formatter<'_>,
    cells: impl Iterator<Item = (&'a str, &'a ShownColumn)>,
) -> fmt::Result {
    let mut line = String::new();
    for (i, (cell, column)) in cells.enumerate() {
        if i > 0 {
            line.push_str("  ");
        }
        let gap = " ".repeat(column.width.saturating_sub(cell.width()));
        if column.right {
            line.push_str(&gap);
            line.push_str(cell);
        } else {
            line.push_str(cell);
            line.push_str(&gap);
        }
    }
    writeln!(f, "{}", line.trim_end())
}

/// What is shown of how much.
fn caption(rows: u64, total: u64) -> String {
    match (rows, total) {
        (_, 0) => "no rows".to_owned(),
        (rows, total) if rows == total => plural(total, "row"),
        (0, total) => plural(total, "row"),
        (rows, total) => format!("rows 1–{} of {}", grouped(rows), grouped(total)),
    }
}

/// Which columns did not fit; nothing if all did.
fn not_shown(columns: usize, hidden: &[ShownColumn]) -> String {
    if hidden.is_empty() {
        return String::new();
    }
    let names = comma(hidden.iter().take(12).map(|c| &c.name));
    let more = if hidden.len() > 12 { ", …" } else { "" };
    format!(", {} of {columns} columns; not shown: {names}{more}", columns - hidden.len())
}
