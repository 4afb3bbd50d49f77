//! Literals and types of SQL as those of the language.

use churn_core::{Error, ErrorKind, Interval, Result, Scalar, Span, Type};
use churn_expr::ast::{Expr, Kind};
use churn_expr::build::lit;
use churn_expr::cast::dated_literal;
use churn_expr::text::number_literal;
use sqlparser::ast::{
    CharacterLength, DataType, DateTimeField, ExactNumberInfo, Expr as Sql, Interval as Written,
    TimezoneInfo, TypedString, UnaryOperator, Value, ValueWithSpan,
};

use super::translator::Translator;

/// The most digits of a decimal.
const MOST_DIGITS: u64 = 38;

/// A second and a day in microseconds.
const SECOND: i64 = 1_000_000;

impl Translator<'_, '_> {
    pub(super) fn literal(&self, value: &ValueWithSpan) -> Result<Expr> {
        let span = self.places.span(value.span);
        let kind = match &value.value {
            Value::Number(text, _) => Kind::Literal(self.number(text, span)?),
            Value::SingleQuotedString(text) | Value::NationalStringLiteral(text) => {
                Kind::Literal(Scalar::Text(text.clone()))
            }
            Value::Boolean(value) => Kind::Literal(Scalar::Bool(*value)),
            Value::Null => Kind::Literal(Scalar::Null),
            Value::Placeholder(name) => {
                let name = name.trim_start_matches([':', '$']);
                if name.is_empty() || name == "?" {
                    let error = self.unsupported("A parameter without a name", "", span);
                    return Err(error
                        .next("Write :since, and declare it in a recipe: given since = date '2026-01-01'."));
                }
                Kind::Parameter(name.to_owned())
            }
            other => {
                return Err(self.unsupported(
                    &format!("The literal {other}"),
                    "Write texts in single quotes.",
                    span,
                ));
            }
        };
        Ok(Expr::new(kind, span))
    }

    fn number(&self, text: &str, span: Span) -> Result<Scalar> {
        let mut digits = text.replace('_', "").to_ascii_lowercase();
        if digits.starts_with('.') {
            digits.insert(0, '0');
        }
        let value = number_literal(&digits.replace(".e", ".0e"));
        value.or_else(|| number_literal(&format!("{digits}0"))).filter(|_| !digits.is_empty()).ok_or_else(
            || {
                let error = self.wrong(ErrorKind::Type, "This number is too long.", span);
                error.next("Whole numbers have 64 bits; with a point it is a float: 1.0e20.")
            },
        )
    }

    /// `date '2026-03-01'` and the like.
    pub(super) fn typed_literal(&self, typed: &TypedString) -> Result<Expr> {
        let span = self.places.span(typed.value.span);
        let (kind, _) = self.type_of(&typed.data_type, span)?;
        let text = match &typed.value.value {
            Value::SingleQuotedString(text) => text.as_str(),
            _ => return Err(self.unsupported("This literal", "Write it in single quotes.", span)),
        };
        match kind {
            Type::Date | Type::Time | Type::Timestamp => {}
            kind => {
                let next = format!("Write cast('{text}' as {kind}).");
                return Err(self.unsupported("A literal of this type", &next, span));
            }
        }
        let value = dated_literal(text.trim(), &kind);
        let value =
            value.ok_or_else(|| self.wrong(ErrorKind::Type, format!("'{text}' is no {kind}."), span))?;
        Ok(Expr::new(Kind::Literal(value), span))
    }

