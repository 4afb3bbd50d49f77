//! `churn show INPUT`: the columns, the first rows, the size; in a blink on any size.

use churn::{
    RunOptions, Scalar, SourceView, Table, on_one_line, readable_bytes, readable_count, readable_plural,
};
use unicode_width::UnicodeWidthStr;

use super::{input, options};
use crate::Outcome;
use crate::arguments::{Resources, Show};
use crate::terminal::{Failure, out, width};

/// Rows that missing values are counted in.
const LOOKED_AT: usize = 1000;

pub(crate) fn run(arguments: &Show) -> Outcome {
    let resources = Resources { threads: Some(1), memory: None, temporary: None, ledger: None, quiet: true };
    let options = options(&resources);
    let flow = input(&arguments.input).first(LOOKED_AT.max(arguments.rows));
    let plan = super::prepared(&flow, &options, &Resources { quiet: false, ..resources })?;
    let table = match plan.run_with(&options) {
        Ok(table) => table,
        // What stands in the way of the first rows is told, and what is known is shown all the same.
        Err(error) => {
            out(columns_only(&plan))?;
            return Err(Failure::from(error));
        }
    };
    if let Some(source) = plan.sources().first() {
        let of = if arguments.input.trim().ends_with(".churn") { "a recipe over " } else { "" };
        out(format!("{of}{}\n\n", size(source, plan.columns().count())))?;
    }
    let is_all = table.len() < LOOKED_AT.max(arguments.rows);
    out(columns(&table, is_all)?)?;
    let rows = arguments.rows.min(table.len());
    if rows > 0 {
        out(format!(
            "\n{}",
            table.view(width(), rows).captioned(if rows == 1 { "the first row" } else { "the first rows" })
        ))?;
    }
    if arguments.last > 0 {
        last(arguments, &options)?;
    }
    Ok(())
}

/// The last rows, for which the input is read again.
fn last(arguments: &Show, options: &RunOptions) -> Outcome {
    if arguments.input.trim() == "-" {
        let what = "--last reads the input a second time, and standard input is there once.\n  Save it to a file first.";
        return Err(Failure::Request(what.to_owned()));
    }
    let table = input(&arguments.input).last(arguments.last).run_with(options)?;
    out(format!(
        "\n{}",
        table.view(width(), arguments.last).captioned(if arguments.last == 1 {
            "the last row"
        } else {
            "the last rows"
        })
    ))
}

fn columns_only(plan: &churn::CheckedPlan) -> String {
    plan.columns().fold(String::new(), |text, (name, kind)| format!("{text}{name}  {kind}\n")) + "\n"
}

/// Files, bytes, rows and columns in a line.
fn size(source: &SourceView, columns: usize) -> String {
    let mut parts = Vec::new();
    if source.files > 0 {
        parts.push(readable_plural(source.files as u64, "file"));
    }
    if let Some(bytes) = source.bytes.filter(|b| *b > 0) {
        parts.push(readable_bytes(bytes));
    }
    if let Some(rows) = source.rows.or(source.rows_looked_at.filter(|_| source.looked_at_all)) {
        parts.push(readable_plural(rows, "row"));
    } else if let Some(rows) = source.rows_about.filter(|r| *r > 0) {
        parts.push(format!("about {} rows", readable_count(rounded(rows))));
    }
    parts.push(readable_plural(columns as u64, "column"));
    if let Some(looked) = looked_at(source) {
        parts.push(format!("types from {looked}"));
    }
    parts.join(", ")
}

/// What the types of a source's columns were inferred from.
pub(super) fn looked_at(source: &SourceView) -> Option<String> {
    let rows = source.rows_looked_at?;
    let all = source.looked_at_all.then(|| "all rows".to_owned());
    Some(all.unwrap_or_else(|| readable_plural(rows, "row")))
}

/// A guess with as many digits as it deserves.
fn rounded(rows: u64) -> u64 {
    let unit = 10u64.pow(rows.max(1).ilog10().saturating_sub(1));
    (rows + unit / 2) / unit * unit
}

/// Each column's name, type, an example, and how many values are missing and how many zero, in all rows or in the first.
fn columns(table: &Table, is_all: bool) -> Result<String, Failure> {
    let title = ["column", "type", "example", "missing", "zeros"];
    let mut lines = vec![title.map(str::to_owned)];
    for (name, kind) in table.columns() {
        let values = table.values(name)?;
        let missing = values.iter().filter(|v| v.is_null()).count();
        let example = values.iter().find(|v| !v.is_null()).map_or_else(|| "·".into(), example);
        let zeros = values.iter().filter(|v| is_zero(v)).count();
        let counted = |count: usize| if count == 0 { "–".to_owned() } else { count.to_string() };
        let zeros = if kind.is_number() { counted(zeros) } else { String::new() };
        lines.push([on_one_line(name), kind.to_string(), example, counted(missing), zeros]);
    }
    let widths: Vec<usize> = (0..title.len())
        .map(|i| lines.iter().filter_map(|l| l.get(i)).map(|c| c.width()).max().unwrap_or(0))
        .collect();
    let mut text = String::new();
    for line in &lines {
        let mut padded = String::new();
        for (i, (cell, width)) in line.iter().zip(&widths).enumerate() {
            let gap = " ".repeat(width - cell.width());
            padded.push_str(&if i >= 3 { format!("{gap}{cell}  ") } else { format!("{cell}{gap}  ") });
        }
        text.push_str(padded.trim_end());
        text.push('\n');
    }
    let rows = table.len();
    if table.is_empty() {
        return Ok(text);
    }
    let counted = if is_all {
        "all rows".to_owned()
    } else {
        format!("the first {} rows", readable_count(rows as u64))
    };
    Ok(format!("{text}\nmissing and zeros are counted in {counted}\n"))
}

fn is_zero(value: &Scalar) -> bool {
    match value {
        Scalar::Int(v) => *v == 0,
        Scalar::Float(v) => *v == 0.0,
        Scalar::Decimal(v, ..) => *v == 0,
        _ => false,
    }
}

fn example(value: &Scalar) -> String {
    let text = on_one_line(&value.plain());
    if text.is_empty() {
        return "\"\"".into();
    }
    if text.chars().count() > 32 { text.chars().take(31).chain(['…']).collect() } else { text }
}
