//! Days, times and timestamps, from and to ISO 8601 text and their fields.
//!
//! A date is a count of days from 1970-01-01 in the proleptic Gregorian calendar, a time a count of
//! microseconds from midnight, a timestamp a count of microseconds from 1970-01-01 00:00 without a zone. The
//! day arithmetic follows Howard Hinnant's *chrono-compatible low-level date algorithms*.

use crate::digits::{day_text, push_day};

/// Microseconds in a second.
pub const SECOND: i64 = 1_000_000;
/// Microseconds in a day.
pub const DAY: i64 = 86_400 * SECOND;
/// The first day that can be written with four digits of year: 0001-01-01.
pub const FIRST_DAY: i32 = -719_162;
/// The last day that can be written with four digits of year: 9999-12-31.
pub const LAST_DAY: i32 = 2_932_896;

/// Year, month (1 to 12) and day of the month (1 to 31).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Civil {
    /// The year.
    pub year: i32,
    /// The month, from 1.
    pub month: u32,
    /// The day of the month, from 1.
    pub day: u32,
}

/// Gives the day number of a civil date; months and days are taken as valid.
#[inline]
pub fn to_days(civil: Civil) -> i32 {
    let Civil { year, month, day } = civil;
    let y = if month <= 2 { year - 1 } else { year };
    let era = y.div_euclid(400);
    let year_of_era = y.rem_euclid(400);
    let shifted = (month as i32 + 9) % 12;
    let day_of_year = (153 * shifted + 2) / 5 + day as i32 - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    era * 146_097 + day_of_era - 719_468
}

/// Gives the civil date of a day number.
#[inline]
pub fn to_civil(days: i32) -> Civil {
    let z = i64::from(days) + 719_468;
    let era = z.div_euclid(146_097);
    let day_of_era = z.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted = (5 * day_of_year + 2) / 153;
    let day = (day_of_year - (153 * shifted + 2) / 5 + 1) as u32;
    let month = if shifted < 10 { shifted + 3 } else { shifted - 9 } as u32;
    let year = (year_of_era + era * 400) as i32 + i32::from(month <= 2);
    Civil { year, month, day }
}

/// Number of days in a month.
#[inline]
pub fn month_length(year: i32, month: u32) -> u32 {
    match month {
        4 | 6 | 9 | 11 => 30,
        2 if year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) => 29,
        2 => 28,
        _ => 31,
    }
}

/// Day of the week, Monday = 1 to Sunday = 7.
#[inline]
pub fn weekday(days: i32) -> i32 {
    (days + 3).rem_euclid(7) + 1
}

/// The ISO 8601 week number, 1 to 53.
pub fn iso_week(days: i32) -> i32 {
    let thursday = days - (weekday(days) - 1) + 3;
    let first = to_days(Civil { year: to_civil(thursday).year, month: 1, day: 1 });
    (thursday - first) / 7 + 1
}

/// Moves a date by whole months, stopping at the month's end; `None` past the calendar.
pub fn add_months(days: i32, months: i64) -> Option<i32> {
    let civil = to_civil(days);
    let index = i64::from(civil.year) * 12 + i64::from(civil.month) - 1 + months;
    let year = i32::try_from(index.div_euclid(12)).ok().filter(|y| (1..=9999).contains(y))?;
    let month = index.rem_euclid(12) as u32 + 1;
    Some(to_days(Civil { year, month, day: civil.day.min(month_length(year, month)) }))
}

#[inline]
fn two(text: &[u8]) -> Option<u32> {
    let [a, b] = text else { return None };
    let (a, b) = (a.wrapping_sub(b'0'), b.wrapping_sub(b'0'));
    (a <= 9 && b <= 9).then(|| u32::from(a) * 10 + u32::from(b))
}

/// Reads `YYYY-MM-DD`; `None` if it is not a day of the calendar.
#[inline]
pub fn parse_date(text: &[u8]) -> Option<i32> {
    let [y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2] = text else { return None };
    let year = (two(&[*y1, *y2])? * 100 + two(&[*y3, *y4])?) as i32;
    let month = two(&[*m1, *m2])?;
    let day = two(&[*d1, *d2])?;
    let valid = year >= 1 && (1..=12).contains(&month) && day >= 1 && day <= month_length(year, month);
    valid.then(|| to_days(Civil { year, month, day }))
}

