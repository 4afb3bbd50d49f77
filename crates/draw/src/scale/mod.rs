//! Scales: what a number on an axis is, where it lies, and which numbers are marked.

mod calendar;
mod numbers;

pub use calendar::{calendar_borders, moment_text, time_text};
pub use numbers::{Magnitude, number_text, round_step};

use churn_kernels::calendar::write_date;

/// What the numbers of an axis are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Measure {
    /// Numbers.
    #[default]
    Number,
    /// Whole numbers.
    Whole,
    /// Days from 1970-01-01.
    Date,
    /// Seconds from midnight.
    Time,
    /// Seconds from 1970-01-01 00:00.
    Moment,
}

impl Measure {
    /// Whether they are numbers, whole or not, and neither dates nor times.
    pub fn is_number(self) -> bool {
        matches!(self, Measure::Number | Measure::Whole)
    }

    /// A value as tables show it.
    pub fn text(self, x: f64) -> String {
        match self {
            Measure::Number | Measure::Whole => {
                churn_core::readable::shown(x).trim_end_matches(".0").to_owned()
            }
            Measure::Date => date_text(x),
            Measure::Time => time_text(x),
            Measure::Moment => moment_text(x),
        }
    }
}

/// A day of the calendar in text.
fn date_text(days: f64) -> String {
    let mut text = Vec::new();
    write_date(days.round() as i32, &mut text);
    String::from_utf8_lossy(&text).into_owned()
}

/// The part of an axis of numbers that is shown.
#[derive(Clone, Debug, PartialEq)]
pub struct Range {
    /// What the numbers are.
    pub measure: Measure,
    /// The least.
    pub from: f64,
    /// The greatest; more than the least.
    pub to: f64,
    /// Whether equal distances stand for equal ratios.
    pub is_log: bool,
}

/// A number that is marked on an axis.
#[derive(Clone, Debug, PartialEq)]
pub struct Tick {
    /// Where.
    pub at: f64,
    /// How it is told.
    pub label: String,
}

impl Range {
    /// From the least to the greatest of some numbers; of one number alone, a little around it. The numbers are finite.
    pub fn over(measure: Measure, least: f64, greatest: f64) -> Range {
        let (from, to) = if least < greatest {
            (least, greatest)
        } else {
            let around = match measure {
                Measure::Number | Measure::Whole if least == 0.0 => 1.0,
                Measure::Number | Measure::Whole => least.abs() / 2.0,
                Measure::Date => 1.0,
                Measure::Time | Measure::Moment => 60.0,
            };
            (least - around, least + around)
        };
        Range { measure, from, to, is_log: false }
    }

    /// With equal distances for equal ratios; both ends lie above zero then.
    #[must_use]
    pub fn log(self) -> Range {
        let to = if self.to > 0.0 { self.to } else { 10.0 };
        let from = if self.from > 0.0 && self.from < to { self.from } else { to / 10.0 };
        Range { from, to, is_log: true, ..self }
    }

    /// With zero in it.
    #[must_use]
    pub fn with_zero(self) -> Range {
        Range { from: self.from.min(0.0), to: self.to.max(0.0), ..self }
    }

    /// With zero in it if it is near: if the least is at most half of the greatest.
    #[must_use]
    pub fn with_zero_if_near(self) -> Range {
        let (small, large) = (self.from.abs().min(self.to.abs()), self.from.abs().max(self.to.abs()));
        let is_near = self.measure.is_number() && !self.is_log && small * 2.0 <= large;
        if is_near { self.with_zero() } else { self }
    }

    /// With round ends, for about so many marks; a date or a time stays as it is.
    #[must_use]
    pub fn rounded(self, marks: usize) -> Range {
        if !self.measure.is_number() {
            return self;
        }
        if self.is_log {
            let from = 10f64.powf(self.from.log10().floor());
            return Range { from, to: 10f64.powf(self.to.log10().ceil()), ..self };
        }
        let step = round_step((self.to - self.from) / marks.max(1) as f64);
        let (from, to) = ((self.from / step).floor() * step, (self.to / step).ceil() * step);
        if from.is_finite() && to.is_finite() && from < to { Range { from, to, ..self } } else { self }
    }

    /// With a share of its length more at both ends.
    #[must_use]
    pub fn padded(self, share: f64) -> Range {
        if self.is_log {
            let by = (self.to / self.from).powf(share);
            return Range { from: self.from / by, to: self.to * by, ..self };
        }
        let by = (self.to - self.from) * share;
        Range { from: self.from - by, to: self.to + by, ..self }
    }

    /// Where a number lies between both ends: 0 and 1.
    pub fn share(&self, x: f64) -> f64 {
        if self.is_log {
            return (x / self.from).ln() / (self.to / self.from).ln();
        }
        // Halves, whose difference is finite where that of the ends is not.
        let length = self.to / 2.0 - self.from / 2.0;
        (x / 2.0 - self.from / 2.0) / length
    }

