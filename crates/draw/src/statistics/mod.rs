//! What is known of many numbers in bounded memory: counts by bins, their spread, counts in a grid of two of them.

mod bins;
mod grid;
mod spread;

pub use bins::{Bins, Ladder};
pub use grid::{Cell, Grid};
pub use spread::{Spread, quantile};