/// Reads `HH:MM`, `HH:MM:SS` or `HH:MM:SS.ffffff` as microseconds from midnight.
pub fn parse_time(text: &[u8]) -> Option<i64> {
    let (hour, minute) = (two(text.get(..2)?)?, two(text.get(3..5)?)?);
    if text.get(2) != Some(&b':') || hour > 23 || minute > 59 {
        return None;
    }
    let minutes = i64::from(hour * 60 + minute);
    let (second, fraction) = match text.get(5..)? {
        [] => (0, 0),
        [b':', a, b] => (two(&[*a, *b])?, 0),
        [b':', a, b, b'.', fraction @ ..] => (two(&[*a, *b])?, parse_fraction(fraction)?),
        _ => return None,
    };
    (second <= 59).then(|| (minutes * 60 + i64::from(second)) * SECOND + fraction)
}

/// Reads the digits after a second's point as microseconds; digits past the sixth are cut off.
fn parse_fraction(digits: &[u8]) -> Option<i64> {
    if digits.is_empty() || digits.len() > 9 || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let six = digits.iter().copied().chain(std::iter::repeat(b'0')).take(6);
    Some(six.fold(0, |value, digit| value * 10 + i64::from(digit - b'0')))
}

/// Reads a date and a time with a blank or a `T` between; an offset or `Z` is turned into UTC.
pub fn parse_timestamp(text: &[u8]) -> Option<i64> {
    let day = i64::from(parse_date(text.get(..10)?)?);
    if !matches!(text.get(10), Some(b' ' | b'T' | b't')) {
        return None;
    }
    let rest = text.get(11..)?;
    let (time, offset) = match rest.iter().rposition(|b| matches!(b, b'+' | b'-' | b'Z' | b'z')) {
        None => (rest, 0),
        Some(at) => (rest.get(..at)?, parse_offset(rest.get(at..)?)?),
    };
    // An offset may lead out of the calendar.
    let moment = day * DAY + parse_time(time.trim_ascii_end())? - offset;
    is_in_calendar(moment).then_some(moment)
}

/// Whether a moment, in microseconds since 1970, is of one of the years 1 to 9999.
pub fn is_in_calendar(moment: i64) -> bool {
    (i64::from(FIRST_DAY) * DAY..i64::from(LAST_DAY + 1) * DAY).contains(&moment)
}

/// Reads `Z`, `+HH`, `+HHMM` or `+HH:MM` as microseconds east of UTC.
fn parse_offset(text: &[u8]) -> Option<i64> {
    let (sign, digits) = match text {
        [b'Z' | b'z'] => return Some(0),
        [b'+', rest @ ..] => (1, rest),
        [b'-', rest @ ..] => (-1, rest),
        _ => return None,
    };
    let (hours, minutes) = match digits {
        [a, b] => (two(&[*a, *b])?, 0),
        [a, b, c, d] | [a, b, b':', c, d] => (two(&[*a, *b])?, two(&[*c, *d])?),
        _ => return None,
    };
    (hours <= 23 && minutes <= 59).then(|| sign * i64::from(hours * 60 + minutes) * 60 * SECOND)
}

fn push_digits(out: &mut Vec<u8>, value: u32, width: usize) {
    let mut digits = [b'0'; 10];
    let mut rest = value;
    for slot in digits.iter_mut().rev() {
        *slot = b'0' + (rest % 10) as u8;
        rest /= 10;
    }
    let needed = digits.iter().position(|d| *d != b'0').map_or(1, |first| 10 - first);
    out.extend_from_slice(&digits[10 - needed.max(width).min(10)..]);
}

/// Appends `YYYY-MM-DD`.
#[inline]
pub fn write_date(days: i32, out: &mut Vec<u8>) {
    match date_text(days) {
        Some(text) => push_day(text, out),
        None => {
            let civil = to_civil(days);
            if civil.year < 0 {
                out.push(b'-');
            }
            push_digits(out, civil.year.unsigned_abs(), 4);
            out.push(b'-');
            push_digits(out, civil.month, 2);
            out.push(b'-');
            push_digits(out, civil.day, 2);
        }
    }
}

/// The ten bytes of `YYYY-MM-DD`, the first in the lowest byte; `None` for a year of more digits or before the first.
pub fn date_text(days: i32) -> Option<u128> {
    let civil = to_civil(days);
    let year = u32::try_from(civil.year).ok().filter(|year| *year <= 9999)?;
    Some(day_text(year, civil.month, civil.day))
}

