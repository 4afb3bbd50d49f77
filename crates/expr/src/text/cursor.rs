//! A walk over the tokens of one logical line.

use std::sync::Arc;

use crate::ast::{ColumnRef, ColumnSet, SetOf};
use churn_core::deep::{self, NESTED};
use churn_core::error::nearest;
use churn_core::names::RESERVED;
use churn_core::types::no_type;
use churn_core::{Error, ErrorKind, Position, Result, Scalar, SourceText, Span, Type};

use super::habits::way_out;
use super::token::{Token, TokenKind};

/// Where a reader stands in a line.
#[derive(Clone, Debug)]
pub struct Cursor<'a> {
    /// The text that the tokens are of.
    pub source: &'a Arc<SourceText>,
    tokens: &'a [Token],
    at: usize,
    /// How deep the reader stands in parentheses and the like.
    depth: usize,
}

impl<'a> Cursor<'a> {
    /// Before the first of some tokens.
    pub fn new(source: &'a Arc<SourceText>, tokens: &'a [Token]) -> Self {
        Cursor { source, tokens, at: 0, depth: 0 }
    }

    /// Reads something that may hold more of its kind within.
    ///
    /// # Errors
    /// As `read`; or it stands too deep.
    pub fn nested<T>(&mut self, read: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        if self.depth >= NESTED {
            let error = self
                .error(format!("More than {NESTED} parentheses, calls or signs stand within each other."));
            return Err(error.next("Work a part of it out in a column of its own before it, with add."));
        }
        self.depth += 1;
        let result = deep::guarded(|| read(self));
        self.depth -= 1;
        result
    }

