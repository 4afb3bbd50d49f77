//! Expressions from tokens, by precedence.

use crate::ast::{Binary, ColumnRef, Expr, Keys, Kind, Sense};
use churn_core::deep::CHAINED;
use churn_core::{Result, Scalar, Span};

use super::Cursor;
use super::frame::frame;
use super::primary::{number_literal, primary};
use super::token::TokenKind;

/// Operands of a chain that are joined from the left, so that it is printed as it was written; of more, pairs are
/// joined, and pairs of pairs, so that none stands deep.
const FROM_THE_LEFT: usize = 64;

/// Reads one expression.
pub fn expression(c: &mut Cursor<'_>) -> Result<Expr> {
    c.nested(or)
}

fn or(c: &mut Cursor<'_>) -> Result<Expr> {
    let mut operands = vec![and(c)?];
    while c.take_word("or") {
        operands.push(and(c)?);
    }
    Ok(joined(Binary::Or, operands))
}

fn and(c: &mut Cursor<'_>) -> Result<Expr> {
    let mut operands = vec![not(c)?];
    while c.take_word("and") {
        operands.push(not(c)?);
    }
    Ok(joined(Binary::And, operands))
}

/// Operands with an operator between them whose grouping does not matter; null if there are none.
pub fn joined(op: Binary, operands: Vec<Expr>) -> Expr {
    let mut parts = operands;
    while parts.len() > FROM_THE_LEFT {
        let mut pairs = Vec::with_capacity(parts.len() / 2 + 1);
        let mut rest = parts.into_iter();
        while let Some(left) = rest.next() {
            pairs.push(match rest.next() {
                Some(right) => binary(op, left, right),
                None => left,
            });
        }
        parts = pairs;
    }
    let mut parts = parts.into_iter();
    let Some(first) = parts.next() else {
        return Expr::new(Kind::Literal(Scalar::Null), Span::default());
    };
    parts.fold(first, |left, right| binary(op, left, right))
}

fn not(c: &mut Cursor<'_>) -> Result<Expr> {
    let start = c.span();
    if c.take_word("not") {
        let x = c.nested(not)?;
        return Ok(Expr::new(Kind::Not(Box::new(x)), c.since(start)));
    }
    predicate(c)
}

fn comparison(c: &Cursor<'_>) -> Option<Binary> {
    Some(match c.peek()? {
        TokenKind::Symbol("=" | "==") => Binary::Equal,
        TokenKind::Symbol("<>" | "!=") => Binary::NotEqual,
        TokenKind::Symbol("<") => Binary::Less,
        TokenKind::Symbol("<=") => Binary::LessEqual,
        TokenKind::Symbol(">") => Binary::Greater,
        TokenKind::Symbol(">=") => Binary::GreaterEqual,
        _ => return None,
    })
}

fn predicate(c: &mut Cursor<'_>) -> Result<Expr> {
    let start = c.span();
    let left = sum(c)?;
    if let Some(op) = comparison(c) {
        c.advance();
        let right = sum(c)?;
        if comparison(c).is_some() {
            return Err(c
                .error("Comparisons do not chain.")
                .why("1 < x < 3 would compare true or false with 3.")
                .next("Write x > 1 and x < 3, or x between 1 and 3 (both ends count)."));
        }
        return Ok(binary(op, left, right));
    }
    if c.take_word("is") {
        let sense = sense(c);
        let kind = if c.take_words(&["distinct", "from"]) {
            Kind::IsDistinct(Box::new(left), Box::new(sum(c)?), sense)
        } else if c.take_word("null") {
            Kind::IsNull(Box::new(left), sense)
        } else {
            return Err(c.unexpected("null, not null, or distinct from"));
        };
        return Ok(Expr::new(kind, c.since(start)));
    }
    let negated = c.is_word_at(0, "not") && ["between", "in", "like"].iter().any(|w| c.is_word_at(1, w));
    let sense = if negated { sense(c) } else { Sense::Plain };
    let kind = if c.take_word("between") {
        let low = sum(c)?;
        c.expect_word("and", "between the two ends")?;
        Kind::Between(Box::new(left), Box::new(low), Box::new(sum(c)?), sense)
    } else if c.take_word("in") {
        if let Some(TokenKind::Word(_) | TokenKind::Quoted(_)) = c.peek() {
            let (table, _) = c.name("a list in parentheses, or the name of a table")?;
            return Ok(Expr::new(Kind::InTable(Box::new(left), table, sense), c.since(start)));
        }
        let list = match c.peek() {
            // A list that is given.
            Some(TokenKind::Parameter(_)) => vec![primary(c)?],
            _ => c.in_parentheses(expression)?,
        };
        if list.is_empty() {
            return Err(c.error_at(c.since(start), "The list after in is empty."));
        }
        Kind::In(Box::new(left), list, sense)
    } else if c.take_word("like") {
        let pattern = Box::new(sum(c)?);
        let escape = if c.take_word("escape") { Some(escape(c)?) } else { None };
        Kind::Like(Box::new(left), pattern, escape, sense)
    } else {
        return Ok(left);
    };
    Ok(Expr::new(kind, c.since(start)))
}

