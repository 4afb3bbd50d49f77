//! Expressions from tokens, by precedence.

use churn_core::deep::CHAINED;
use churn_core::{Interval, Result, Scalar, Span};
use churn_expr::ast::{Binary, Cast, ColumnRef, Edge, Expr, Frame, Keys, Kind, Sense, Unit};
use churn_kernels::{calendar, number};

use super::Cursor;
use super::token::TokenKind;

/// Operands of a chain that are joined from the left, so that it is printed as it was written; of more, pairs are
/// joined, and pairs of pairs, so that none stands deep.
const FROM_THE_LEFT: usize = 64;

/// Reads one expression.
pub(crate) fn expression(c: &mut Cursor<'_>) -> Result<Expr> {
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

/// Operands with an operator between them whose grouping does not matter.
fn joined(op: Binary, operands: Vec<Expr>) -> Expr {
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
        let list = c.in_parentheses(expression)?;
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

fn unary(c: &mut Cursor<'_>) -> Result<Expr> {
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

/// Reads what stands after `over`.
fn frame(c: &mut Cursor<'_>) -> Result<Frame> {
    const FORMS: &str =
        "last 7 rows, next 7 days, rows so far, rows from here, rows between … or range between …";
    let is_last = c.take_word("last");
    if is_last || c.take_word("next") {
        let count = unary(c)?;
        let (word, span) = c.name("rows, or a unit of time: days, months, …")?;
        let word = word.to_ascii_lowercase();
        let Some(unit) = Unit::ALL.into_iter().find(|u| u.word() == word.trim_end_matches('s')) else {
            return Err(c
                .error_at(span, format!("{word} is neither rows nor a unit of time."))
                .next("The units are years, quarters, months, weeks, days, hours, minutes, seconds."));
        };
        return Ok(if is_last { Frame::Last(count, unit) } else { Frame::Next(count, unit) });
    }
    if c.take_words(&["rows", "so", "far"]) {
        return Ok(Frame::SoFar);
    }
    if c.take_words(&["rows", "from", "here"]) {
        return Ok(Frame::FromHere);
    }
    let rows = c.take_word("rows");
    if !rows && !c.take_word("range") {
        return Err(c.unexpected(FORMS));
    }
    c.expect_word("between", "and the two ends of the frame")?;
    let from = edge(c)?;
    c.expect_word("and", "between the two ends of the frame")?;
    Ok(Frame::Between { rows, from, to: edge(c)? })
}

/// Reads an end of a frame.
fn edge(c: &mut Cursor<'_>) -> Result<Edge> {
    let sided = "preceding or following";
    if c.take_words(&["current", "row"]) {
        return Ok(Edge::Here);
    }
    if c.take_word("unbounded") {
        return match (c.take_word("preceding"), c.is_word_at(0, "following")) {
            (true, _) => Ok(Edge::First),
            (false, true) => {
                c.advance();
                Ok(Edge::Last)
            }
            _ => Err(c.unexpected(sided)),
        };
    }
    let by = unary(c)?;
    if c.take_word("preceding") {
        Ok(Edge::Before(by))
    } else if c.take_word("following") {
        Ok(Edge::After(by))
    } else {
        Err(c.unexpected(sided))
    }
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

fn primary(c: &mut Cursor<'_>) -> Result<Expr> {
    let span = c.span();
    let kind = match c.peek() {
        Some(TokenKind::Number(text)) => {
            let Some(value) = number_literal(text) else {
                return Err(if text.contains(['.', 'e']) {
                    c.error("This number is beyond the largest float.")
                        .next("The largest is about 1.8e308; cast('inf' as float) is infinite.")
                } else {
                    c.error("This whole number is too long for int.").next("Write it with a point: 1.0e20.")
                });
            };
            c.advance();
            Kind::Literal(value)
        }
        Some(TokenKind::Text(text)) => {
            c.advance();
            Kind::Literal(Scalar::Text(text.clone()))
        }
        Some(TokenKind::Parameter(name)) => {
            c.advance();
            Kind::Parameter(name.clone())
        }
        Some(TokenKind::Symbol("(")) => {
            c.advance();
            let inner = expression(c)?;
            c.expect_symbol(")", "to close the parenthesis")?;
            return Ok(Expr::new(inner.kind, c.since(span)));
        }
        Some(TokenKind::Symbol("*")) => {
            return Err(c
                .unexpected("an expression")
                .next("All rows are counted with count(); all columns are each."));
        }
        Some(TokenKind::Quoted(name)) => {
            c.advance();
            Kind::Name(name.clone())
        }
        Some(TokenKind::Word(word)) => match word.to_ascii_lowercase().as_str() {
            "null" => literal(c, Scalar::Null),
            "true" => literal(c, Scalar::Bool(true)),
            "false" => literal(c, Scalar::Bool(false)),
            "case" => case(c)?,
            "each" => Kind::Each(c.column_set()?),
            "date" | "time" | "timestamp" | "interval"
                if matches!(c.peek_at(1), Some(TokenKind::Text(_))) =>
            {
                dated_literal(c)?
            }
            "cast" | "try_cast" if c.is_symbol_at(1, "(") => cast(c)?,
            _ if c.is_symbol_at(1, "(") => {
                let name = word.to_ascii_lowercase();
                if churn_core::names::RESERVED.contains(&name.as_str()) {
                    return Err(c.unexpected("an expression"));
                }
                c.advance();
                Kind::Call(name, c.in_parentheses(expression)?)
            }
            _ => Kind::Name(c.name("a column")?.0),
        },
        _ => return Err(c.unexpected("an expression")),
    };
    Ok(Expr::new(kind, c.since(span)))
}

fn literal(c: &mut Cursor<'_>, value: Scalar) -> Kind {
    c.advance();
    Kind::Literal(value)
}

fn number_literal(text: &str) -> Option<Scalar> {
    if text.contains(['.', 'e']) {
        number::parse_float(text.as_bytes()).map(Scalar::Float)
    } else {
        number::parse_int(text.as_bytes()).map(Scalar::Int)
    }
}

fn case(c: &mut Cursor<'_>) -> Result<Kind> {
    c.advance();
    let of = if c.is_word_at(0, "when") { None } else { Some(Box::new(expression(c)?)) };
    let mut arms = Vec::new();
    while c.take_word("when") {
        let test = expression(c)?;
        c.expect_word("then", if of.is_some() { "after the value" } else { "after the condition" })?;
        arms.push((test, expression(c)?));
    }
    if arms.is_empty() {
        return Err(c.unexpected("when and a condition"));
    }
    let otherwise = if c.take_word("else") { Some(Box::new(expression(c)?)) } else { None };
    c.expect_word("end", "after the last value of case")?;
    Ok(match of {
        Some(of) => Kind::CaseOf(of, arms, otherwise),
        None => Kind::Case(arms, otherwise),
    })
}

fn cast(c: &mut Cursor<'_>) -> Result<Kind> {
    let lenient = c.is_word_at(0, "try_cast");
    c.advance();
    c.advance();
    let from = expression(c)?;
    c.expect_word("as", "between the value and its new type")?;
    let to = c.type_name()?;
    let format = if c.take_word("format") { Some(c.text("a pattern in single quotes")?.0) } else { None };
    c.expect_symbol(")", "after the type")?;
    Ok(Kind::Cast(Box::new(Cast { from, to, format, lenient })))
}

fn dated_literal(c: &mut Cursor<'_>) -> Result<Kind> {
    let span = c.span();
    let (word, _) = c.name("date")?;
    let (text, text_span) = c.text("a text")?;
    let bytes = text.as_bytes();
    let (value, example) = match word.to_ascii_lowercase().as_str() {
        "date" => (calendar::parse_date(bytes).map(Scalar::Date), "date '2026-03-01'"),
        "time" => (calendar::parse_time(bytes).map(Scalar::Time), "time '06:30:00'"),
        "timestamp" => (
            calendar::parse_timestamp(bytes)
                .or_else(|| calendar::parse_date(bytes).map(|d| i64::from(d) * calendar::DAY))
                .map(Scalar::Timestamp),
            "timestamp '2026-03-01 06:30:00'",
        ),
        _ => return interval(c, span, &text, text_span),
    };
    value.map(Kind::Literal).ok_or_else(|| {
        c.error_at(text_span, format!("'{text}' is not a {} of the calendar.", word.to_ascii_lowercase()))
            .next(format!("Write it as in {example}."))
    })
}

fn interval(c: &mut Cursor<'_>, span: Span, text: &str, text_span: Span) -> Result<Kind> {
    let Some(count) = number::parse_int(text.trim().as_bytes()) else {
        return Err(c
            .error_at(text_span, format!("'{text}' is not a whole number of units."))
            .next("Write interval '7' day."));
    };
    let unit_span = c.span();
    let (unit, _) = c.name("a unit: year, quarter, month, week, day, hour, minute, second")?;
    let months = |n: i64| count.checked_mul(n).map(|months| Interval { months, ..Interval::default() });
    let days = |n: i64| count.checked_mul(n).map(|days| Interval { days, ..Interval::default() });
    let seconds = |n: i64| {
        count.checked_mul(n * calendar::SECOND).map(|micros| Interval { micros, ..Interval::default() })
    };
    let value = match unit.to_ascii_lowercase().trim_end_matches('s') {
        "year" => months(12),
        "quarter" => months(3),
        "month" => months(1),
        "week" => days(7),
        "day" => days(1),
        "hour" => seconds(3600),
        "minute" => seconds(60),
        "second" => seconds(1),
        _ => {
            return Err(c
                .error_at(unit_span, format!("{unit} is not a unit of time."))
                .next("The units are year, quarter, month, week, day, hour, minute, second."));
        }
    };
    value
        .map(|v| Kind::Literal(Scalar::Interval(v)))
        .ok_or_else(|| c.error_at(c.since(span), "This interval is too long."))
}

fn binary(op: Binary, left: Expr, right: Expr) -> Expr {
    let span = left.span.to(right.span);
    Expr::new(Kind::Binary(op, Box::new(left), Box::new(right)), span)
}
