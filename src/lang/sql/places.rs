//! Places in the text of a query, as places in the text that the query stands in.

use std::sync::Arc;

use churn_core::{Error, ErrorKind, SourceText, Span};
use churn_expr::text::raw;
use sqlparser::tokenizer::{Location, Span as Lines};

/// The text of a query, and where each of its bytes stands in the text that messages show.
pub(super) struct Places {
    /// The query.
    pub(super) text: String,
    /// The text that messages show.
    pub(super) source: Arc<SourceText>,
    /// The byte of the source of each byte of the query, and of its end.
    bytes: Vec<usize>,
    /// The byte of each character of the query, and of its end.
    characters: Vec<usize>,
    /// The first character of each line of the query.
    lines: Vec<usize>,
}

impl Places {
    /// The places of a query that stands at `span` of a source, in quotes or as lines. Where it does not stand there, its own
    /// text is shown.
    pub(super) fn new(text: &str, source: &Arc<SourceText>, span: Span) -> Places {
        let written = source.text.get(span.start..span.end).unwrap_or_default();
        let raw::Mapped { text: read, bytes } = raw::read(written);
        let characters = text.char_indices().map(|(byte, _)| byte).chain([text.len()]).collect();
        let breaks = text.chars().enumerate().filter(|(_, c)| *c == '\n').map(|(at, _)| at + 1);
        let lines = std::iter::once(0).chain(breaks).collect();
        let (source, bytes) = if read == text {
            (source.clone(), bytes.into_iter().map(|byte| byte + span.start).collect())
        } else {
            let own = SourceText { name: "the query".into(), text: text.to_owned() };
            (Arc::new(own), (0..=text.len()).collect())
        };
        Places { text: text.to_owned(), source, bytes, characters, lines }
    }

    /// A byte of the query.
    fn byte(&self, at: Location) -> usize {
        let line = usize::try_from(at.line).unwrap_or(1).saturating_sub(1);
        let column = usize::try_from(at.column).unwrap_or(1).saturating_sub(1);
        let character = self.lines.get(line).map(|first| first + column);
        character.and_then(|at| self.characters.get(at)).copied().unwrap_or(self.text.len())
    }

    /// A place of the query as bytes of the query; `None` where the parser knows none.
    pub(super) fn within(&self, span: Lines) -> Option<Span> {
        (span.start.line > 0).then(|| Span { start: self.byte(span.start), end: self.byte(span.end) })
    }

    /// A place of the query in the source.
    pub(super) fn shown(&self, within: Span) -> Span {
        let at = |byte: usize| {
            self.bytes.get(byte).or(self.bytes.last()).copied().unwrap_or(self.source.text.len())
        };
        let end = match within.end.checked_sub(1) {
            Some(last) if last >= within.start => at(last) + self.width(last),
            _ => at(within.start),
        };
        Span { start: at(within.start), end }
    }

    /// The bytes of the character that this byte of the query is in, from this byte on.
    fn width(&self, byte: usize) -> usize {
        (byte + 1..=self.text.len()).find(|end| self.text.is_char_boundary(*end)).map_or(1, |end| end - byte)
    }

    /// A place of the query in the source; the whole query where the parser knows none.
    pub(super) fn span(&self, span: Lines) -> Span {
        self.shown(self.within(span).unwrap_or(Span { start: 0, end: self.text.len() }))
    }

    /// An error at a place of the source.
    pub(super) fn error(&self, kind: ErrorKind, what: impl Into<String>, span: Span) -> Error {
        Error::new(kind, what).at(&self.source, span)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(source: &str, text: &str, part: &str) -> String {
        let source = Arc::new(SourceText { name: "test".into(), text: source.to_owned() });
        let start = source.text.find("sql").map_or(0, |at| at + 4);
        let span = Span { start, end: source.text.len() };
        let places = Places::new(text, &source, span);
        let at = places.text.find(part).unwrap_or_default();
        let found = places.shown(Span { start: at, end: at + part.len() });
        places.source.text.get(found.start..found.end).unwrap_or_default().to_owned()
    }

    #[rstest::rstest]
    #[case("sql 'select grade from d'", "select grade from d", "grade", "grade")]
    #[case("sql 'select ''ä'', grade'", "select 'ä', grade", "grade", "grade")]
    #[case("sql 'select ''ä'', grade'", "select 'ä', grade", "'ä'", "''ä'")]
    #[case("sql\n    select grade\n      from d", "select grade\n  from d", "from", "from")]
    #[case("sql 'another text'", "select höfe", "höfe", "höfe")]
    fn a_place_of_a_query_is_found_in_its_source(
        #[case] source: &str,
        #[case] text: &str,
        #[case] part: &str,
        #[case] found: &str,
    ) {
        assert_eq!(shown(source, text, part), found);
    }

    #[test]
    fn a_line_and_a_column_are_a_byte() {
        let source = Arc::new(SourceText { name: "test".into(), text: String::new() });
        let places = Places::new("select ä,\n  grade", &source, Span::default());
        let at = |line, column| Location { line, column };
        let span = places.within(Lines { start: at(2, 3), end: at(2, 8) });
        assert_eq!(span.and_then(|s| places.text.get(s.start..s.end)), Some("grade"));
        assert_eq!(places.within(Lines { start: at(0, 0), end: at(0, 0) }), None);
    }
}