/// The character behind which the signs of a pattern stand for themselves.
fn escape(c: &mut Cursor<'_>) -> Result<char> {
    let (text, span) = c.text("one character in single quotes")?;
    let mut chars = text.chars();
    match (chars.next(), chars.next()) {
        (Some(one), None) => Ok(one),
        _ => Err(c
            .error_at(span, "escape takes one character.")
            .next("Write it as in: like '10!%' escape '!'.")),
    }
}

fn sense(c: &mut Cursor<'_>) -> Sense {
    if c.take_word("not") { Sense::Not } else { Sense::Plain }
}

fn sum(c: &mut Cursor<'_>) -> Result<Expr> {
    let mut left = product(c)?;
    for operands in 2.. {
        let op = match c.peek() {
            Some(TokenKind::Symbol("+")) => Binary::Add,
            Some(TokenKind::Symbol("-")) => Binary::Subtract,
            Some(TokenKind::Symbol("||")) => {
                let mut texts = vec![left];
                while c.take_symbol("||") {
                    texts.push(product(c)?);
                }
                left = joined(Binary::Concat, texts);
                continue;
            }
            _ => break,
        };
        too_long(c, operands)?;
        c.advance();
        left = binary(op, left, product(c)?);
    }
    Ok(left)
}

/// Refuses a chain of so many operands that each stands deeper than the one before.
fn too_long(c: &Cursor<'_>, operands: usize) -> Result<()> {
    if operands <= CHAINED {
        return Ok(());
    }
    Err(c
        .error(format!("More than {CHAINED} operands stand in a row."))
        .next("Work a part of them out in a column of its own before it, with add."))
}

fn product(c: &mut Cursor<'_>) -> Result<Expr> {
    let mut left = unary(c)?;
    for operands in 2.. {
        let op = match c.peek() {
            Some(TokenKind::Symbol("*")) => Binary::Multiply,
            Some(TokenKind::Symbol("/")) => Binary::Divide,
            _ if c.is_word_at(0, "div") => Binary::Div,
            _ if c.is_word_at(0, "mod") => Binary::Mod,
            _ => break,
        };
        too_long(c, operands)?;
        c.advance();
        left = binary(op, left, unary(c)?);
    }
    Ok(left)
}

pub(super) fn unary(c: &mut Cursor<'_>) -> Result<Expr> {
    let start = c.span();
    if c.take_symbol("-") {
        if let Some(TokenKind::Number(digits)) = c.peek()
            && let Some(value) = number_literal(&format!("-{digits}"))
        {
            c.advance();
            return postfix(c, Expr::new(Kind::Literal(value), c.since(start)));
        }
        let x = c.nested(unary)?;
        return Ok(Expr::new(Kind::Negate(Box::new(x)), c.since(start)));
    }
    if c.take_symbol("+") {
        return c.nested(unary);
    }
    let first = primary(c)?;
    postfix(c, first)
}

fn postfix(c: &mut Cursor<'_>, mut x: Expr) -> Result<Expr> {
    let start = x.span;
    for operands in 2.. {
        too_long(c, operands)?;
        let kind = if c.is_word_at(0, "where") {
            c.advance();
            c.expect_symbol("(", "after where: its condition stands in parentheses")?;
            let condition = expression(c)?;
            c.expect_symbol(")", "after the condition")?;
            Kind::Where(Box::new(x), Box::new(condition))
        } else if c.take_word("per") {
            Kind::Per(Box::new(x), keys(c)?)
        } else if c.take_word("over") {
            Kind::Over(Box::new(x), Box::new(frame(c)?))
        } else {
            break;
        };
        x = Expr::new(kind, c.since(start));
    }
    Ok(x)
}

/// Reads what stands after `per`.
fn keys(c: &mut Cursor<'_>) -> Result<Keys> {
    if c.take_word("table") {
        return Ok(Keys::Table);
    }
    if c.is_symbol_at(0, "(") {
        return Ok(Keys::Columns(c.in_parentheses(|c| c.column_ref())?));
    }
    let (name, span) = c.name("a column's name, names in parentheses, or table")?;
    Ok(Keys::Columns(vec![ColumnRef::Name(name, span)]))
}

fn binary(op: Binary, left: Expr, right: Expr) -> Expr {
    let span = left.span.to(right.span);
    Expr::new(Kind::Binary(op, Box::new(left), Box::new(right)), span)
}
