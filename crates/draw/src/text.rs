//! Texts as they are put together and as documents hold them.

use std::fmt::{Arguments, Write as _};

/// Appends to a text what `format_args!` makes, which cannot fail.
pub(crate) fn push(text: &mut String, what: Arguments<'_>) {
    let _ = text.write_fmt(what);
}

/// A text as it stands in a document of XML or HTML: what would be read as something else is written out, and what no document
/// may hold is a sign for it.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '&' => out.push_str("&amp;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            '\n' | '\t' => out.push(c),
            c if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_stay_texts() {
        assert_eq!(escaped("<b a='1'>&\u{0}"), "&lt;b a=&#39;1&#39;&gt;&amp;\u{fffd}");
    }
}
