//! Dates and times by a strftime pattern.

use churn_core::{Scalar, Type};
use churn_kernels::calendar::{self, Civil, DAY, SECOND};
use jiff::civil::DateTime;
use jiff::fmt::strtime::{self, BrokenDownTime};

/// Why a pattern cannot be used; `None` if it can.
pub fn fault(pattern: &str) -> Option<String> {
    if !pattern.contains('%') {
        return Some("it has no part of a date, such as %Y, %m or %d".to_owned());
    }
    let sample = DateTime::constant(2026, 3, 1, 6, 30, 0, 0);
    strtime::format(pattern, sample).err().map(|error| error.to_string())
}

/// Reads a text by a pattern as a date, a time or a timestamp.
pub fn parse(pattern: &str, text: &str, kind: &Type) -> Option<Scalar> {
    let fields = BrokenDownTime::parse(pattern, text).ok()?;
    match kind {
        Type::Date => Some(Scalar::Date(days(fields.to_date().ok()?))),
        Type::Time => Some(Scalar::Time(micros(fields.to_time().ok()?))),
        _ => {
            let day = i64::from(days(fields.to_date().ok()?)) * DAY;
            let time = fields.to_time().map_or(0, micros);
            let east = fields.offset().map_or(0, |offset| i64::from(offset.seconds()) * SECOND);
            let moment = day + time - east;
            calendar::is_in_calendar(moment).then_some(Scalar::Timestamp(moment))
        }
    }
}

/// Writes a date, a time or a timestamp by a pattern.
pub(crate) fn format(pattern: &str, value: &Scalar) -> Option<String> {
    let at = match value {
        Scalar::Date(day) => i64::from(*day) * DAY,
        Scalar::Time(micros) | Scalar::Timestamp(micros) => *micros,
        _ => return None,
    };
    let Civil { year, month, day } = calendar::to_civil(i32::try_from(at.div_euclid(DAY)).ok()?);
    let time = at.rem_euclid(DAY);
    let (seconds, fraction) = (time / SECOND, time % SECOND);
    let at = DateTime::new(
        i16::try_from(year).ok()?,
        month as i8,
        day as i8,
        (seconds / 3600) as i8,
        (seconds / 60 % 60) as i8,
        (seconds % 60) as i8,
        fraction as i32 * 1000,
    )
    .ok()?;
    strtime::format(pattern, at).ok()
}

/// A day and time in microseconds.
pub(crate) fn micros_of(moment: DateTime) -> i64 {
    i64::from(days(moment.date())) * DAY + micros(moment.time())
}

fn days(date: jiff::civil::Date) -> i32 {
    calendar::to_days(Civil {
        year: i32::from(date.year()),
        month: date.month().unsigned_abs().into(),
        day: date.day().unsigned_abs().into(),
    })
}

fn micros(time: jiff::civil::Time) -> i64 {
    let seconds = i64::from(time.hour()) * 3600 + i64::from(time.minute()) * 60 + i64::from(time.second());
    seconds * SECOND + i64::from(time.subsec_nanosecond()) / 1000
}

/// The type that a pattern gives: a timestamp if it has a clock in it.
pub fn dated_type(pattern: &str) -> Type {
    let clock = ["%H", "%I", "%M", "%S", "%T", "%R", "%s", "%k", "%l"].iter().any(|c| pattern.contains(c));
    let day = ["%d", "%j", "%F", "%D", "%e", "%s", "%x"].iter().any(|c| pattern.contains(c));
    match (clock, day) {
        (true, false) => Type::Time,
        (true, true) => Type::Timestamp,
        _ => Type::Date,
    }
}