    /// The type of the language for a type of SQL, and the most characters of a text.
    pub(super) fn type_of(&self, of: &DataType, span: Span) -> Result<(Type, Option<u64>)> {
        let whole = |kind| Ok((kind, None));
        match of {
            DataType::CharacterVarying(length) | DataType::CharVarying(length) | DataType::Varchar(length) => {
                Ok((Type::Text, match length {
                    Some(CharacterLength::IntegerLength { length, .. }) => Some(*length),
                    _ => None,
                }))
            }
            DataType::CharacterLargeObject(_) | DataType::CharLargeObject(_) | DataType::Clob(_) | DataType::Text => {
                whole(Type::Text)
            }
            DataType::Numeric(info) | DataType::Decimal(info) | DataType::Dec(info) => self.decimal(info, span),
            DataType::SmallInt(_) | DataType::Int(_) | DataType::Integer(_) | DataType::BigInt(_) => whole(Type::Int),
            DataType::Float(_) | DataType::Real | DataType::Double(_) | DataType::DoublePrecision => whole(Type::Float),
            DataType::Bool | DataType::Boolean => whole(Type::Bool),
            DataType::Date => whole(Type::Date),
            DataType::Time(_, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => whole(Type::Time),
            DataType::Timestamp(_, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => whole(Type::Timestamp),
            DataType::Time(..) | DataType::Timestamp(..) => {
                Err(self.unsupported("A time with a zone", "Times have none here; take timestamp.", span))
            }
            DataType::Character(_) | DataType::Char(_) => {
                Err(self.unsupported("A text that is padded with blanks", "Take varchar.", span))
            }
            other => Err(self.unsupported(&format!("The type {other}"), "The types are boolean, integer, decimal(p, s), double precision, varchar, date, time, timestamp.", span)),
        }
    }

    fn decimal(&self, info: &ExactNumberInfo, span: Span) -> Result<(Type, Option<u64>)> {
        let (precision, scale) = match info {
            ExactNumberInfo::None => (MOST_DIGITS, 0),
            ExactNumberInfo::Precision(precision) => (*precision, 0),
            ExactNumberInfo::PrecisionAndScale(precision, scale) => (*precision, *scale),
        };
        match (u8::try_from(precision), i8::try_from(scale)) {
            (Ok(p @ 1..=38), Ok(s)) if s >= 0 && i64::from(s) <= i64::from(p) => {
                Ok((Type::Decimal(p, s), None))
            }
            _ => {
                let what = format!(
                    "A decimal has 1 to {MOST_DIGITS} digits, and not more behind the point than in all."
                );
                Err(self.wrong(ErrorKind::Type, what, span))
            }
        }
    }

    /// `interval '7' day`, `interval '1-6' year to month`, `interval '1 02:30' day to minute`.
    pub(super) fn interval(&self, written: &Written) -> Result<Expr> {
        let span = self.span(&written.value.as_ref().clone());
        let (text, negative) = self.interval_text(&written.value, span)?;
        let unknown = || {
            self.wrong(ErrorKind::Syntax, "This interval is not understood.", span).next(
                "Write interval '7' day, interval '1-6' year to month, or interval '1 02:30' day to minute.",
            )
        };
        let first = written.leading_field.as_ref().ok_or_else(unknown)?;
        let fields = match &written.last_field {
            Some(last) => fields_between(first, last).ok_or_else(unknown)?,
            None => vec![first.clone()],
        };
        let (sign, text) = match text.trim().strip_prefix('-') {
            Some(rest) => (if negative { 1 } else { -1 }, rest.to_owned()),
            None => (if negative { -1 } else { 1 }, text.trim().trim_start_matches('+').to_owned()),
        };
        let separators = if fields.iter().any(|f| matches!(f, DateTimeField::Year)) {
            &['-'][..]
        } else {
            &[' ', ':'][..]
        };
        let parts: Vec<&str> =
            if fields.len() == 1 { vec![text.as_str()] } else { text.split(separators).collect() };
        if parts.len() != fields.len() {
            return Err(unknown());
        }
        let mut total = Interval::default();
        for (field, part) in fields.iter().zip(parts) {
            let one = part_of(field, part).ok_or_else(unknown)?;
            total = Interval {
                months: total.months.checked_add(one.months).ok_or_else(unknown)?,
                days: total.days.checked_add(one.days).ok_or_else(unknown)?,
                micros: total.micros.checked_add(one.micros).ok_or_else(unknown)?,
            };
        }
        let total = total.times(sign).ok_or_else(unknown)?;
        Ok(Expr { span, ..lit(Scalar::Interval(total)) })
    }

    fn interval_text(&self, value: &Sql, span: Span) -> Result<(String, bool)> {
        match value {
            Sql::Value(value) => match &value.value {
                Value::SingleQuotedString(text) | Value::Number(text, _) => Ok((text.clone(), false)),
                _ => Err(self.wrong(ErrorKind::Type, "An interval is written in single quotes.", span)),
            },
            Sql::UnaryOp { op: UnaryOperator::Minus, expr } => {
                self.interval_text(expr, span).map(|(text, negative)| (text, !negative))
            }
            Sql::Nested(inner) => self.interval_text(inner, span),
            _ => {
                let error: Error = self.unsupported("An interval of a value that is computed", "", span);
                Err(error.next("Write it so many times: days * interval '1' day."))
            }
        }
    }
}

/// The fields of an interval from one to another.
fn fields_between(first: &DateTimeField, last: &DateTimeField) -> Option<Vec<DateTimeField>> {
    let of_months = [DateTimeField::Year, DateTimeField::Month];
    let of_days = [DateTimeField::Day, DateTimeField::Hour, DateTimeField::Minute, DateTimeField::Second];
    [&of_months[..], &of_days[..]].into_iter().find_map(|all| {
        let from = all.iter().position(|field| field == first)?;
        let to = all.iter().position(|field| field == last)?;
        all.get(from..=to).map(<[_]>::to_vec)
    })
}

/// One field of an interval.
fn part_of(field: &DateTimeField, text: &str) -> Option<Interval> {
    let whole = || text.trim().parse::<i64>().ok();
    let months = |n: i64| Some(Interval { months: whole()?.checked_mul(n)?, ..Interval::default() });
    let days = |n: i64| Some(Interval { days: whole()?.checked_mul(n)?, ..Interval::default() });
    let micros = |n: i64| Some(Interval { micros: whole()?.checked_mul(n * SECOND)?, ..Interval::default() });
    match field {
        DateTimeField::Year => months(12),
        DateTimeField::Quarter => months(3),
        DateTimeField::Month => months(1),
        DateTimeField::Week(None) => days(7),
        DateTimeField::Day => days(1),
        DateTimeField::Hour => micros(3600),
        DateTimeField::Minute => micros(60),
        DateTimeField::Second => {
            let (seconds, fraction) = text.trim().split_once('.').unwrap_or((text.trim(), ""));
            let seconds: i64 = seconds.parse().ok()?;
            let padded = format!("{fraction:0<6}");
            let fraction: i64 = padded.get(..6).filter(|_| fraction.len() <= 6)?.parse().ok()?;
            Some(Interval {
                micros: seconds.checked_mul(SECOND)?.checked_add(fraction)?,
                ..Interval::default()
            })
        }
        _ => None,
    }
}
