//! Items: `name = EXPR`, a bare `EXPR`, one for each column of a set.

use std::fmt;

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Field, Position, Result, Scalar};
use churn_expr::ast::{Expr, Kind};
use churn_expr::build::{Named, Naming, column};
use churn_expr::expand::{default_name, over_set};
use churn_expr::text::{Cursor, TokenKind, expression};

use super::Checker;

/// An item: an expression, its name if it has one, or what its names are made of. Made of an [`Expr`] or a [`Named`].
#[derive(Clone, Debug, PartialEq)]
pub struct Item {
    pub(crate) name: Option<String>,
    pub(crate) expr: Expr,
    /// The name's text where `named` gives one.
    named: Option<Expr>,
    pub(crate) span: Position,
}

/// An item with its name, its column set written out.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct NamedItem {
    pub(crate) name: String,
    pub(crate) expr: Expr,
    pub(crate) span: Position,
}

impl From<Expr> for Item {
    fn from(expr: Expr) -> Item {
        Item { name: None, expr, named: None, span: Position::default() }
    }
}

impl From<Named> for Item {
    fn from(Named { name, expr }: Named) -> Item {
        match name {
            Naming::Name(name) => Item { name: Some(name), ..expr.into() },
            Naming::Template(template) => Item { named: Some(template), ..expr.into() },
        }
    }
}

impl From<&str> for Item {
    /// The column of this name.
    fn from(name: &str) -> Item {
        column(name).into()
    }
}

/// Items of anything that each can be made of.
pub(super) fn all<T: Into<Item>>(items: impl IntoIterator<Item = T>) -> Vec<Item> {
    items.into_iter().map(Into::into).collect()
}

impl Item {
    /// Reads an item.
    pub(crate) fn read(c: &mut Cursor<'_>) -> Result<Item> {
        let start = c.span();
        let names =
            matches!(c.peek(), Some(TokenKind::Word(_) | TokenKind::Quoted(_))) && c.is_symbol_at(1, "=");
        let name = if names {
            let (name, _) = c.name("a column's name")?;
            c.advance();
            Some(name)
        } else {
            None
        };
        let expr = expression(c)?;
        if c.is_word_at(0, "as") {
            let mut after = c.clone();
            after.advance();
            let wanted = after
                .name("a name")
                .map_or_else(|_| "other".to_owned(), |(n, _)| churn_core::names::name(&n));
            return Err(c
                .error("as is not expected here.")
                .next(format!("A new name stands first: {wanted} = {expr}.")));
        }
        let named = if c.take_word("named") { Some(expression(c)?) } else { None };
        Ok(Item { name, expr, named, span: c.since(start) })
    }

    /// Whether it is a column's name and nothing else.
    pub(crate) fn bare_column(&self) -> Option<&str> {
        match (&self.expr.kind, &self.name) {
            (Kind::Name(column), None) => Some(column),
            _ => None,
        }
    }
}

impl fmt::Display for Item {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(column) = &self.name {
            write!(f, "{} = ", name(column))?;
        }
        write!(f, "{}", self.expr)?;
        match &self.named {
            Some(text) => write!(f, " named {text}"),
            None => Ok(()),
        }
    }
}

/// Names the items and writes their sets out; `keys` are left out of sets. Two items of one name are a mistake.
pub(crate) fn named(
    items: &[Item],
    fields: &[Field],
    keys: &[String],
    checker: &mut Checker<'_>,
) -> Vec<NamedItem> {
    named_beside(&[], items, fields, keys, checker)
}

/// As [`named`], where other items of the step have their names already.
pub(crate) fn named_beside(
    others: &[NamedItem],
    items: &[Item],
    fields: &[Field],
    keys: &[String],
    checker: &mut Checker<'_>,
) -> Vec<NamedItem> {
    let mut found: Vec<NamedItem> = Vec::new();
    for item in items {
        let source = checker.source.clone();
        let Some(parts) = checker.kept(over_set(&item.expr, fields, keys, &source)) else { continue };
        let parts = parts.into_iter().flat_map(|(expr, column)| {
            let each = over_shares(&expr).into_iter();
            each.map(move |(expr, suffix)| (expr, column.clone(), suffix))
        });
        for (expr, column, suffix) in parts {
            let Some(name) = name_of(item, &expr, column.as_deref(), checker) else { continue };
            let name = match suffix {
                Some(suffix) => format!("{}{suffix}", name.strip_suffix("_quantile").unwrap_or(&name)),
                None => name,
            };
            if let Some(first) = others.iter().chain(&found).find(|f| f.name == name) {
                checker.errors.push(twice(&name, first, item, &source));
                continue;
            }
            found.push(NamedItem { name, expr, span: item.span });
        }
    }
    found
}

/// One expression for each share of a `quantile(x, (0.1, 0.9))` in it, with what is added to its name, `_p10`; itself alone
/// if it has no list of shares.
fn over_shares(expr: &Expr) -> Vec<(Expr, Option<String>)> {
    let Some(shares) = shares_in(expr) else { return vec![(expr.clone(), None)] };
    let with = |share: &Scalar| {
        let percent = match share {
            Scalar::Float(share) => (share * 1e6).round() / 1e4,
            Scalar::Int(share) => *share as f64 * 100.0,
            _ => f64::NAN,
        };
        (with_share(expr, share), Some(format!("_p{percent}").replace('.', "_")))
    };
    shares.iter().map(with).collect()
}

