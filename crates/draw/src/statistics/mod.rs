//! What is known of many numbers in bounded memory: counts by bins, their spread, counts in a grid of two of them.

mod bins;
mod grid;
mod spread;

pub use bins::{Bins, Ladder};
pub use grid::{Cell, Grid};
pub use spread::{Spread, quantile};

/// The whole number at or below a number: without a call, which rounding is where the machine's oldest instructions are meant.
#[inline]
fn floor(x: f64) -> i64 {
    let whole = x as i64;
    whole.wrapping_sub(i64::from(x < whole as f64))
}
