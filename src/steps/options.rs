//! `with (option = value, …)` of `read` and `write`.

use std::fmt;

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Position, Result, Scalar, Type};
use churn_expr::text::{Cursor, TokenKind};

use super::Checker;

/// What the language knows of an option.
pub(crate) struct OptionKind {
    /// Its name.
    pub(crate) name: &'static str,
    /// How it is written.
    pub(crate) usage: &'static str,
    /// What it says, in a sentence.
    pub(crate) summary: &'static str,
    /// A step over the demo's data.
    pub(crate) example: &'static str,
}

/// An option as it is written.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Setting {
    pub(super) name: String,
    pub(super) value: OptionValue,
    pub(super) span: Position,
}

/// What an option may be set to.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum OptionValue {
    Word(String),
    Literal(Scalar),
    Parameter(String, Position),
    List(Vec<Element>),
}

/// An element of a list: a text, a name, or a name with a type.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Element {
    Text(String),
    Name(String),
    /// A column's type, and the pattern of its dates.
    Typed(String, Type, Option<String>),
    /// How a column is shown.
    Shown(String, String),
}

/// Reads `with (…)`, if it stands here.
pub(super) fn read(c: &mut Cursor<'_>) -> Result<Vec<Setting>> {
    if !c.take_word("with") {
        return Ok(Vec::new());
    }
    if !c.is_symbol_at(0, "(") {
        return Err(c.unexpected("( and the options: with (separator = ';')"));
    }
    c.in_parentheses(|c| {
        let start = c.span();
        let (name, _) = c.name("an option's name")?;
        c.expect_symbol("=", "between the option and its value")?;
        let value = read_value(c)?;
        Ok(Setting { name, value, span: c.since(start) })
    })
}

fn read_value(c: &mut Cursor<'_>) -> Result<OptionValue> {
    let span = c.span();
    match c.peek() {
        Some(TokenKind::Symbol("(")) => Ok(OptionValue::List(c.in_parentheses(read_element)?)),
        Some(TokenKind::Parameter(parameter)) => {
            c.advance();
            Ok(OptionValue::Parameter(parameter.clone(), span))
        }
        Some(TokenKind::Word(word)) if !["date", "time", "timestamp"].contains(&word.as_str()) => {
            c.advance();
            Ok(match word.to_ascii_lowercase().as_str() {
                "true" => OptionValue::Literal(Scalar::Bool(true)),
                "false" => OptionValue::Literal(Scalar::Bool(false)),
                "null" => OptionValue::Word("null".into()),
                other => OptionValue::Word(other.to_owned()),
            })
        }
        _ => Ok(OptionValue::Literal(c.literal()?)),
    }
}

fn read_element(c: &mut Cursor<'_>) -> Result<Element> {
    if let Some(TokenKind::Text(text)) = c.peek() {
        c.advance();
        return Ok(Element::Text(text.clone()));
    }
    let (name, _) = c.name("a name or a text")?;
    if c.is_symbol_at(0, ",") || c.is_symbol_at(0, ")") {
        return Ok(Element::Name(name));
    }
    if let Some(TokenKind::Text(format)) = c.peek() {
        c.advance();
        return Ok(Element::Shown(name, format.clone()));
    }
    let kind = c.type_name()?;
    let pattern = match c.peek() {
        Some(TokenKind::Text(_)) if kind.is_temporal() => {
            let (pattern, span) = c.text("a pattern in single quotes")?;
            if let Some(fault) = churn_expr::pattern::fault(&pattern) {
                let what = format!("'{pattern}' is no pattern of dates: {fault}.");
                return Err(c.error_at(span, what).next("Write the parts as %d/%m/%Y."));
            }
            Some(pattern)
        }
        _ => None,
    };
    Ok(Element::Typed(name, kind, pattern))
}

impl Setting {
    fn of(name: &str, value: OptionValue) -> Setting {
        Setting { name: name.to_owned(), value, span: Position::default() }
    }

    /// An option that is set to a word of the language.
    pub(super) fn word(name: &str, word: &str) -> Setting {
        Setting::of(name, OptionValue::Word(word.to_owned()))
    }

    /// An option that is set to a value.
    pub(super) fn literal(name: &str, value: Scalar) -> Setting {
        Setting::of(name, OptionValue::Literal(value))
    }

    /// An option that is set to a text.
    pub(super) fn text(name: &str, text: &str) -> Setting {
        Setting::literal(name, Scalar::from(text))
    }

    /// An option that is set to a number.
    pub(super) fn count(name: &str, count: usize) -> Setting {
        Setting::literal(name, Scalar::Int(i64::try_from(count).unwrap_or(i64::MAX)))
    }

    /// An option that is set to a list.
    pub(super) fn list(name: &str, elements: impl IntoIterator<Item = Element>) -> Setting {
        Setting::of(name, OptionValue::List(elements.into_iter().collect()))
    }

    /// Adds to the list that it is set to.
    pub(super) fn push(&mut self, element: Element) {
        if let OptionValue::List(elements) = &mut self.value {
            elements.push(element);
        }
    }

