//! Marks of numbers: multiples of 1, 2 or 5 times a power of ten, or powers of ten themselves.

use churn_core::readable::grouped;

use super::{Measure, Range, Tick};
use crate::text::push;

/// The least of 1, 2 and 5 times a power of ten that is not below a number; the number is positive.
pub fn round_step(at_least: f64) -> f64 {
    if !at_least.is_finite() || at_least <= 0.0 {
        return if at_least > 0.0 { f64::MAX } else { f64::MIN_POSITIVE };
    }
    let power = at_least.log10().floor() as i32;
    let step = |factor: f64, power: i32| {
        if power < 0 { factor / 10f64.powi(-power) } else { factor * 10f64.powi(power) }
    };
    let wide = [1.0, 2.0, 5.0].map(|factor| step(factor, power)).into_iter();
    // A rounding above is no reason for a wider step.
    wide.chain([step(1.0, power + 1)]).find(|step| *step >= at_least * (1.0 - 1e-12)).unwrap_or(at_least)
}

/// What numbers are told in where they are large.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Magnitude {
    /// What one of them is.
    pub factor: f64,
    /// Its name; empty for ones.
    pub name: &'static str,
}

impl Default for Magnitude {
    fn default() -> Magnitude {
        Magnitude { factor: 1.0, name: "" }
    }
}

impl Magnitude {
    /// For numbers up to this one.
    pub fn of(greatest: f64) -> Magnitude {
        const NAMED: [(f64, f64, &str); 3] =
            [(1e9, 1e9, "billions"), (1e6, 1e6, "millions"), (1e5, 1e3, "thousands")];
        let known = NAMED.iter().find(|(least, ..)| greatest >= *least && greatest < 1e13);
        known.map_or_else(Magnitude::default, |(_, factor, name)| Magnitude { factor: *factor, name })
    }
}

/// Numbers from which on digits stand in threes: years and the like do not.
const GROUPED: u64 = 10_000;

/// A number with so many decimals, the digits of large ones in threes; past what can be read, with an exponent.
pub fn number_text(x: f64, decimals: usize) -> String {
    if x == 0.0 && decimals > 5 {
        return "0".to_owned();
    }
    if x.abs() >= 1e13 || decimals > 5 {
        let text = format!("{x:.2e}");
        let (mantissa, exponent) = text.split_once('e').unwrap_or((&text, "0"));
        let mantissa = mantissa.trim_end_matches('0').trim_end_matches('.');
        return format!("{mantissa}e{exponent}");
    }
    let text = format!("{:.decimals$}", x.abs());
    let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
    let is_zero = text.bytes().all(|b| matches!(b, b'0' | b'.'));
    let mut out = if x < 0.0 && !is_zero { "-".to_owned() } else { String::new() };
    match whole.parse::<u64>() {
        Ok(number) if number >= GROUPED => out.push_str(&grouped(number)),
        _ => out.push_str(whole),
    }
    if !fraction.is_empty() {
        push(&mut out, format_args!(".{fraction}"));
    }
    out
}

/// Multiples of a round step.
pub(super) fn ticks(range: &Range, most: usize) -> Vec<Tick> {
    let magnitude = range.magnitude();
    let mut step = round_step((range.to / 2.0 - range.from / 2.0) * 2.0 / most as f64);
    if range.measure == Measure::Whole {
        step = step.max(1.0);
    }
    loop {
        let (first, last) = ((range.from / step).ceil(), (range.to / step).floor());
        if !step.is_finite() || last < first {
            return Vec::new();
        }
        if last - first < most as f64 && last.abs() < 1e15 && first.abs() < 1e15 {
            let told = step / magnitude.factor;
            let decimals = (-(told * (1.0 + 1e-9)).log10().floor()).max(0.0) as usize;
            let tick = |n: i64| {
                let at = if step < 1.0 { n as f64 / (1.0 / step).round() } else { n as f64 * step };
                let at = if step < 1e-9 { n as f64 * step } else { at };
                Tick {
                    at: at.clamp(range.from, range.to),
                    label: number_text(at / magnitude.factor, decimals),
                }
            };
            return (first as i64..=last as i64).map(tick).collect();
        }
        step = round_step(step * 1.5);
    }
}

/// Powers of ten; with 2 and 5 times them where there is room.
pub(super) fn log_ticks(range: &Range, most: usize) -> Vec<Tick> {
    let (first, last) = (range.from.log10().floor() as i32, range.to.log10().ceil() as i32);
    let ticks = |factors: &[f64], every: i32| -> Vec<Tick> {
        let powers = (first..=last).filter(|power| power.rem_euclid(every) == 0);
        let all = powers.flat_map(|power| factors.iter().map(move |factor| (*factor, power)));
        all.filter_map(|(factor, power)| {
            let at = if power < 0 { factor / 10f64.powi(-power) } else { factor * 10f64.powi(power) };
            let decimals = (-power).max(0) as usize;
            let is_within = range.from * (1.0 - 1e-12) <= at && at <= range.to * (1.0 + 1e-12);
            is_within.then(|| Tick { at: at.clamp(range.from, range.to), label: number_text(at, decimals) })
        })
        .collect()
    };
    let dense = ticks(&[1.0, 2.0, 5.0], 1);
    if dense.len() <= most && last - first <= 3 {
        return dense;
    }
    (1..).map(|every| ticks(&[1.0], every)).find(|ticks| ticks.len() <= most).unwrap_or_default()
}
