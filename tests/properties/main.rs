//! Laws that hold for any data: against a few plain lines of Rust, against another crate's answer, or against the same run
//! in other settings.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod accounts;
mod aggregates;
mod algebra;
#[cfg(feature = "formats")]
mod bytes;
mod columns;
mod dates;
mod folding;
mod joins;
#[cfg(feature = "formats")]
mod json;
mod numbers;
mod programs;
mod spilled;
mod text;
mod windows;
#[cfg(feature = "formats")]
mod written;
