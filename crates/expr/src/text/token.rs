//! Text into tokens.

use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result, SourceText, Span};

use super::raw;

const SYMBOLS: [&str; 20] = [
    "<>", "<=", ">=", "==", "!=", "||", "(", ")", ",", ":", "+", "-", "*", "/", "=", "<", ">", ".", "$", ";",
];

/// The step whose text may stand on lines of its own below it, as it is: a query.
const RAW_BELOW: &str = "sql";

/// What a token is.
#[derive(Clone, Debug, PartialEq)]
pub enum TokenKind {
    /// A name or keyword as it is written.
    Word(String),
    /// A name in double quotes.
    Quoted(String),
    /// A text in single quotes.
    Text(String),
    /// A number as it is written, underscores removed.
    Number(String),
    /// `$name`.
    Parameter(String),
    /// A symbol of one or two characters.
    Symbol(&'static str),
}

/// The smallest part of a text, and where it stands.
#[derive(Clone, Debug)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Where it stands.
    pub span: Span,
    /// The width of the blanks before it, where it is the first of its line.
    pub indent: Option<usize>,
}

/// Cuts a text into tokens; comments and blanks are left out.
pub fn tokens(source: &Arc<SourceText>) -> Result<Vec<Token>> {
    Lexer { source, text: &source.text, at: 0 }.run()
}

struct Lexer<'a> {
    source: &'a Arc<SourceText>,
    text: &'a str,
    at: usize,
}