/// Appends `HH:MM:SS`, with the fraction of the second if there is one.
pub fn write_time(micros: i64, out: &mut Vec<u8>) {
    let seconds = (micros.div_euclid(SECOND)) as u32;
    push_digits(out, seconds / 3600, 2);
    out.push(b':');
    push_digits(out, seconds / 60 % 60, 2);
    out.push(b':');
    push_digits(out, seconds % 60, 2);
    let fraction = micros.rem_euclid(SECOND) as u32;
    if fraction != 0 {
        out.push(b'.');
        if fraction.is_multiple_of(1000) {
            push_digits(out, fraction / 1000, 3);
        } else {
            push_digits(out, fraction, 6);
        }
    }
}

/// Appends the date and the time with a blank between.
pub fn write_timestamp(micros: i64, out: &mut Vec<u8>) {
    write_date(micros.div_euclid(DAY) as i32, out);
    out.push(b' ');
    write_time(micros.rem_euclid(DAY), out);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[test]
    fn the_calendar_has_its_ends() {
        assert_eq!(parse_date(b"0001-01-01"), Some(FIRST_DAY));
        assert_eq!(parse_date(b"9999-12-31"), Some(LAST_DAY));
        assert!(parse_timestamp(b"9999-12-31T23:59:59.999999Z").is_some());
        assert_eq!(parse_timestamp(b"9999-12-31T23:59:59-01:00"), None);
        assert_eq!(parse_timestamp(b"0001-01-01T00:30:00+01:00"), None);
    }

    #[test]
    fn days_and_civil_dates_agree_over_the_whole_calendar() {
        assert_eq!(to_days(Civil { year: 1, month: 1, day: 1 }), FIRST_DAY);
        assert_eq!(to_days(Civil { year: 9999, month: 12, day: 31 }), LAST_DAY);
        let mut next = to_civil(FIRST_DAY);
        for days in FIRST_DAY..=LAST_DAY {
            assert_eq!(to_civil(days), next);
            assert_eq!(to_days(next), days);
            next.day += 1;
            if next.day > month_length(next.year, next.month) {
                next = Civil { year: next.year, month: next.month + 1, day: 1 };
            }
            if next.month > 12 {
                next = Civil { year: next.year + 1, month: 1, day: 1 };
            }
        }
    }

    #[rstest]
    #[case("2026-03-01", Some(20_513))]
    #[case("2024-02-29", Some(19_782))]
    #[case("2026-02-29", None)]
    #[case("2026-13-01", None)]
    #[case("2026-3-1", None)]
    #[case("0000-01-01", None)]
    fn dates(#[case] text: &str, #[case] expected: Option<i32>) {
        assert_eq!(parse_date(text.as_bytes()), expected);
    }

    #[rstest]
    #[case("2026-03-01 06:30:00", "2026-03-01 06:30:00")]
    #[case("2026-03-01T06:30", "2026-03-01 06:30:00")]
    #[case("2026-03-01T06:30:00.25Z", "2026-03-01 06:30:00.250")]
    #[case("2026-03-01T06:30:00+02:00", "2026-03-01 04:30:00")]
    #[case("2026-03-01T06:30:00-0230", "2026-03-01 09:00:00")]
    fn timestamps(#[case] text: &str, #[case] expected: &str) {
        let mut out = Vec::new();
        write_timestamp(parse_timestamp(text.as_bytes()).unwrap_or(0), &mut out);
        assert_eq!(String::from_utf8_lossy(&out), expected);
    }

    #[rstest]
    #[case("2026-01-01", 1)]
    #[case("2027-01-01", 53)]
    #[case("2024-12-30", 1)]
    fn weeks(#[case] text: &str, #[case] week: i32) {
        assert_eq!(parse_date(text.as_bytes()).map(iso_week), Some(week));
    }

    #[test]
    fn months_stop_at_the_month_end() {
        let day = |t: &str| parse_date(t.as_bytes()).unwrap_or(0);
        assert_eq!(add_months(day("2024-01-31"), 1), Some(day("2024-02-29")));
        assert_eq!(add_months(day("2024-03-31"), -13), Some(day("2023-02-28")));
        assert_eq!(add_months(day("9999-12-01"), 1), None);
    }

    proptest! {
        #[test]
        fn what_is_written_reads_back(micros in i64::from(FIRST_DAY) * DAY..i64::from(LAST_DAY) * DAY) {
            let mut out = Vec::new();
            write_timestamp(micros, &mut out);
            prop_assert_eq!(parse_timestamp(&out), Some(micros));
        }
    }
}