    /// The next token, left in place.
    pub fn peek(&self) -> Option<&'a TokenKind> {
        self.tokens.get(self.at).map(|t| &t.kind)
    }

    /// The token `ahead` of the next.
    pub fn peek_at(&self, ahead: usize) -> Option<&'a TokenKind> {
        self.tokens.get(self.at + ahead).map(|t| &t.kind)
    }

    /// The token before the next one.
    pub(super) fn previous(&self) -> Option<&'a TokenKind> {
        self.tokens.get(self.at.checked_sub(1)?).map(|token| &token.kind)
    }

    /// Whether no token is left.
    pub fn at_end(&self) -> bool {
        self.at >= self.tokens.len()
    }

    /// Goes over the next token.
    pub fn advance(&mut self) {
        self.at += 1;
    }

    /// The place of the next token, or just after the last one.
    pub fn span(&self) -> Position {
        match self.tokens.get(self.at) {
            Some(token) => token.span.into(),
            None => {
                let end = self.tokens.last().map_or(0, |t| t.span.end);
                Span { start: end, end: end + 1 }.into()
            }
        }
    }

    /// The place from `start` to the last token taken.
    pub fn since(&self, start: impl Into<Span>) -> Position {
        let start = start.into();
        let last = self.at.checked_sub(1).and_then(|i| self.tokens.get(i));
        start.to(last.map_or(start, |t| t.span)).into()
    }

    /// Takes the next token if it is this symbol.
    pub fn take_symbol(&mut self, symbol: &str) -> bool {
        let found = matches!(self.peek(), Some(TokenKind::Symbol(s)) if *s == symbol);
        self.at += usize::from(found);
        found
    }

    /// Whether the token `ahead` is this keyword, in any case.
    pub fn is_word_at(&self, ahead: usize, word: &str) -> bool {
        matches!(self.peek_at(ahead), Some(TokenKind::Word(w)) if w.eq_ignore_ascii_case(word))
    }

    /// Whether the token so many ahead is a symbol.
    pub fn is_symbol_at(&self, ahead: usize, symbol: &str) -> bool {
        matches!(self.peek_at(ahead), Some(TokenKind::Symbol(s)) if *s == symbol)
    }

    /// Takes the next token if it is this keyword, in any case.
    pub fn take_word(&mut self, word: &str) -> bool {
        let found = self.is_word_at(0, word);
        self.at += usize::from(found);
        found
    }

    /// Takes several keywords in a row, or none.
    pub fn take_words(&mut self, words: &[&str]) -> bool {
        let found = words.iter().enumerate().all(|(i, w)| self.is_word_at(i, w));
        if found {
            self.at += words.len();
        }
        found
    }

    /// Goes over a symbol.
    ///
    /// # Errors
    /// It is not there; the message says what it stands after.
    pub fn expect_symbol(&mut self, symbol: &str, after: &str) -> Result<()> {
        if self.take_symbol(symbol) {
            return Ok(());
        }
        Err(self.unexpected(&format!("{symbol} {after}")))
    }

    /// Goes over a word.
    ///
    /// # Errors
    /// It is not there; the message says why it is wanted.
    pub fn expect_word(&mut self, word: &str, why: &str) -> Result<()> {
        if self.take_word(word) { Ok(()) } else { Err(self.unexpected(&format!("{word} {why}"))) }
    }

    /// An error at the next token: something else is needed here.
    pub fn unexpected(&self, wanted: &str) -> Error {
        let what = match self.tokens.get(self.at) {
            Some(token) => {
                let found = self.source.text.get(token.span.start..token.span.end).unwrap_or_default();
                format!("{found} is not expected here.")
            }
            None => "The line ends too soon.".into(),
        };
        let error = self.error(what).why(format!("Expected: {wanted}."));
        match way_out(self) {
            Some(next) => error.next(next),
            None => error,
        }
    }

    /// An error at the next token.
    pub fn error(&self, what: impl Into<String>) -> Error {
        Error::new(ErrorKind::Syntax, what).at(self.source, self.span())
    }

    /// An error at a place.
    pub fn error_at(&self, span: impl Into<Span>, what: impl Into<String>) -> Error {
        Error::new(ErrorKind::Syntax, what).at(self.source, span)
    }

    /// The tokens up to where something else begins, outside of all parentheses, as a walk of their own; goes over them.
    pub fn part(&mut self, is_end: impl Fn(&Self) -> bool) -> Cursor<'a> {
        let start = self.at;
        let mut within = 0usize;
        while !self.at_end() && (within > 0 || !is_end(self)) {
            match self.peek() {
                Some(TokenKind::Symbol("(")) => within += 1,
                Some(TokenKind::Symbol(")")) => within = within.saturating_sub(1),
                _ => {}
            }
            self.at += 1;
        }
        Cursor { tokens: self.tokens.get(..self.at).unwrap_or_default(), at: start, ..self.clone() }
    }

    /// Refuses whatever is left of the line.
    pub fn expect_end(&self) -> Result<()> {
        if self.at_end() {
            return Ok(());
        }
        Err(self.unexpected("the end of the line, or a comma and one more item"))
    }

    /// Reads a name, plain or in double quotes.
    pub fn name(&mut self, what: &str) -> Result<(String, Position)> {
        let span = self.span();
        match self.peek() {
            Some(TokenKind::Word(word)) => {
                if RESERVED.iter().any(|r| r.eq_ignore_ascii_case(word)) {
                    return Err(self
                        .error(format!("{word} is a word of the language, not a name."))
                        .next(format!("If {what} is really called so, write \"{word}\".")));
                }
                self.at += 1;
                Ok((word.clone(), span))
            }
            Some(TokenKind::Quoted(word)) => {
                self.at += 1;
                Ok((word.clone(), span))
            }
            _ => Err(self.unexpected(what)),
        }
    }

    /// Reads a text in single quotes.
    pub fn text(&mut self, what: &str) -> Result<(String, Position)> {
        let span = self.span();
        match self.peek() {
            Some(TokenKind::Text(text)) => {
                self.at += 1;
                Ok((text.clone(), span))
            }
            _ => Err(self.unexpected(what)),
        }
    }

    /// Reads a whole number that is not negative.
    pub fn count(&mut self, what: &str) -> Result<usize> {
        let Some(TokenKind::Number(text)) = self.peek() else { return Err(self.unexpected(what)) };
        match text.parse() {
            Ok(count) => {
                self.at += 1;
                Ok(count)
            }
            Err(_) => Err(self.unexpected(what)),
        }
    }

    /// Reads a comma list, at least one item; a comma at the end of the line is let pass.
    pub fn list<T>(&mut self, mut item: impl FnMut(&mut Self) -> Result<T>) -> Result<Vec<T>> {
        let mut items = vec![item(self)?];
        while self.take_symbol(",") {
            if self.at_end() {
                break;
            }
            items.push(item(self)?);
        }
        Ok(items)
    }

    /// Reads a list in parentheses.
    pub fn in_parentheses<T>(&mut self, item: impl FnMut(&mut Self) -> Result<T>) -> Result<Vec<T>> {
        self.expect_symbol("(", "before the list")?;
        if self.take_symbol(")") {
            return Ok(Vec::new());
        }
        let items = self.list(item)?;
        self.expect_symbol(")", "after the list")?;
        Ok(items)
    }

    /// Reads a column's name or a column set.
    pub fn column_ref(&mut self) -> Result<ColumnRef> {
        if self.is_word_at(0, "each") {
            return Ok(ColumnRef::Set(self.column_set()?));
        }
        let (name, span) = self.name("a column's name")?;
        Ok(ColumnRef::Name(name, span))
    }

    /// Reads `each …`.
    pub fn column_set(&mut self) -> Result<ColumnSet> {
        let start = self.span();
        self.expect_word("each", "before a set of columns")?;
        let of = self.set_of()?;
        let mut except = Vec::new();
        if self.take_word("except") {
            except = if self.is_symbol_at(0, "(") {
                self.in_parentheses(|c| c.name("a column's name"))?
            } else {
                vec![self.name("a column's name")?]
            };
        }
        Ok(ColumnSet { of, except, span: self.since(start) })
    }

    fn set_of(&mut self) -> Result<SetOf> {
        for (word, of) in
            [("number", SetOf::Number), ("text", SetOf::Text), ("date", SetOf::Date), ("bool", SetOf::Bool)]
        {
            if self.take_word(word) {
                return Ok(of);
            }
        }
        if self.take_word("matching") {
            let (pattern, span) = self.text("a regular expression in single quotes")?;
            if let Err(error) = regex::Regex::new(&pattern) {
                let reason = error.to_string();
                let last = reason.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
                return Err(self
                    .error_at(span, "This is not a regular expression.")
                    .why(format!("It cannot be read: {last}.")));
            }
            return Ok(SetOf::Matching(pattern));
        }
        match self.peek() {
            Some(TokenKind::Text(pattern)) => {
                self.at += 1;
                Ok(SetOf::Like(pattern.clone()))
            }
            Some(TokenKind::Number(_)) => {
                let from = self.count("a position")?;
                self.expect_word("to", "between the two positions")?;
                Ok(SetOf::Positions(from, self.count("a position")?))
            }
            Some(TokenKind::Symbol("(")) => Ok(SetOf::Names(
                self.in_parentheses(|c| c.name("a column's name"))?.into_iter().map(|(n, _)| n).collect(),
            )),
            Some(TokenKind::Word(word))
                if !RESERVED.contains(&word.to_ascii_lowercase().as_str())
                    && ![
                        "except", "named", "with", "down", "up", "at", "after", "as", "keep", "split",
                        "skip", "by", "escape",
                    ]
                    .contains(&word.to_ascii_lowercase().as_str()) =>
            {
                let known = ["number", "text", "date", "bool", "matching"];
                let error = self.unexpected("number, text, date, bool, a pattern such as 'm_*', or nothing");
                Err(match nearest(word, known) {
                    Some(near) => error.next(format!("Did you mean each {near}?")),
                    None => error.next(format!("A single column needs no each: write {word}.")),
                })
            }
            _ => Ok(SetOf::All),
        }
    }

    /// Reads the name of a type.
    pub fn type_name(&mut self) -> Result<Type> {
        let span = self.span();
        let (word, _) = self.name("a type")?;
        match word.to_ascii_lowercase().as_str() {
            "decimal" => {
                let digits = self.in_parentheses(|c| c.count("a number of digits"))?;
                match digits.as_slice() {
                    [p @ 1..=38, s] if s <= p => Ok(Type::Decimal(*p as u8, *s as i8)),
                    _ => Err(self
                        .error_at(
                            self.since(span),
                            "A decimal has 1 to 38 digits, and no more of them after the point.",
                        )
                        .next("Write decimal(10, 2).")),
                }
            }
            "list" => {
                self.expect_symbol("(", "before the type of the list's values")?;
                let item = self.nested(Self::type_name)?;
                self.expect_symbol(")", "after the type of the list's values")?;
                Ok(Type::List(Box::new(item)))
            }
            other => Type::from_name(other).ok_or_else(|| no_type(&word).at(self.source, span)),
        }
    }

    /// Reads a literal with its sign.
    pub fn literal(&mut self) -> Result<Scalar> {
        let start = self.span();
        let expr = super::expression(self)?;
        crate::fold::literal(&expr).ok_or_else(|| {
            self.error_at(self.since(start), "A literal is expected here: a number, a text, a date.")
        })
    }
}