impl Lexer<'_> {
    fn run(mut self) -> Result<Vec<Token>> {
        let mut tokens = Vec::new();
        let mut indent = Some(0);
        while let Some(c) = self.peek() {
            match c {
                '\n' => {
                    indent = Some(0);
                    self.at += 1;
                }
                '\t' => {
                    indent = indent.map(|i| i + 8 - i % 8);
                    self.at += 1;
                }
                c if c.is_whitespace() || c == '\u{feff}' => {
                    indent = indent.map(|i| i + usize::from(c == ' '));
                    self.at += c.len_utf8();
                }
                '#' => {
                    let rest = self.rest();
                    self.at += rest.find('\n').unwrap_or(rest.len());
                }
                _ => {
                    let start = self.at;
                    let kind = self.token(c)?;
                    let first = indent.take();
                    let query_below = match (&kind, first) {
                        (TokenKind::Word(word), Some(indent)) if word.eq_ignore_ascii_case(RAW_BELOW) => {
                            raw::lines_below(self.rest(), indent)
                        }
                        _ => None,
                    };
                    tokens.push(Token { kind, span: Span { start, end: self.at }, indent: first });
                    if let Some(lines) = query_below {
                        let span = Span { start: self.at + lines.start, end: self.at + lines.end };
                        let written = self.text.get(span.start..span.end).unwrap_or_default();
                        let kind = TokenKind::Text(raw::read(written).text);
                        tokens.push(Token { kind, span, indent: None });
                        self.at = span.end;
                    }
                }
            }
        }
        Ok(tokens)
    }

    fn rest(&self) -> &str {
        self.text.get(self.at..).unwrap_or_default()
    }

    fn peek(&self) -> Option<char> {
        self.rest().chars().next()
    }

    fn token(&mut self, first: char) -> Result<TokenKind> {
        match first {
            '\'' => Ok(TokenKind::Text(self.quoted('\'')?)),
            '"' => Ok(TokenKind::Quoted(self.quoted('"')?)),
            '0'..='9' => self.number(),
            '$' => {
                self.at += 1;
                let name = self.word();
                if name.is_empty() {
                    return Err(self.error(self.at - 1, "A parameter's name stands right after $."));
                }
                Ok(TokenKind::Parameter(name))
            }
            c if unicode_ident::is_xid_start(c) || c == '_' => Ok(TokenKind::Word(self.word())),
            c => {
                let found = SYMBOLS.iter().find(|s| self.rest().starts_with(**s));
                match found {
                    Some(symbol) => {
                        self.at += symbol.len();
                        Ok(TokenKind::Symbol(symbol))
                    }
                    None => {
                        let start = self.at;
                        self.at += c.len_utf8();
                        let hint = match c {
                            '“' | '”' | '„' | '‘' | '’' => {
                                "Texts stand in straight single quotes: 'A'; names in straight double quotes: \"Fat %\"."
                            }
                            '%' => "The remainder is written with mod: litres mod 10.",
                            '^' => "A power is written power(x, y).",
                            '&' | '|' => "Conditions are joined with and, or; texts with ||.",
                            '!' => "Write not before a condition, <> for unequal.",
                            '[' | ']' | '{' | '}' => "Lists stand in parentheses: in (1, 2).",
                            _ => "A column with such a name stands in double quotes: \"Fat %\".",
                        };
                        Err(self.error(start, format!("The character {c} means nothing here.")).next(hint))
                    }
                }
            }
        }
    }

    fn word(&mut self) -> String {
        let rest = self.rest();
        let end = rest
            .char_indices()
            .find(|(_, c)| !(unicode_ident::is_xid_continue(*c) || *c == '_'))
            .map_or(rest.len(), |(i, _)| i);
        let word = rest.get(..end).unwrap_or_default().to_owned();
        self.at += end;
        word
    }

    fn quoted(&mut self, quote: char) -> Result<String> {
        let start = self.at;
        self.at += 1;
        let mut value = String::new();
        let mut chars = self.text.get(self.at..).unwrap_or_default().char_indices().peekable();
        while let Some((i, c)) = chars.next() {
            if c != quote {
                value.push(c);
            } else if chars.peek().is_some_and(|(_, next)| *next == quote) {
                value.push(quote);
                chars.next();
            } else {
                self.at += i + 1;
                return Ok(value);
            }
        }
        self.at = self.text.len();
        let what = if quote == '\'' { "This text never ends." } else { "This name never ends." };
        let error =
            self.error(start, what).next(format!("Close it with {quote}; inside, {quote} is written twice."));
        Err(error)
    }

    fn number(&mut self) -> Result<TokenKind> {
        let start = self.at;
        let mut text = String::new();
        let digits = |lexer: &mut Self, text: &mut String| {
            while let Some(c) = lexer.peek().filter(|c| c.is_ascii_digit() || *c == '_') {
                if c != '_' {
                    text.push(c);
                }
                lexer.at += 1;
            }
        };
        digits(self, &mut text);
        let mut following = self.rest().chars();
        if following.next() == Some('.') && following.next().is_some_and(|c| c.is_ascii_digit()) {
            text.push('.');
            self.at += 1;
            digits(self, &mut text);
        }
        if matches!(self.peek(), Some('e' | 'E')) {
            let after: String = self.rest().chars().skip(1).take(2).collect();
            let signed = after.starts_with(['+', '-']);
            if after.chars().nth(usize::from(signed)).is_some_and(|c| c.is_ascii_digit()) {
                text.push('e');
                self.at += 1;
                if signed {
                    text.push(after.chars().next().unwrap_or('+'));
                    self.at += 1;
                }
                digits(self, &mut text);
            }
        }
        if self.peek().is_some_and(|c| unicode_ident::is_xid_start(c) || c == '_') {
            self.word();
            return Err(self.error(start, "A name cannot start with a digit.").next(
                "Put it in double quotes if it is a column's name; put a blank after it if it is a number.",
            ));
        }
        if self.peek() == Some('.') {
            self.at += 1;
            return Err(self
                .error(start, "Digits stand on both sides of a decimal point.")
                .next("Write 5.0, or 5."));
        }
        Ok(TokenKind::Number(text))
    }

    fn error(&self, start: usize, what: impl Into<String>) -> Error {
        Error::new(ErrorKind::Syntax, what).at(self.source, Span { start, end: self.at })
    }
}
