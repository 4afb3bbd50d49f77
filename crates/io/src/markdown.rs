//! Tables in Markdown, written: a row a line, whatever their number.
//!
//! Cells read as in a table on a terminal: null is `·`, floats have six significant digits or more. Texts stand in full;
//! a bar in one is escaped, a line break is `<br>`.

use std::path::PathBuf;
use std::sync::Arc;

use arrow_array::BinaryViewArray;
use churn_core::readable::shown;
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Scalar};

use super::format::{Encoder, FileFormat, Opening, WriteOptions};
use super::source::Source;

/// Tables of Markdown among the formats; they are only written.
#[derive(Debug)]
pub(crate) struct Markdown;

impl FileFormat for Markdown {
    fn title(&self) -> &str {
        "Markdown"
    }

    fn names(&self) -> Vec<&str> {
        vec!["md", "markdown"]
    }

    fn is_text(&self) -> bool {
        true
    }

    fn open(&self, _: &[PathBuf], _: Opening) -> Result<Arc<dyn Source>> {
        let next = "Save the table as delimited text, such as .csv, and read that.";
        Err(Error::new(ErrorKind::Input, "Markdown is written, not read.").next(next))
    }

    fn reads_with(&self, _: &str) -> bool {
        true
    }

    fn encoder(&self, fields: &[Field], _: &WriteOptions) -> Option<Box<dyn Encoder>> {
        Some(Box::new(MarkdownEncoder::new(fields)))
    }
}

/// Writes rows as a table of Markdown, its columns aligned.
pub struct MarkdownEncoder {
    heading: String,
}

impl MarkdownEncoder {
    /// A writer of these columns.
    pub fn new(fields: &[Field]) -> MarkdownEncoder {
        let mut heading = String::new();
        push_row(fields.iter().map(|field| escaped(&field.name)), &mut heading);
        let rule = |field: &Field| if field.kind.is_number() { "---:" } else { "---" };
        push_row(fields.iter().map(|field| rule(field).to_owned()), &mut heading);
        MarkdownEncoder { heading }
    }
}

fn push_row(cells: impl Iterator<Item = String>, out: &mut String) {
    for cell in cells {
        out.push_str("| ");
        out.push_str(&cell);
        out.push(' ');
    }
    out.push_str("|\n");
}

/// A text on one line, without what Markdown or a terminal would take for something else.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '|' => out.push_str("\\|"),
            '\n' => out.push_str("<br>"),
            '\r' => {}
            c if c.is_control() => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

fn cell(value: &Scalar) -> String {
    match value {
        Scalar::Null => "·".to_owned(),
        Scalar::Float(value) => shown(*value),
        Scalar::Text(text) if text.is_empty() => "\"\"".to_owned(),
        Scalar::Text(text) => escaped(text),
        other => escaped(&other.plain()),
    }
}

impl Encoder for MarkdownEncoder {
    fn start(&self) -> Vec<u8> {
        self.heading.clone().into_bytes()
    }

    fn rows(&self, batch: &Batch, _: Option<&BinaryViewArray>) -> Result<Vec<u8>> {
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
        let mut out = String::new();
        for row in 0..batch.rows {
            push_row(columns.iter().map(|column| cell(&Scalar::from_array(column, row))), &mut out);
        }
        Ok(out.into_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("a|b", "a\\|b")]
    #[case("two\r\nlines", "two<br>lines")]
    #[case("\u{1b}[31m", "\u{fffd}[31m")]
    fn texts_stay_in_their_cells(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(escaped(text), expected);
    }
}
