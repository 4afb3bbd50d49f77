//! The types of the language and the Arrow types that carry them.

use std::fmt;
use std::str::FromStr;

use arrow_schema::{DataType, Field, IntervalUnit, TimeUnit};

use crate::error::nearest;
use crate::names::{comma, name};
use crate::{Error, ErrorKind, Result};

/// A type of the language.
#[derive(Clone, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
pub enum Type {
    /// True or false.
    Bool,
    /// Whole numbers of 64 bits.
    Int,
    /// Binary floating-point numbers of 64 bits.
    Float,
    /// Decimals: number of digits, of them after the point.
    Decimal(u8, i8),
    /// Unicode text.
    Text,
    /// A day.
    Date,
    /// A time of day in microseconds.
    Time,
    /// A day and time in microseconds, without a zone.
    Timestamp,
    /// A span of months, days and microseconds; only written in expressions, never a column.
    Interval,
    /// A list of one type.
    List(Box<Type>),
    /// Bytes.
    Binary,
    /// The type of `null` alone; fits everywhere.
    Null,
    /// The type of something that was already reported as wrong; fits everywhere, silently.
    Unknown,
}

impl Type {
    /// The language's type of an Arrow type; `None` if the language has none.
    pub fn of(data: &DataType) -> Option<Type> {
        Some(match data {
            DataType::Boolean => Type::Bool,
            DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64 => Type::Int,
            DataType::UInt8 | DataType::UInt16 | DataType::UInt32 | DataType::UInt64 => Type::Int,
            DataType::Float16 | DataType::Float32 | DataType::Float64 => Type::Float,
            DataType::Decimal128(p, s) => Type::Decimal(*p, *s),
            DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => Type::Text,
            DataType::Dictionary(_, values) => return Type::of(values),
            DataType::Date32 | DataType::Date64 => Type::Date,
            DataType::Time32(_) | DataType::Time64(_) => Type::Time,
            DataType::Timestamp(_, _) => Type::Timestamp,
            DataType::List(item) | DataType::LargeList(item) => {
                Type::List(Box::new(Type::of(item.data_type())?))
            }
            DataType::Binary | DataType::LargeBinary | DataType::BinaryView => Type::Binary,
            DataType::Interval(IntervalUnit::MonthDayNano) => Type::Interval,
            DataType::Null => Type::Null,
            _ => return None,
        })
    }

    /// The Arrow type that carries values of this type when they are computed.
    pub fn arrow(&self) -> DataType {
        match self {
            Type::Bool => DataType::Boolean,
            Type::Int => DataType::Int64,
            Type::Float => DataType::Float64,
            Type::Decimal(p, s) => DataType::Decimal128(*p, *s),
            Type::Text => DataType::Utf8View,
            Type::Date => DataType::Date32,
            Type::Time => DataType::Time64(TimeUnit::Microsecond),
            Type::Timestamp => DataType::Timestamp(TimeUnit::Microsecond, None),
            Type::List(item) => DataType::List(std::sync::Arc::new(Field::new("item", item.arrow(), true))),
            Type::Binary => DataType::BinaryView,
            Type::Interval => DataType::Interval(IntervalUnit::MonthDayNano),
            Type::Null | Type::Unknown => DataType::Null,
        }
    }

    /// Whether its values have an order: not lists, and not intervals, as a month has no fixed number of days.
    pub fn has_order(&self) -> bool {
        !matches!(self, Type::List(_) | Type::Interval)
    }

    /// Whether it is a number.
    pub fn is_number(&self) -> bool {
        matches!(self, Type::Int | Type::Float | Type::Decimal(..))
    }

    /// Whether it is a date or a timestamp.
    pub fn is_dated(&self) -> bool {
        matches!(self, Type::Date | Type::Timestamp)
    }

    /// Whether its values are points in time: a date, a time of day or a timestamp.
    pub fn is_temporal(&self) -> bool {
        matches!(self, Type::Date | Type::Time | Type::Timestamp)
    }

    /// Whether nothing can be said of its values: `null` alone, or a mistake already reported.
    pub fn is_open(&self) -> bool {
        matches!(self, Type::Null | Type::Unknown)
    }

    /// The type that both turn into silently; `None` if there is none.
    ///
    /// int → decimal → float, and date → timestamp.
    pub fn common_type(&self, other: &Type) -> Option<Type> {
        Some(match (self, other) {
            (a, b) if a == b => a.clone(),
            (Type::Unknown, _) | (_, Type::Unknown) => Type::Unknown,
            (Type::Null, t) | (t, Type::Null) => t.clone(),
            (Type::Int, Type::Float) | (Type::Float, Type::Int) => Type::Float,
            (Type::Decimal(..), Type::Float) | (Type::Float, Type::Decimal(..)) => Type::Float,
            (Type::Decimal(p, s), Type::Int) | (Type::Int, Type::Decimal(p, s)) => {
                Type::wide_decimal(*p, *s, 19, 0)
            }
            (Type::Decimal(p, s), Type::Decimal(q, r)) => Type::wide_decimal(*p, *s, *q, *r),
            (Type::Date, Type::Timestamp) | (Type::Timestamp, Type::Date) => Type::Timestamp,
            (Type::List(a), Type::List(b)) => Type::List(Box::new(a.common_type(b)?)),
            _ => return None,
        })
    }

