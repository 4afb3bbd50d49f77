//! Values of Rust as values of the language, and back: numbers, texts, truths, days and times of `jiff`, decimals by their
//! text.

use churn_kernels::calendar::{self, Civil};
use jiff::Span;
use jiff::civil::{Date, DateTime, Time};

use crate::{Error, ErrorKind, Result, Scalar};

const EPOCH: Date = Date::constant(1970, 1, 1);

macro_rules! into_language {
    ($($from:ty => $variant:ident $with:expr),*) => {$(
        impl From<$from> for Scalar {
            fn from(value: $from) -> Scalar {
                Scalar::$variant($with(value))
            }
        }
    )*};
}

into_language!(
    bool => Bool |v| v,
    i8 => Int i64::from,
    i16 => Int i64::from,
    i32 => Int i64::from,
    i64 => Int |v| v,
    u8 => Int i64::from,
    u16 => Int i64::from,
    u32 => Int i64::from,
    f32 => Float f64::from,
    f64 => Float |v| v,
    &str => Text str::to_owned,
    String => Text |v| v,
    Date => Date days,
    Time => Time micros,
    DateTime => Timestamp |v: DateTime| i64::from(days(v.date())) * calendar::DAY + micros(v.time())
);

fn days(date: Date) -> i32 {
    let (year, month, day) = (date.year().into(), date.month().unsigned_abs().into(), date.day());
    calendar::to_days(Civil { year, month, day: day.unsigned_abs().into() })
}

/// Microseconds from midnight; what is less than a microsecond is cut off.
fn micros(time: Time) -> i64 {
    let seconds = i64::from(time.hour()) * 3600 + i64::from(time.minute()) * 60 + i64::from(time.second());
    seconds * calendar::SECOND + i64::from(time.subsec_nanosecond()) / 1000
}

fn unfit(value: &Scalar, wanted: &str) -> Error {
    let what = match value {
        Scalar::Null => format!("The value is null, and {wanted} was asked for."),
        value => format!("The value {} is {}, and {wanted} was asked for.", value.plain(), value.kind()),
    };
    Error::new(ErrorKind::Type, what)
}

macro_rules! out_of_language {
    ($($to:ty: $name:literal, $value:ident => $of:expr;)*) => {$(
        impl TryFrom<Scalar> for $to {
            type Error = Error;

            fn try_from($value: Scalar) -> Result<$to> {
                $of
            }
        }

        impl TryFrom<Scalar> for Option<$to> {
            type Error = Error;

            /// None is null.
            fn try_from(value: Scalar) -> Result<Option<$to>> {
                if value.is_null() { Ok(None) } else { value.try_into().map(Some) }
            }
        }
    )*};
}

out_of_language! {
    bool: "bool", value => match value {
        Scalar::Bool(value) => Ok(value),
        value => Err(unfit(&value, "bool")),
    };
    i64: "i64", value => match value {
        Scalar::Int(value) => Ok(value),
        value => Err(unfit(&value, "i64")),
    };
    i32: "i32", value => narrowed(value, "i32");
    u32: "u32", value => narrowed(value, "u32");
    u64: "u64", value => narrowed(value, "u64");
    usize: "usize", value => narrowed(value, "usize");
    f64: "f64", value => match value {
        Scalar::Float(value) => Ok(value),
        Scalar::Int(value) => Ok(value as f64),
        Scalar::Decimal(..) => value.plain().parse().map_err(|_| unfit(&value, "f64")),
        value => Err(unfit(&value, "f64")),
    };
    String: "String", value => match value {
        Scalar::Text(value) => Ok(value),
        value => Err(unfit(&value, "String")),
    };
    Date: "Date", value => match value {
        Scalar::Date(days) => {
            let span = Span::new().try_days(days);
            span.and_then(|span| EPOCH.checked_add(span)).map_err(|_| unfit(&value, "Date"))
        }
        value => Err(unfit(&value, "Date")),
    };
    Time: "Time", value => match value {
        Scalar::Time(at) => {
            let span = Span::new().try_microseconds(at);
            span.and_then(|span| Time::midnight().checked_add(span)).map_err(|_| unfit(&value, "Time"))
        }
        value => Err(unfit(&value, "Time")),
    };
    DateTime: "DateTime", value => match value {
        Scalar::Timestamp(at) => {
            let span = Span::new().try_microseconds(at);
            let moment = span.and_then(|span| EPOCH.at(0, 0, 0, 0).checked_add(span));
            moment.map_err(|_| unfit(&value, "DateTime"))
        }
        Scalar::Date(_) => Date::try_from(value).map(|date| date.at(0, 0, 0, 0)),
        value => Err(unfit(&value, "DateTime")),
    };
}

