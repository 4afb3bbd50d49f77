//! A small histogram: how the rows are spread from the least value to the greatest.

use churn_core::Type;
use churn_exec::profile::measure;
use churn_kernels::calendar::{self, Civil};

use super::Bin;

/// Bins that are wanted of numbers; round borders may make a few more or less.
const BINS: f64 = 12.0;

/// The most bins of dates: three years of months.
const DATE_BINS: usize = 36;

/// The bins of measures, which rise and stand beside their rows; empty where there is nothing to tell apart. The
/// greatest float is in the last bin, also where it is its border.
pub(super) fn of(measured: &[(f64, u64)], kind: &Type) -> Vec<Bin> {
    let (Some((least, _)), Some((most, _))) = (measured.first(), measured.last()) else { return Vec::new() };
    if least == most {
        return Vec::new();
    }
    let edges = match kind {
        Type::Date | Type::Timestamp => of_days(*least, *most),
        Type::Time => (0..=24).map(|hour| f64::from(hour * 60)).collect(),
        _ => of_numbers(*least, *most, *kind == Type::Int),
    };
    let mut rest = measured;
    let bin = |edges: &[f64]| {
        let [from, to] = *edges else { return None };
        let here = rest.partition_point(|(x, _)| *x < to || to == *most && *kind != Type::Int);
        let (within, later) = rest.split_at_checked(here)?;
        rest = later;
        let rows = within.iter().map(|(_, rows)| rows).sum();
        Some(Bin { from: measure::value(from, kind), to: measure::value(to, kind), rows })
    };
    edges.windows(2).filter_map(bin).collect()
}

/// Borders that are 1, 2 or 5 times a power of ten apart.
fn of_numbers(least: f64, most: f64, whole: bool) -> Vec<f64> {
    let wanted = (most - least) / BINS;
    let unit = 10f64.powf(wanted.log10().floor());
    let round = [1.0, 2.0, 5.0, 10.0].into_iter().find(|n| n * unit >= wanted).unwrap_or(10.0) * unit;
    let width = if whole { round.max(1.0) } else { round };
    // The greatest number has its place in the last bin; of whole numbers bins are told by the last that is in.
    let end = most / width;
    let (first, last) = ((least / width).floor(), if whole { end.floor() + 1.0 } else { end.ceil() });
    if !(width > 0.0 && last - first < 3.0 * BINS) {
        return Vec::new();
    }
    // A quotient, so that borders are as they are written: 0.3, not 3 times 0.1.
    let border = |n: f64| if width < 1.0 { n / (1.0 / width).round() } else { n * width };
    (0..=(last - first) as i32).map(|i| border(first + f64::from(i))).collect()
}

/// The starts of days, weeks, months, quarters, years, … that are few enough.
fn of_days(least: f64, most: f64) -> Vec<f64> {
    let (first, last) = (least.floor() as i32, most.floor() as i32);
    let by_days = |days: i32| {
        // Weeks start on Monday.
        let start = first - (calendar::weekday(first) - 1) * i32::from(days > 1);
        let count = (last - start) / days + 1;
        ((count as usize) <= DATE_BINS).then(|| (0..=count).map(|i| f64::from(start + i * days)).collect())
    };
    let by_months = |months: i32| {
        let month = |day: i32| {
            let civil = calendar::to_civil(day);
            civil.year * 12 + civil.month as i32 - 1
        };
        let start = month(first).div_euclid(months) * months;
        let count = (month(last) - start) / months + 1;
        let day = |i: i32| {
            let month = start + i * months;
            let civil = Civil { year: month.div_euclid(12), month: month.rem_euclid(12) as u32 + 1, day: 1 };
            f64::from(calendar::to_days(civil))
        };
        ((count as usize) <= DATE_BINS).then(|| (0..=count).map(day).collect())
    };
    let found = [1, 7].into_iter().find_map(by_days);
    found.or_else(|| [1, 3, 12, 120, 1200, 12_000].into_iter().find_map(by_months)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use churn_core::Scalar;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, 9.7, &[0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 10.0])]
    #[case(-0.1, 0.31, &[-0.1, -0.05, 0.0, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.35])]
    fn borders_are_round(#[case] least: f64, #[case] most: f64, #[case] expected: &[f64]) {
        assert_eq!(of_numbers(least, most, false), expected);
    }

    #[test]
    fn every_row_is_in_a_bin() {
        let day = |year, month| calendar::to_days(Civil { year, month, day: 5 });
        let measured =
            [(f64::from(day(2024, 1)), 3), (f64::from(day(2024, 7)), 2), (f64::from(day(2026, 12)), 1)];
        let bins = of(&measured, &Type::Date);
        assert_eq!(bins.len(), 36);
        assert_eq!(bins.iter().map(|bin| bin.rows).sum::<u64>(), 6);
        let first = calendar::to_days(Civil { year: 2024, month: 1, day: 1 });
        assert_eq!(bins.first().map(|bin| bin.from.clone()), Some(Scalar::Date(first)));
    }
}
