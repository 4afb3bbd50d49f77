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

/// How much further in the rest of a folded line stands.
const FURTHER: usize = 6;

/// Cuts an indented line at blanks into lines of about a width; those behind the first stand further in.
pub fn folded(line: &str, width: usize) -> Vec<String> {
    if line.width() <= width {
        return vec![line.to_owned()];
    }
    let text = line.trim_start();
    let indent = line.len() - text.len();
    let further = |(number, part): (usize, String)| {
        let indent = if number == 0 { indent } else { indent + FURTHER };
        " ".repeat(indent) + &part
    };
    let parts = wrapped(text, width.saturating_sub(indent + FURTHER).max(FURTHER));
    parts.into_iter().enumerate().map(further).collect()
}

/// What is shown for a control character, which would break a line or steer a terminal: its picture.
pub fn mark(c: char) -> char {
    match c {
        '\n' => '↵',
        '\u{7f}' => '\u{2421}',
        c => char::from_u32(0x2400 + u32::from(c)).filter(|_| c < ' ').unwrap_or('\u{fffd}'),
    }
}

/// The text with marks in place of control characters.
pub fn on_one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { mark(c) } else { c }).collect()
}

/// The text on one line, shortened to a width.
pub fn cut(text: &str, width: usize) -> String {
    let clean = on_one_line(text);
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("a b c", 5, &["a b c"])]
    #[case("aaa bbb ccc", 7, &["aaa bbb", "ccc"])]
    #[case("a-word-that-is-longer b", 6, &["a-word-that-is-longer", "b"])]
    #[case("", 3, &[""])]
    fn texts_are_cut_at_blanks(#[case] text: &str, #[case] width: usize, #[case] expected: &[&str]) {
        assert_eq!(wrapped(text, width), expected);
    }

    #[rstest]
    #[case("  filter litres > 0", 30, &["  filter litres > 0"])]
    #[case("  filter litres > 0 and grade = 'A'", 24, &["  filter litres >", "        0 and grade =", "        'A'"])]
    #[case("sort farm, day, litres", 16, &["sort farm,", "      day,", "      litres"])]
    fn the_rest_of_a_line_stands_further_in(
        #[case] line: &str,
        #[case] width: usize,
        #[case] expected: &[&str],
    ) {
        assert_eq!(folded(line, width), expected);
        assert!(expected.iter().all(|line| line.width() <= width));
    }

    #[rstest]
    #[case("litres", 6, "litres")]
    #[case("litres", 5, "litr…")]
    #[case("a\nb", 9, "a↵b")]
    #[case("a\u{1b}[2J\t\u{7f}\u{85}", 9, "a␛[2J␉␡\u{fffd}")]
    #[case("漢字漢字", 5, "漢字…")]
    fn texts_are_cut_to_a_width(#[case] text: &str, #[case] width: usize, #[case] expected: &str) {
        assert_eq!(cut(text, width), expected);
    }
}
