//! Lines of cells that stand beside each other, within a width.

use std::fmt;

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Rows of cells; the first column may be numbers, the last one is cut where the width ends.
#[derive(Debug, Default)]
pub struct AlignedText {
    /// The cells of each row.
    pub rows: Vec<Vec<String>>,
    /// Whether the first column is aligned at its right.
    pub numbers_first: bool,
}

impl AlignedText {
    /// Writes the rows, three blanks between columns.
    pub fn write(&self, f: &mut fmt::Formatter<'_>, width: usize) -> fmt::Result {
        let columns = self.rows.iter().map(Vec::len).max().unwrap_or(0);
        let widest =
            |i: usize| self.rows.iter().filter_map(|r| r.get(i)).map(|c| c.width()).max().unwrap_or(0);
        let widths: Vec<usize> = (0..columns).map(widest).collect();
        for row in &self.rows {
            let mut line = String::new();
            for (i, (cell, column)) in row.iter().zip(&widths).enumerate() {
                let gap = " ".repeat(column.saturating_sub(cell.width()));
                match i {
                    0 if self.numbers_first => line.push_str(&format!("{gap}{cell}   ")),
                    i if i + 1 == columns => {
                        line.push_str(&cut(cell, width.saturating_sub(line.width()).max(24)))
                    }
                    _ => line.push_str(&format!("{cell}{gap}   ")),
                }
            }
            writeln!(f, "{}", line.trim_end())?;
        }
        Ok(())
    }
}

/// Cuts a text at blanks into lines of about a width.
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// The text on one line, shortened to a width.
pub fn cut(text: &str, width: usize) -> String {
    let clean: String = text
        .chars()
        .map(|c| {
            if c == '\n' {
                '↵'
            } else if c.is_control() {
                '\u{fffd}'
            } else {
                c
            }
        })
        .collect();
    if clean.width() <= width {
        return clean;
    }
    let mut out = String::new();
    let mut used = 0;
    for c in clean.chars() {
        used += c.width().unwrap_or(0);
        if used > width - 1 {
            break;
        }
        out.push(c);
    }
    out.push('…');
    out
}