    /// A number as a label tells it: large ones with their digits in threes, and no more decimals than are seen.
    pub fn told(&self, x: f64) -> String {
        match self.measure {
            measure if !measure.is_number() => measure.text(x),
            _ if x.abs() >= 1e5 => number_text(x, 0),
            _ if x.abs() >= 1e4 => number_text(x, usize::from(x.fract() != 0.0)),
            measure => measure.text(x),
        }
    }

    /// What the numbers are told in: thousands, millions, … of numbers that are large.
    pub fn magnitude(&self) -> Magnitude {
        if !self.measure.is_number() || self.is_log {
            return Magnitude::default();
        }
        Magnitude::of(self.from.abs().max(self.to.abs()))
    }

    /// The marked numbers, rising: at most so many, at least one, unless none is round.
    pub fn ticks(&self, most: usize) -> Vec<Tick> {
        let most = most.max(1);
        match self.measure {
            Measure::Number | Measure::Whole if self.is_log => numbers::log_ticks(self, most),
            Measure::Number | Measure::Whole => numbers::ticks(self, most),
            Measure::Date | Measure::Time | Measure::Moment => calendar::ticks(self, most),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, 100.0, 6, &["0", "20", "40", "60", "80", "100"])]
    #[case(-0.3, 0.3, 4, &["-0.2", "0.0", "0.2"])]
    #[case(0.0, 12_000.0, 5, &["0", "5000", "10\u{a0}000"])]
    #[case(0.0, 3_200_000.0, 5, &["0", "1", "2", "3"])]
    #[case(0.0, 0.000_002, 3, &["0", "1e-6", "2e-6"])]
    fn numbers_are_marked_at_round_places(
        #[case] from: f64,
        #[case] to: f64,
        #[case] most: usize,
        #[case] expected: &[&str],
    ) {
        let range = Range { measure: Measure::Number, from, to, is_log: false };
        let labels: Vec<String> = range.ticks(most).into_iter().map(|tick| tick.label).collect();
        assert_eq!(labels, expected);
    }

    #[rstest]
    #[case(0.5, 2000.0, 8, &["1", "10", "100", "1000"])]
    #[case(2.0, 60.0, 6, &["2", "5", "10", "20", "50"])]
    fn ratios_are_marked_at_powers(
        #[case] from: f64,
        #[case] to: f64,
        #[case] most: usize,
        #[case] expected: &[&str],
    ) {
        let range = Range { measure: Measure::Number, from, to, is_log: true };
        let labels: Vec<String> = range.ticks(most).into_iter().map(|tick| tick.label).collect();
        assert_eq!(labels, expected);
    }

    #[test]
    fn one_number_has_room_around_it() {
        assert_eq!(
            (Range::over(Measure::Number, 8.0, 8.0).from, Range::over(Measure::Number, 8.0, 8.0).to),
            (4.0, 12.0)
        );
        assert_eq!(Range::over(Measure::Number, 0.0, 0.0).to, 1.0);
        assert_eq!(Range::over(Measure::Date, 5.0, 5.0).from, 4.0);
    }

    #[test]
    fn whole_numbers_are_marked_at_whole_ones() {
        let range = Range { measure: Measure::Whole, from: 0.0, to: 2.0, is_log: false };
        let labels: Vec<String> = range.ticks(9).into_iter().map(|tick| tick.label).collect();
        assert_eq!(labels, ["0", "1", "2"]);
    }

    proptest! {
        #[test]
        fn marks_lie_within_and_are_few(from in -1e9f64..1e9, length in 1e-6f64..1e9, most in 1usize..12) {
            let range = Range { measure: Measure::Number, from, to: from + length, is_log: false };
            let ticks = range.ticks(most);
            prop_assert!(ticks.len() <= most, "{} of {}", ticks.len(), most);
            for tick in &ticks {
                prop_assert!(range.from <= tick.at && tick.at <= range.to);
            }
            prop_assert!(ticks.windows(2).all(|pair| pair[0].at < pair[1].at));
            let mut labels: Vec<&String> = ticks.iter().map(|tick| &tick.label).collect();
            labels.dedup();
            prop_assert_eq!(labels.len(), ticks.len());
        }

        #[test]
        fn days_are_marked_within(from in -700_000i32..2_900_000, days in 1i32..200_000, most in 1usize..12) {
            let range = Range { measure: Measure::Date, from: f64::from(from), to: f64::from((from + days).min(2_932_896)), is_log: false };
            let ticks = range.ticks(most);
            prop_assert!(ticks.len() <= most);
            for tick in &ticks {
                prop_assert!(range.from <= tick.at && tick.at <= range.to);
            }
        }

        #[test]
        fn shares_of_the_ends_are_0_and_1(from in -1e300f64..1e300, length in 1.0f64..1e300) {
            let range = Range { measure: Measure::Number, from, to: from + length, is_log: false };
            if range.from < range.to {
                prop_assert_eq!(range.share(range.from), 0.0);
                prop_assert!((range.share(range.to) - 1.0).abs() < 1e-9);
            }
        }
    }
}