    /// The value with a parameter replaced.
    pub(super) fn resolved(&self, checker: &mut Checker<'_>) -> Option<OptionValue> {
        match &self.value {
            OptionValue::Parameter(parameter, span) => {
                let source = checker.source.clone();
                let value = checker.environment.given(parameter, &source, *span);
                checker.kept(value).map(OptionValue::Literal)
            }
            other => Some(other.clone()),
        }
    }

    /// The error of a value that does not fit.
    pub(super) fn unfit(&self, wanted: &str) -> Error {
        Error::new(ErrorKind::Check, format!("{} = {} does not fit.", self.name, self.value))
            .next(format!("It takes {wanted}."))
    }

    /// The error of an option that is not one.
    pub(super) fn unknown(&self, known: &[OptionKind]) -> Error {
        let known: Vec<&str> = known.iter().map(|option| option.name).collect();
        let error = Error::new(ErrorKind::Name, format!("There is no option {}.", self.name))
            .why(format!("The options are {}.", comma(&known)));
        match nearest(&self.name, known.iter().copied()) {
            Some(near) => error.next(format!("Did you mean {near}?")),
            None => error,
        }
    }
}

impl OptionValue {
    pub(super) fn text(&self) -> Option<&str> {
        if let OptionValue::Literal(Scalar::Text(text)) = self { Some(text) } else { None }
    }

    pub(super) fn truth(&self) -> Option<bool> {
        if let OptionValue::Literal(Scalar::Bool(value)) = self { Some(*value) } else { None }
    }

    pub(super) fn count(&self) -> Option<usize> {
        if let OptionValue::Literal(Scalar::Int(value)) = self { usize::try_from(*value).ok() } else { None }
    }

    pub(super) fn word(&self) -> Option<&str> {
        if let OptionValue::Word(word) = self { Some(word) } else { None }
    }

    /// A single ASCII character, or one of the words that stand for one.
    pub(super) fn byte(&self) -> Option<u8> {
        match self {
            OptionValue::Word(word) if word == "tab" => Some(b'\t'),
            OptionValue::Literal(Scalar::Text(text)) => match text.as_bytes() {
                [byte] if byte.is_ascii() && !matches!(byte, b'\n' | b'\r') => Some(*byte),
                _ if text == "\\t" => Some(b'\t'),
                _ => None,
            },
            _ => None,
        }
    }

    /// Names in a list.
    pub(super) fn names(&self) -> Option<Vec<String>> {
        let OptionValue::List(elements) = self else { return None };
        elements
            .iter()
            .map(|e| match e {
                Element::Name(n) | Element::Text(n) => Some(n.clone()),
                Element::Typed(..) | Element::Shown(..) => None,
            })
            .collect()
    }

    /// Texts in a list, or one text.
    pub(super) fn texts(&self) -> Option<Vec<String>> {
        match self {
            OptionValue::Literal(Scalar::Text(text)) => Some(vec![text.clone()]),
            OptionValue::List(elements) => elements
                .iter()
                .map(|e| if let Element::Text(t) = e { Some(t.clone()) } else { None })
                .collect(),
            _ => None,
        }
    }

    /// Names with types.
    pub(super) fn typed(&self) -> Option<Vec<(String, Type)>> {
        let OptionValue::List(elements) = self else { return None };
        elements
            .iter()
            .map(|e| if let Element::Typed(n, t, _) = e { Some((n.clone(), t.clone())) } else { None })
            .collect()
    }

    /// Columns with formats.
    pub(super) fn shown(&self) -> Option<Vec<(String, String)>> {
        let OptionValue::List(elements) = self else { return None };
        let shown = |e: &Element| match e {
            Element::Shown(name, format) => Some((name.clone(), format.clone())),
            _ => None,
        };
        elements.iter().map(shown).collect()
    }

    /// The patterns of names that have one beside their type.
    pub(super) fn patterns(&self) -> Vec<(String, String)> {
        let OptionValue::List(elements) = self else { return Vec::new() };
        let pattern = |element: &Element| match element {
            Element::Typed(name, _, Some(pattern)) => Some((name.clone(), pattern.clone())),
            _ => None,
        };
        elements.iter().filter_map(pattern).collect()
    }
}

impl fmt::Display for OptionValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            OptionValue::Word(word) => f.write_str(word),
            OptionValue::Literal(value) => value.fmt(f),
            OptionValue::Parameter(parameter, _) => write!(f, "${parameter}"),
            OptionValue::List(elements) => write!(f, "({})", comma(elements)),
        }
    }
}

impl fmt::Display for Element {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Element::Text(text) => Scalar::Text(text.clone()).fmt(f),
            Element::Name(word) => f.write_str(&name(word)),
            Element::Shown(word, format) => {
                write!(f, "{} {}", name(word), Scalar::Text(format.clone()))
            }
            Element::Typed(word, kind, None) => write!(f, "{} {kind}", name(word)),
            Element::Typed(word, kind, Some(pattern)) => {
                write!(f, "{} {kind} {}", name(word), Scalar::Text(pattern.clone()))
            }
        }
    }
}

impl fmt::Display for Setting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} = {}", self.name, self.value)
    }
}

/// Writes ` with (…)` unless there is nothing in it.
pub(super) fn write(f: &mut fmt::Formatter<'_>, settings: &[Setting]) -> fmt::Result {
    if settings.is_empty() { Ok(()) } else { write!(f, " with ({})", comma(settings)) }
}