/// A whole number as one of fewer bits, or without a sign.
fn narrowed<T: TryFrom<i64>>(value: Scalar, wanted: &str) -> Result<T> {
    match value {
        Scalar::Int(number) => T::try_from(number).map_err(|_| unfit(&value, wanted)),
        value => Err(unfit(&value, wanted)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Type;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        #[test]
        fn values_come_back(int: i64, small: i32, float in -1e300..1e300f64, text: String, truth: bool, days in -700_000i32..2_000_000, at in 0i64..86_400_000_000) {
            prop_assert_eq!(i64::try_from(Scalar::from(int)), Ok(int));
            prop_assert_eq!(i32::try_from(Scalar::from(small)), Ok(small));
            prop_assert_eq!(f64::try_from(Scalar::from(float)), Ok(float));
            prop_assert_eq!(String::try_from(Scalar::from(text.clone())), Ok(text));
            prop_assert_eq!(Option::<bool>::try_from(Scalar::from(truth)), Ok(Some(truth)));
            for value in [Scalar::Date(days), Scalar::Time(at), Scalar::Timestamp(i64::from(days) * 86_400_000_000 + at)] {
                let back = match value.kind() {
                    Type::Date => Date::try_from(value.clone()).map(Scalar::from),
                    Type::Time => Time::try_from(value.clone()).map(Scalar::from),
                    _ => DateTime::try_from(value.clone()).map(Scalar::from),
                };
                prop_assert_eq!(back, Ok(value));
            }
        }
    }

    #[test]
    fn what_does_not_fit_is_told() {
        let what = |error: Error| error.what().to_owned();
        let text = i64::try_from(Scalar::from("milk")).unwrap_err();
        assert_eq!(what(text), "The value milk is text, and i64 was asked for.");
        assert_eq!(
            what(f64::try_from(Scalar::Null).unwrap_err()),
            "The value is null, and f64 was asked for."
        );
        assert_eq!(
            what(u32::try_from(Scalar::from(-1i64)).unwrap_err()),
            "The value -1 is int, and u32 was asked for."
        );
        assert_eq!(Option::<f64>::try_from(Scalar::Null), Ok(None));
        assert_eq!(f64::try_from(Scalar::Decimal(125, 5, 1)), Ok(12.5));
        for beyond in [Scalar::Date(i32::MAX), Scalar::Timestamp(i64::MAX), Scalar::Time(i64::MIN)] {
            assert!(DateTime::try_from(beyond.clone()).is_err() && Date::try_from(beyond.clone()).is_err());
            assert!(Time::try_from(beyond).is_err());
        }
    }

    #[rstest]
    #[case("int", Some(Type::Int))]
    #[case(" Decimal (10, 2) ", Some(Type::Decimal(10, 2)))]
    #[case("list(list(text))", Some(Type::List(Box::new(Type::List(Box::new(Type::Text))))))]
    #[case("decimal(39, 2)", None)]
    #[case("decimal(3, 4)", None)]
    #[case("decimal", None)]
    #[case("list(txt)", None)]
    #[case("list(int", None)]
    #[case("", None)]
    fn types_are_read(#[case] text: &str, #[case] expected: Option<Type>) {
        let read: Result<Type> = text.parse();
        assert_eq!(read.clone().ok(), expected, "{text}: {read:?}");
        if let Ok(kind) = read {
            assert_eq!(kind.to_string().parse(), Ok(kind));
        }
    }

    #[test]
    fn a_type_of_any_depth_is_read_or_refused() {
        let deep = "list(".repeat(100_000) + "int" + &")".repeat(100_000);
        let _ = deep.parse::<Type>();
    }
}
