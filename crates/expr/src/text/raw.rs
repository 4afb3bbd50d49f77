//! Texts that stand in a recipe as they are: in quotes, or on lines of their own below a keyword.

use std::ops::Range;

/// A text, and where each of its bytes stood.
#[derive(Debug, Default, PartialEq)]
pub struct Mapped {
    /// The text: quotes are no longer doubled, lines no longer indented.
    pub text: String,
    /// The byte of each byte of the text in what was read, and of its end.
    pub bytes: Vec<usize>,
}

impl Mapped {
    fn push(&mut self, c: char, at: usize) {
        self.bytes.extend((0..c.len_utf8()).map(|i| at + i));
        self.text.push(c);
    }
}

/// Reads a text as it is written: in single quotes, or as lines.
pub fn read(written: &str) -> Mapped {
    if written.starts_with('\'') { quoted(written) } else { block(written) }
}

/// Reads a text in single quotes.
fn quoted(written: &str) -> Mapped {
    let mut mapped = Mapped::default();
    let mut chars = written.char_indices().skip(1).peekable();
    let mut end = written.len();
    while let Some((at, c)) = chars.next() {
        if c == '\'' && chars.next_if(|(_, next)| *next == '\'').is_none() {
            end = at;
            break;
        }
        mapped.push(c, at);
    }
    mapped.bytes.push(end);
    mapped
}

/// Reads lines: what all of them are indented by is left out, and blanks on lines of nothing else.
fn block(written: &str) -> Mapped {
    let lines = || written.split('\n').filter(|line| !line.trim().is_empty());
    let blanks = |line: &str| line.len() - line.trim_start_matches([' ', '\t']).len();
    let indent = lines().map(blanks).min().unwrap_or(0);
    let mut mapped = Mapped::default();
    let mut start = 0;
    for (i, line) in written.split('\n').enumerate() {
        if i > 0 {
            mapped.push('\n', start - 1);
        }
        let kept = if line.trim().is_empty() { "" } else { line.get(indent..).unwrap_or_default() };
        let first = start + line.len() - kept.len();
        kept.char_indices().for_each(|(at, c)| mapped.push(c, first + at));
        start += line.len() + 1;
    }
    mapped.bytes.push(written.len());
    mapped
}

/// Writes a text as lines that [`read`] reads as the same text, each behind two blanks; `None` if there are no such lines.
pub fn as_block(text: &str) -> Option<String> {
    let lines: Vec<String> = text
        .split('\n')
        .map(|line| if line.is_empty() { String::new() } else { format!("  {line}") })
        .collect();
    let written = lines.join("\n");
    let starts_and_ends = [text.split('\n').next(), text.rsplit('\n').next()];
    let is_whole = starts_and_ends.into_iter().flatten().all(|line| !line.trim().is_empty());
    (is_whole && !text.starts_with('\'') && !text.contains('\r') && block(&written).text == text)
        .then_some(written)
}

/// The lines at the start of a text that are indented deeper than so many blanks, up to the last that is not blank; a first
/// line that holds blanks only is that of the keyword. `None` if there are none, or something else stands on it.
pub(super) fn lines_below(text: &str, indent: usize) -> Option<Range<usize>> {
    let mut found: Option<Range<usize>> = None;
    let mut at = 0;
    for (i, line) in text.split_inclusive('\n').enumerate() {
        let is_blank = line.trim().is_empty();
        if i == 0 && !is_blank {
            return None;
        }
        if i > 0 && !is_blank {
            if width_of_indent(line) <= indent {
                break;
            }
            let end = at + line.trim_end_matches(['\n', '\r']).len();
            found = Some(found.map_or(at, |range| range.start)..end);
        }
        at += line.len();
    }
    found
}

/// The width of the blanks before a line; a tab goes to the next multiple of eight.
fn width_of_indent(line: &str) -> usize {
    let blanks = line.chars().take_while(|c| [' ', '\t'].contains(c));
    blanks.fold(0, |width, c| if c == '\t' { width + 8 - width % 8 } else { width + 1 })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("'it''s'", "it's")]
    #[case("''", "")]
    #[case("    select a\n      from b\n\n    where c", "select a\n  from b\n\nwhere c")]
    #[case("\tselect 'ä'\n\t\tfrom b", "select 'ä'\n\tfrom b")]
    fn a_text_is_read_with_the_place_of_each_byte(#[case] written: &str, #[case] text: &str) {
        let mapped = read(written);
        assert_eq!(mapped.text, text);
        assert_eq!(mapped.bytes.len(), text.len() + 1);
        for (at, c) in text.char_indices() {
            assert!(written[mapped.bytes[at]..].starts_with(c), "{c} at {at}");
        }
    }

    #[rstest::rstest]
    #[case("select 'a'", Some("  select 'a'"))]
    #[case("select\n\n  a", Some("  select\n\n    a"))]
    #[case(" select", None)]
    #[case("select\n", None)]
    #[case("select\n ", None)]
    #[case("'a'", None)]
    fn a_text_is_written_as_lines_where_it_reads_back(#[case] text: &str, #[case] written: Option<&str>) {
        assert_eq!(as_block(text).as_deref(), written);
        if let Some(written) = written {
            assert_eq!(read(written).text, text);
        }
    }

    #[rstest::rstest]
    #[case("\n  a\n\n  b\nc", 0, Some("  a\n\n  b"))]
    #[case(" \n  a\n", 0, Some("  a"))]
    #[case("\n  a", 2, None)]
    #[case(" x\n  a", 0, None)]
    #[case("\n\n", 0, None)]
    fn lines_below_a_keyword_are_found(
        #[case] text: &str,
        #[case] indent: usize,
        #[case] found: Option<&str>,
    ) {
        assert_eq!(lines_below(text, indent).map(|range| &text[range]), found);
    }
}
