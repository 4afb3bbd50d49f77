//! Marks and borders of dates, times and moments: days, weeks, months, quarters, years; minutes and hours.

use churn_kernels::calendar::{Civil, to_civil, to_days, weekday};

use super::{Measure, Range, Tick, date_text};

const DAY: f64 = 86_400.0;

/// A step of the calendar.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Step {
    Seconds(i64),
    Days(i32),
    Months(i32),
}

/// The steps, from the shortest; each is a part of a later one as far as a calendar is regular.
const STEPS: &[Step] = &[
    Step::Seconds(1),
    Step::Seconds(2),
    Step::Seconds(5),
    Step::Seconds(10),
    Step::Seconds(15),
    Step::Seconds(30),
    Step::Seconds(60),
    Step::Seconds(120),
    Step::Seconds(300),
    Step::Seconds(600),
    Step::Seconds(900),
    Step::Seconds(1800),
    Step::Seconds(3600),
    Step::Seconds(7200),
    Step::Seconds(10_800),
    Step::Seconds(21_600),
    Step::Seconds(43_200),
    Step::Days(1),
    Step::Days(2),
    Step::Days(7),
    Step::Days(14),
    Step::Months(1),
    Step::Months(2),
    Step::Months(3),
    Step::Months(6),
    Step::Months(12),
    Step::Months(24),
    Step::Months(60),
    Step::Months(120),
    Step::Months(240),
    Step::Months(600),
    Step::Months(1200),
    Step::Months(2400),
    Step::Months(6000),
    Step::Months(12_000),
    Step::Months(24_000),
    Step::Months(60_000),
    Step::Months(120_000),
];

/// Months from the year 0.
fn month_of(day: i32) -> i32 {
    let civil = to_civil(day);
    civil.year * 12 + civil.month as i32 - 1
}

fn first_of(month: i32) -> f64 {
    f64::from(to_days(Civil { year: month.div_euclid(12), month: month.rem_euclid(12) as u32 + 1, day: 1 }))
}

impl Step {
    /// About how long it is, in days.
    fn days(self) -> f64 {
        match self {
            Step::Seconds(seconds) => seconds as f64 / DAY,
            Step::Days(days) => f64::from(days),
            Step::Months(months) => f64::from(months) * 30.436_875,
        }
    }

    /// The starts of the steps that lie between two days, and one before and one behind them.
    fn starts(self, from: f64, to: f64) -> Vec<f64> {
        match self {
            Step::Seconds(seconds) => {
                let first = (from * DAY / seconds as f64).floor() as i64;
                let last = (to * DAY / seconds as f64).floor() as i64 + 1;
                (first..=last).map(|n| (n * seconds) as f64 / DAY).collect()
            }
            Step::Days(days) => {
                let day = from.floor() as i32;
                // Weeks start on Monday.
                let start = match days {
                    7 | 14 => {
                        day - (weekday(day) - 1)
                            - if days == 14 && (day - weekday(day)).div_euclid(7) % 2 != 0 { 7 } else { 0 }
                    }
                    _ => day.div_euclid(days) * days,
                };
                let count = ((to - f64::from(start)) / f64::from(days)).floor() as i32 + 1;
                (0..=count).map(|n| f64::from(start + n * days)).collect()
            }
            Step::Months(months) => {
                let first = month_of(from.floor() as i32).div_euclid(months);
                let last = month_of(to.floor() as i32).div_euclid(months) + 1;
                (first..=last).map(|n| first_of(n * months)).collect()
            }
        }
    }
}

/// Days of a number of the measure, and what a day is of it.
fn unit(measure: Measure) -> f64 {
    if measure == Measure::Date { 1.0 } else { DAY }
}

/// A time of day in text, with seconds where it has some.
pub fn time_text(seconds: f64) -> String {
    let whole = seconds.round() as i64;
    let (hour, minute, second) = (whole / 3600, whole / 60 % 60, whole % 60);
    if second == 0 { format!("{hour:02}:{minute:02}") } else { format!("{hour:02}:{minute:02}:{second:02}") }
}

/// A moment in text; at midnight its day alone.
pub fn moment_text(seconds: f64) -> String {
    let (day, rest) = ((seconds / DAY).floor(), seconds.rem_euclid(DAY).round());
    if rest == 0.0 { date_text(day) } else { format!("{} {}", date_text(day), time_text(rest)) }
}

/// A mark's text, as long as its step needs; the first of a day's times tells the day as well.
fn label(measure: Measure, step: Step, days: f64, is_first: bool) -> String {
    let text = date_text(days.floor());
    match step {
        Step::Months(months) if months >= 12 => text.get(..4).unwrap_or(&text).to_owned(),
        Step::Months(_) => text.get(..7).unwrap_or(&text).to_owned(),
        Step::Days(_) => text,
        Step::Seconds(_) => {
            let seconds = (days.rem_euclid(1.0) * DAY).round();
            match measure {
                Measure::Moment if is_first || seconds == 0.0 => moment_text((days * DAY).round()),
                _ => time_text(seconds),
            }
        }
    }
}

