//! Loops over columns and bytes: the only crate of the workspace that holds `unsafe` code.
//!
//! Nothing here knows of plans, files or schemas. Each kernel takes slices and gives slices; each has a plain
//! twin in its tests that it must agree with.
//!
//! | module | what it is for |
//! | --- | --- |
//! | [`structure`] | separators and line ends of delimited text, quotes respected |
//! | [`number`] | whole numbers and decimal fractions from text |
//! | [`calendar`] | days, times and timestamps from and to text and fields |
//! | [`columns`] | element-wise loops over one or two columns |
//! | [`double`] | sums that carry their own rounding error |
//! | [`hash`] | hashes of fixed-width and byte keys |
//! | [`views`] | text columns that point into a block of text |

pub mod calendar;
pub mod columns;
pub mod double;
pub mod hash;
mod masks;
pub mod number;
pub mod structure;
pub mod views;
