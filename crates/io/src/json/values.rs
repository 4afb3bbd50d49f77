//! Values of JSON as values of a column's type; none for those that are none of it.

use churn_core::{Scalar, Type};
use churn_expr::pattern;
use churn_kernels::calendar::{self, DAY};
use serde_json::Value;

use super::long;
use super::source::JsonOptions;

/// Whether a number within a value may be too long for an int.
pub(super) fn has_long(value: &Value) -> bool {
    match value {
        Value::Number(number) => number.as_i64().is_none() && number.as_f64().is_some_and(long::may_be_long),
        Value::Array(items) => items.iter().any(has_long),
        Value::Object(fields) => fields.values().any(has_long),
        _ => false,
    }
}

pub(super) fn of_bool(value: bool, kind: &Type) -> Option<Scalar> {
    match kind {
        Type::Bool => Some(Scalar::Bool(value)),
        Type::Text => Some(Scalar::Text(value.to_string())),
        _ => None,
    }
}

pub(super) fn of_int(value: i64, kind: &Type) -> Option<Scalar> {
    match kind {
        Type::Int => Some(Scalar::Int(value)),
        Type::Float => Some(Scalar::Float(value as f64)),
        Type::Text => Some(Scalar::Text(value.to_string())),
        Type::Decimal(p, s) => {
            let digits = churn_kernels::number::parse_decimal(value.to_string().as_bytes(), *p, *s)?;
            Some(Scalar::Decimal(digits, *p, *s))
        }
        _ => None,
    }
}

pub(super) fn of_float(value: f64, kind: &Type) -> Option<Scalar> {
    match kind {
        Type::Float => Some(Scalar::Float(value)),
        Type::Text => Some(Scalar::Text(value.to_string())),
        Type::Decimal(p, s) => {
            let digits = churn_kernels::number::parse_decimal(value.to_string().as_bytes(), *p, *s)?;
            Some(Scalar::Decimal(digits, *p, *s))
        }
        _ => None,
    }
}

pub(super) fn of_text(value: &str, kind: &Type, options: &JsonOptions) -> Option<Scalar> {
    if let Some(digits) = long::digits(value) {
        return match kind {
            Type::Text => Some(Scalar::Text(digits.to_owned())),
            Type::Float => churn_kernels::number::parse_float(digits.as_bytes()).map(Scalar::Float),
            Type::Decimal(p, s) => {
                let value = churn_kernels::number::parse_decimal(digits.as_bytes(), *p, *s)?;
                Some(Scalar::Decimal(value, *p, *s))
            }
            _ => None,
        };
    }
    let bytes = value.trim().as_bytes();
    let by_pattern = options.dates.as_ref().and_then(|wanted| pattern::parse(wanted, value.trim(), kind));
    match kind {
        Type::Text => Some(Scalar::Text(value.to_owned())),
        Type::Date | Type::Time | Type::Timestamp if by_pattern.is_some() => by_pattern,
        Type::Date => calendar::parse_date(bytes).map(Scalar::Date),
        Type::Time => calendar::parse_time(bytes).map(Scalar::Time),
        Type::Timestamp => {
            let day = || calendar::parse_date(bytes).map(|d| i64::from(d) * DAY);
            calendar::parse_timestamp(bytes).or_else(day).map(Scalar::Timestamp)
        }
        _ => None,
    }
}

pub(super) fn of_value(value: &Value, kind: &Type, options: &JsonOptions) -> Option<Scalar> {
    match value {
        Value::Null => Some(Scalar::Null),
        Value::Bool(v) => of_bool(*v, kind),
        Value::Number(n) => match n.as_i64() {
            Some(n) => of_int(n, kind),
            None => of_float(n.as_f64()?, kind),
        },
        Value::String(text) if options.means_null(text) => Some(Scalar::Null),
        Value::String(text) => of_text(text, kind, options),
        Value::Array(items) => match kind {
            Type::List(item) => {
                let values = items.iter().map(|v| of_value(v, item, options)).collect::<Option<Vec<_>>>()?;
                Some(Scalar::List(values, item.as_ref().clone()))
            }
            Type::Text => Some(Scalar::Text(value.to_string())),
            _ => None,
        },
        Value::Object(_) => (*kind == Type::Text).then(|| Scalar::Text(value.to_string())),
    }
}