    /// The decimal that holds the whole digits and the decimals of both.
    fn wide_decimal(p: u8, s: i8, q: u8, r: i8) -> Type {
        let scale = s.max(r);
        let whole = (i16::from(p) - i16::from(s)).max(i16::from(q) - i16::from(r));
        Type::Decimal((whole + i16::from(scale)).clamp(1, 38) as u8, scale)
    }

    /// Reads the name of a type as it stands in `cast` and `types`.
    pub fn from_name(name: &str) -> Option<Type> {
        Some(match name.to_ascii_lowercase().as_str() {
            "bool" => Type::Bool,
            "int" => Type::Int,
            "float" => Type::Float,
            "text" => Type::Text,
            "date" => Type::Date,
            "time" => Type::Time,
            "timestamp" => Type::Timestamp,
            "binary" => Type::Binary,
            _ => return None,
        })
    }

    /// The names that [`Type::from_name`] reads, and the two that take arguments.
    pub const NAMES: [&str; 10] =
        ["bool", "int", "float", "decimal", "text", "date", "time", "timestamp", "list", "binary"];
}

/// A type as the language writes it.
///
/// ```
/// use churn_core::Type;
/// assert_eq!("list(decimal(10, 2))".parse(), Ok(Type::List(Box::new(Type::Decimal(10, 2)))));
/// assert_eq!("string".parse::<Type>().unwrap_err().advice(), ["Did you mean text?"]);
/// ```
impl FromStr for Type {
    type Err = Error;

    fn from_str(text: &str) -> Result<Type> {
        let mut item = text.trim();
        let mut lists = 0;
        while let Some(inner) = within(item, "list") {
            item = inner.trim();
            lists += 1;
            if lists > DEEPEST {
                return Err(Error::new(ErrorKind::Syntax, "Lists stand too deep in one another."));
            }
        }
        let kind = match within(item, "decimal") {
            Some(digits) => decimal(digits)?,
            None => Type::from_name(&item.to_ascii_lowercase()).ok_or_else(|| no_type(item))?,
        };
        Ok((0..lists).fold(kind, |item, _| Type::List(Box::new(item))))
    }
}

/// How deep lists may stand in one another.
const DEEPEST: usize = 100;

/// What stands in parentheses behind a word.
fn within<'a>(text: &'a str, word: &str) -> Option<&'a str> {
    let (start, rest) = text.split_at_checked(word.len())?;
    let rest = rest.trim_start().strip_prefix('(')?.strip_suffix(')')?;
    start.eq_ignore_ascii_case(word).then_some(rest)
}

/// A decimal type by its digits and those behind the point.
fn decimal(digits: &str) -> Result<Type> {
    let (all, behind) = digits.split_once(',').unwrap_or((digits, ""));
    match (all.trim().parse(), behind.trim().parse()) {
        (Ok(all @ 1..=38u8), Ok(behind @ 0..)) if i16::from(behind) <= i16::from(all) => {
            Ok(Type::Decimal(all, behind))
        }
        _ => {
            let what = "A decimal has 1 to 38 digits, and no more of them after the point.";
            Err(Error::new(ErrorKind::Syntax, what).next("Write decimal(10, 2)."))
        }
    }
}

/// The error of a name that is no type's.
pub fn no_type(word: &str) -> Error {
    let error = Error::new(ErrorKind::Syntax, format!("There is no type {}.", name(word)))
        .why(format!("The types are {}.", comma(Type::NAMES)));
    match nearest(word, Type::NAMES).or(alias(&word.to_ascii_lowercase())) {
        Some(near) => error.next(format!("Did you mean {near}?")),
        None => error,
    }
}

/// What other languages call the types.
fn alias(word: &str) -> Option<&'static str> {
    Some(match word {
        "string" | "varchar" | "char" => "text",
        "integer" | "bigint" | "smallint" | "long" => "int",
        "double" | "real" | "number" | "numeric" => "float",
        "boolean" => "bool",
        "datetime" => "timestamp",
        "array" => "list",
        "bytes" | "blob" => "binary",
        _ => return None,
    })
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Type::Bool => "bool",
            Type::Int => "int",
            Type::Float => "float",
            Type::Decimal(p, s) => return write!(f, "decimal({p}, {s})"),
            Type::Text => "text",
            Type::Date => "date",
            Type::Time => "time",
            Type::Timestamp => "timestamp",
            Type::Interval => "interval",
            Type::List(item) => return write!(f, "list({item})"),
            Type::Binary => "binary",
            Type::Null => "null",
            Type::Unknown => "unknown",
        })
    }
}
