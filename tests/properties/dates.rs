//! Functions of dates, against the calendar of another crate.

use churn::Scalar;
use jiff::civil::{Date, DateTime};
use jiff::{Span, ToSpan, Unit};
use proptest::prelude::*;

use crate::columns::{Values, evaluated, flow};

const EPOCH: Date = Date::constant(1970, 1, 1);

/// The first and the last day of the calendar, counted from 1970-01-01.
fn calendar() -> (i32, i32) {
    (days(Date::constant(1, 1, 1)), days(Date::constant(9999, 12, 31)))
}

fn days(date: Date) -> i32 {
    EPOCH.until((Unit::Day, date)).unwrap().get_days()
}

fn date(days: i32) -> Date {
    EPOCH.checked_add(days.days()).unwrap()
}

fn moment(microseconds: i64) -> DateTime {
    EPOCH.at(0, 0, 0, 0).checked_add(Span::new().microseconds(microseconds)).unwrap()
}

/// Days that are near today, near the ends of the calendar, or anywhere; one in eight is null.
fn some_days() -> impl Strategy<Value = Vec<Option<i32>>> {
    let (first, last) = calendar();
    let day = prop_oneof![
        3 => 20_000..21_000i32,
        1 => first..first + 800,
        1 => last - 800..=last,
        2 => first..=last,
    ];
    prop::collection::vec(prop::option::weighted(0.87, day), 1..50)
}

/// Moments of the years 1700 to 2300.
fn some_moments() -> impl Strategy<Value = Vec<Option<i64>>> {
    let moment = -8_520_000_000_000_000..10_413_000_000_000_000i64;
    prop::collection::vec(prop::option::weighted(0.87, moment), 1..50)
}

fn holds(days: &[Option<i32>], expression: &str, by: impl Fn(Date) -> Scalar) {
    let found = evaluated(&flow(&[("d", Values::Date(days.to_vec()))]), expression);
    let expected: Vec<Scalar> =
        days.iter().map(|day| day.map_or(Scalar::Null, |day| by(date(day)))).collect();
    assert_eq!(found, expected, "{expression} of {days:?}");
}

fn of(date: Date) -> Scalar {
    Scalar::Date(days(date))
}