/// Starts of days, months, years, hours, … of the shortest step of which there are few enough.
pub(super) fn ticks(range: &Range, most: usize) -> Vec<Tick> {
    let unit = unit(range.measure);
    let (from, to) = (range.from / unit, range.to / unit);
    let fits = |step: &&Step| {
        let is_own = match step {
            Step::Seconds(_) => range.measure != Measure::Date,
            Step::Days(_) | Step::Months(_) => range.measure != Measure::Time,
        };
        is_own && (to - from) / step.days() < most as f64 + 1.0
    };
    for step in STEPS.iter().filter(fits) {
        let starts = step.starts(from, to).into_iter().filter(|start| *start >= from && *start <= to);
        let starts: Vec<f64> = starts.collect();
        if starts.len() <= most {
            let tick = |(number, start): (usize, f64)| Tick {
                at: (start * unit).clamp(range.from, range.to),
                label: label(range.measure, *step, start, number == 0),
            };
            return starts.into_iter().enumerate().map(tick).collect();
        }
    }
    Vec::new()
}

/// Borders of bins from the least to the greatest number of a measure, of about so many bins or fewer; the last border
/// lies behind the greatest.
pub fn calendar_borders(measure: Measure, least: f64, greatest: f64, bins: usize) -> Vec<f64> {
    let unit = unit(measure);
    let (from, to) = (least / unit, greatest / unit);
    // Steps that count in their own right: no two days, no two months.
    let is_plain = |step: &&Step| match step {
        Step::Seconds(_) => measure != Measure::Date,
        Step::Days(days) => *days == 1 || *days == 7,
        Step::Months(months) => [1, 3, 12, 120, 1200, 12_000].contains(months),
    };
    for step in STEPS.iter().filter(is_plain) {
        if (to - from) / step.days() < bins as f64 * 1.5 {
            let mut starts = step.starts(from, to);
            starts.retain(|start| measure != Measure::Time || *start <= 1.0);
            return starts.into_iter().map(|start| (start * unit).round()).collect();
        }
    }
    vec![least, greatest + 1.0]
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn day(year: i32, month: u32, day: u32) -> f64 {
        f64::from(to_days(Civil { year, month, day }))
    }

    #[rstest]
    #[case(day(2026, 1, 1), day(2026, 12, 31), 12, &["2026-01", "2026-02", "2026-03", "2026-04", "2026-05", "2026-06", "2026-07", "2026-08", "2026-09", "2026-10", "2026-11", "2026-12"])]
    #[case(day(2024, 2, 3), day(2026, 12, 31), 6, &["2024-07", "2025-01", "2025-07", "2026-01", "2026-07"])]
    #[case(day(2026, 3, 1), day(2026, 3, 4), 5, &["2026-03-01", "2026-03-02", "2026-03-03", "2026-03-04"])]
    #[case(day(1726, 5, 1), day(2026, 5, 1), 6, &["1750", "1800", "1850", "1900", "1950", "2000"])]
    fn dates_are_marked_at_starts(
        #[case] from: f64,
        #[case] to: f64,
        #[case] most: usize,
        #[case] expected: &[&str],
    ) {
        let range = Range { measure: Measure::Date, from, to, is_log: false };
        let labels: Vec<String> = range.ticks(most).into_iter().map(|tick| tick.label).collect();
        assert_eq!(labels, expected);
    }

    #[rstest]
    #[case(Measure::Time, 0.0, 86_399.0, 5, &["00:00", "06:00", "12:00", "18:00"])]
    #[case(Measure::Moment, 36_000.0, 100_000.0, 4, &["1970-01-01 12:00", "18:00", "1970-01-02"])]
    fn times_are_marked_at_hours(
        #[case] measure: Measure,
        #[case] from: f64,
        #[case] to: f64,
        #[case] most: usize,
        #[case] expected: &[&str],
    ) {
        let range = Range { measure, from, to, is_log: false };
        let labels: Vec<String> = range.ticks(most).into_iter().map(|tick| tick.label).collect();
        assert_eq!(labels, expected);
    }

    #[rstest]
    #[case(Measure::Date, day(2024, 1, 5), day(2026, 12, 5), 40)]
    #[case(Measure::Date, day(2026, 1, 5), day(2026, 1, 5), 40)]
    #[case(Measure::Time, 3600.0, 86_399.0, 30)]
    #[case(Measure::Moment, 0.0, 1e9, 30)]
    fn borders_cover_all_and_are_few(
        #[case] measure: Measure,
        #[case] least: f64,
        #[case] greatest: f64,
        #[case] bins: usize,
    ) {
        let borders = calendar_borders(measure, least, greatest, bins);
        assert!(borders.first().is_some_and(|first| *first <= least));
        assert!(borders.last().is_some_and(|last| *last > greatest));
        assert!(borders.len() <= bins * 2 + 2, "{}", borders.len());
        assert!(borders.windows(2).all(|pair| pair[0] < pair[1]));
    }
}
