//! The innermost parts of expressions: literals, names, calls, `case`, casts, and what stands in parentheses.

use crate::ast::{Cast, Expr, Kind};
use crate::fold;
use churn_core::{Error, Interval, Result, Scalar, Span, Type};
use churn_kernels::{calendar, number};

use super::Cursor;
use super::expression::expression;
use super::token::TokenKind;

/// A value with its sign, where a word behind it belongs to the step: a literal, a parameter, or what stands in parentheses.
pub fn operand(c: &mut Cursor<'_>) -> Result<Expr> {
    let span = c.span();
    if !c.take_symbol("-") {
        return primary(c);
    }
    let inner = Box::new(primary(c)?);
    Ok(Expr::new(Kind::Negate(inner), c.since(span)))
}

pub(super) fn primary(c: &mut Cursor<'_>) -> Result<Expr> {
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
            if c.take_symbol(".") {
                Kind::TableValue(name.clone(), c.name("a column of the table")?.0)
            } else {
                Kind::Parameter(name.clone())
            }
        }
        Some(TokenKind::Symbol("(")) => {
            c.advance();
            let inner = expression(c)?;
            if c.is_symbol_at(0, ",") {
                return list(c, inner, *span);
            }
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

/// The rest of a list of literals in parentheses, whose first one was read.
fn list(c: &mut Cursor<'_>, first: Expr, span: Span) -> Result<Expr> {
    let mut items = vec![first];
    while c.take_symbol(",") {
        items.push(expression(c)?);
    }
    c.expect_symbol(")", "to close the list")?;
    let values: Option<Vec<Scalar>> = items.iter().map(fold::literal).collect();
    let shared = |values: &Vec<Scalar>| {
        values.iter().try_fold(Type::Null, |shared, value| shared.common_type(&value.kind()))
    };
    let Some((values, kind)) = values.and_then(|values| shared(&values).map(|kind| (values, kind))) else {
        let error = c.error_at(c.since(span), "A list holds literals of one type, and this is none.");
        return Err(error.next("Values of a row are one argument each: greatest(a, b)."));
    };
    let values = values.iter().filter_map(|value| crate::converted(value, &kind)).collect();
    Ok(Expr::new(Kind::Literal(Scalar::List(values, kind)), c.since(span)))
}

fn literal(c: &mut Cursor<'_>, value: Scalar) -> Kind {
    c.advance();
    Kind::Literal(value)
}

/// A number as it is written, a float if it has a point or an exponent; `None` if it is beyond its type.
pub fn number_literal(text: &str) -> Option<Scalar> {
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
        _ => return interval(c, *span, &text, *text_span),
    };
    value.map(Kind::Literal).ok_or_else(|| {
        c.error_at(text_span, format!("'{text}' is not a {} of the calendar.", word.to_ascii_lowercase()))
            .next(format!("Write it as in {example}."))
    })
}

fn interval(c: &mut Cursor<'_>, span: Span, text: &str, text_span: Span) -> Result<Kind> {
    // Seconds alone have a fraction, of microseconds.
    let Some(micros) = number::parse_decimal(text.trim().as_bytes(), 38, 6) else {
        return Err(not_of_units(c, text, text_span));
    };
    let unit_span = c.span();
    let (unit, _) = c.name("a unit: year, quarter, month, week, day, hour, minute, second")?;
    let word = unit.to_ascii_lowercase();
    let is_of_seconds = word.trim_end_matches('s') == "second";
    let second = i128::from(calendar::SECOND);
    if !is_of_seconds && text.contains('.') {
        return Err(not_of_units(c, text, text_span));
    }
    let whole = |n: i64| i64::try_from(micros / second).ok()?.checked_mul(n);
    let months = |n: i64| whole(n).map(|months| Interval { months, ..Interval::default() });
    let days = |n: i64| whole(n).map(|days| Interval { days, ..Interval::default() });
    let seconds = |n: i128| {
        let micros = micros.checked_mul(n).and_then(|micros| i64::try_from(micros).ok());
        micros.map(|micros| Interval { micros, ..Interval::default() })
    };
    let value = match word.trim_end_matches('s') {
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
    // As long as a column can carry.
    value
        .filter(|v| v.arrow().is_some())
        .map(|v| Kind::Literal(Scalar::Interval(v)))
        .ok_or_else(|| c.error_at(c.since(span), "This interval is too long."))
}

fn not_of_units(c: &Cursor<'_>, text: &str, span: Span) -> Error {
    c.error_at(span, format!("'{text}' is not a whole number of units."))
        .next("Write interval '7' day; of seconds also a fraction, interval '1.5' second.")
}