fn int(number: impl Into<i64>) -> Scalar {
    Scalar::Int(number.into())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn parts_of_a_date(days in some_days()) {
        holds(&days, "year(d)", |d| int(d.year()));
        holds(&days, "quarter(d)", |d| int((d.month() - 1) / 3 + 1));
        holds(&days, "month(d)", |d| int(d.month()));
        holds(&days, "day(d)", |d| int(d.day()));
        holds(&days, "week(d)", |d| int(d.iso_week_date().week()));
        holds(&days, "weekday(d)", |d| int(d.weekday().to_monday_one_offset()));
        holds(&days, "day_of_year(d)", |d| int(d.day_of_year()));
        holds(&days, "make_date(year(d), month(d), day(d))", of);
        holds(&days, "cast(cast(d as text) as date)", of);
        holds(&days, "cast(d as text)", |d| Scalar::Text(d.to_string()));
        holds(&days, "cast(d as text format '%d.%m.%Y, %j')", |d| Scalar::Text(d.strftime("%d.%m.%Y, %j").to_string()));
    }

    #[test]
    fn edges_of_units(days in some_days()) {
        let quarter = |d: Date| Date::new(d.year(), (d.month() - 1) / 3 * 3 + 1, 1).unwrap();
        let monday = |d: Date| d.checked_sub(i64::from(d.weekday().to_monday_zero_offset()).days());
        holds(&days, "start_of(year, d)", |d| of(d.first_of_year()));
        holds(&days, "start_of(quarter, d)", |d| of(quarter(d)));
        holds(&days, "start_of(month, d)", |d| of(d.first_of_month()));
        holds(&days, "end_of(year, d)", |d| of(d.last_of_year()));
        holds(&days, "end_of(quarter, d)", |d| {
            of(Date::new(d.year(), quarter(d).month() + 2, 1).unwrap().last_of_month())
        });
        holds(&days, "end_of(month, d)", |d| of(d.last_of_month()));
        // The calendar begins on a Monday.
        holds(&days, "start_of(week, d)", |d| of(monday(d).unwrap()));
        holds(&days, "date_diff(week, start_of(week, d), d)", |_| int(0));
    }

    #[test]
    fn dates_move(days in some_days(), by in -40_000i64..40_000) {
        let inside = |d: Result<Date, jiff::Error>| d.ok().filter(|d| (1..=9999).contains(&d.year()));
        // A move beyond the calendar stops the run, so only rows that stay within it are asked for.
        let within = |span: Span| -> Vec<Option<i32>> {
            days.iter().copied().filter(|day| day.is_none_or(|day| inside(date(day).checked_add(span)).is_some())).collect()
        };
        for (unit, span) in [("day", by.days()), ("month", (by / 40).months()), ("year", (by / 500).years())] {
            let kept = within(span);
            if kept.is_empty() {
                continue;
            }
            let count = match unit { "day" => by, "month" => by / 40, _ => by / 500 };
            holds(&kept, &format!("d + {count} * interval '1' {unit}"), |d| of(d.checked_add(span).unwrap()));
        }
    }

    #[test]
    fn differences(pairs in some_days(), others in some_days()) {
        let rows = pairs.len().min(others.len());
        let (a, b) = (&pairs[..rows], &others[..rows]);
        let table = flow(&[("a", Values::Date(a.to_vec())), ("b", Values::Date(b.to_vec()))]);
        let holds = |expression: &str, by: &dyn Fn(Date, Date) -> i64| {
            let expected: Vec<Scalar> = a
                .iter()
                .zip(b)
                .map(|(a, b)| match (a, b) {
                    (Some(a), Some(b)) => Scalar::Int(by(date(*a), date(*b))),
                    _ => Scalar::Null,
                })
                .collect();
            assert_eq!(evaluated(&table, expression), expected, "{expression} of {a:?} and {b:?}");
        };
        holds("b - a", &|a, b| i64::from(a.until((Unit::Day, b)).unwrap().get_days()));
        holds("date_diff(day, a, b)", &|a, b| i64::from(a.until((Unit::Day, b)).unwrap().get_days()));
        holds("date_diff(week, a, b)", &|a, b| i64::from(a.until((Unit::Day, b)).unwrap().get_days() / 7));
    }

    #[test]
    fn moments(moments in some_moments()) {
        let table = flow(&[("t", Values::Timestamp(moments.clone()))]);
        let holds = |expression: &str, by: &dyn Fn(DateTime, i64) -> Scalar| {
            let expected: Vec<Scalar> =
                moments.iter().map(|at| at.map_or(Scalar::Null, |at| by(moment(at), at))).collect();
            assert_eq!(evaluated(&table, expression), expected, "{expression} of {moments:?}");
        };
        holds("hour(t)", &|t, _| int(t.hour()));
        holds("minute(t)", &|t, _| int(t.minute()));
        holds("second(t)", &|t, _| int(t.second()));
        holds("cast(t as date)", &|t, _| of(t.date()));
        holds("start_of(day, t)", &|t, _| Scalar::Timestamp(i64::from(days(t.date())) * 86_400_000_000));
        holds("start_of(hour, t)", &|_, at| Scalar::Timestamp(at - at.rem_euclid(3_600_000_000)));
        holds("end_of(minute, t)", &|_, at| Scalar::Timestamp(at - at.rem_euclid(60_000_000) + 59_999_999));
        holds("epoch(t)", &|_, at| int(at.div_euclid(1_000_000)));
        holds("from_epoch(epoch(t, 'microsecond'), 'microsecond')", &|_, at| Scalar::Timestamp(at));
        holds("cast(cast(t as text) as timestamp)", &|_, at| Scalar::Timestamp(at));
    }
}