/// The first list of shares in an expression.
fn shares_in(expr: &Expr) -> Option<Vec<Scalar>> {
    if let Kind::Call(function, args) = &expr.kind
        && function == "quantile"
        && let [_, Expr { kind: Kind::Literal(Scalar::List(shares, _)), .. }] = args.as_slice()
    {
        return Some(shares.clone());
    }
    let mut found = None;
    expr.for_each_part(&mut |part| found = found.take().or_else(|| shares_in(part)));
    found
}

/// The expression with one share in place of each list of shares.
fn with_share(expr: &Expr, share: &Scalar) -> Expr {
    let expr = expr.map_parts(&mut |part| with_share(part, share));
    match expr.kind {
        Kind::Call(function, mut args) if function == "quantile" => {
            if let Some(list) =
                args.get_mut(1).filter(|arg| matches!(arg.kind, Kind::Literal(Scalar::List(..))))
            {
                list.kind = Kind::Literal(share.clone());
            }
            Expr { kind: Kind::Call(function, args), ..expr }
        }
        kind => Expr { kind, ..expr },
    }
}

fn twice(
    column: &str,
    first: &NamedItem,
    item: &Item,
    source: &std::sync::Arc<churn_core::SourceText>,
) -> Error {
    let other = source.text.get(first.span.start..first.span.end).unwrap_or_default();
    Error::new(ErrorKind::Name, format!("Two items are called {}.", name(column)))
        .at(source, item.span)
        .why(format!("The first one is: {other}"))
        .next("Give one of them another name: other = …")
}

fn name_of(item: &Item, expr: &Expr, column: Option<&str>, checker: &mut Checker<'_>) -> Option<String> {
    if let Some(text) = &item.named {
        let Some(column) = column else {
            let error = Error::new(ErrorKind::Check, "named goes with a column set.");
            checker.wrong(text.span, error.next("Name a single item with name = in front of it."));
            return None;
        };
        if let Some(name) = &item.name {
            checker.wrong(item.span, one_name(name));
            return None;
        }
        return checker.constant_text(&with_column_name(text, column));
    }
    match (&item.name, column) {
        (Some(name), None) => Some(name.clone()),
        (Some(given), Some(_)) => {
            checker.wrong(item.span, one_name(given));
            None
        }
        (None, _) => match default_name(expr) {
            Some(name) => Some(name),
            None => {
                let error = Error::new(ErrorKind::Check, "This item needs a name.");
                checker.wrong(item.span, error.next(format!("Write name = {}.", item.expr)));
                None
            }
        },
    }
}

fn one_name(given: &str) -> Error {
    Error::new(ErrorKind::Check, format!("One name, {}, for many columns.", name(given)))
        .next("Name them by their source, without a name in front: … named column || '_avg'.")
}

/// The text of `named` with `column` replaced by the source column's name.
fn with_column_name(text: &Expr, column: &str) -> Expr {
    match &text.kind {
        Kind::Name(word) if word == "column" => {
            Expr::new(Kind::Literal(Scalar::Text(column.to_owned())), text.span)
        }
        _ => text.map_parts(&mut |part| with_column_name(part, column)),
    }
}

/// An item where some words would be taken for something else at its start: it stands in parentheses then.
pub(super) struct Guarded<'a>(pub(super) &'a Item, pub(super) &'a [&'a str]);

impl fmt::Display for Guarded<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Guarded(item, words) = self;
        if item.name.is_some() {
            return item.fmt(f);
        }
        f.write_str(&guarded(&item.expr, words))?;
        item.named.iter().try_for_each(|text| write!(f, " named {text}"))
    }
}

/// An item between words of a step: its name in quotes if it is one of them, and in parentheses what may hold one.
#[cfg(feature = "charts")]
pub(super) struct Shielded<'a>(pub(super) &'a Item, pub(super) &'a [&'a str]);

#[cfg(feature = "charts")]
impl fmt::Display for Shielded<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use churn_core::names::name_apart_from;
        let Shielded(item, words) = self;
        if let Some(name) = &item.name {
            write!(f, "{} = ", name_apart_from(words, name))?;
        }
        match &item.expr.kind {
            Kind::Name(name) => f.write_str(&name_apart_from(words, name))?,
            Kind::Call(..) => item.expr.fmt(f)?,
            _ => write!(f, "({})", item.expr)?,
        }
        item.named.iter().try_for_each(|text| write!(f, " named ({text})"))
    }
}

/// An expression, in parentheses where some words would be taken for something else at its start.
pub(super) fn guarded(expr: &Expr, words: &[&str]) -> String {
    let text = expr.to_string();
    if starts_with_word(&text, words) { format!("({text})") } else { text }
}

/// Whether a text of the language starts with one of these words.
fn starts_with_word(text: &str, words: &[&str]) -> bool {
    let end = text.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(text.len());
    text.get(..end).is_some_and(|first| words.iter().any(|word| word.eq_ignore_ascii_case(first)))
}

/// Prints items on the head's line if there is one of them, else below it.
pub(crate) fn write_below<T: fmt::Display>(f: &mut fmt::Formatter<'_>, items: &[T]) -> fmt::Result {
    for item in items {
        write!(f, "\n  {item}")?;
    }
    Ok(())
}
