//! Laws that hold for any data: against a few plain lines of Rust, against another crate's answer, or against the same run
//! in other settings.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod accounts;
mod aggregates;
mod algebra;
#[cfg(all(
    feature = "arrow-ipc",
    feature = "avro",
    feature = "json",
    feature = "parquet",
    feature = "workbook"
))]
mod bytes;
mod columns;
mod dates;
mod folding;
mod joins;
#[cfg(all(
    feature = "arrow-ipc",
    feature = "avro",
    feature = "json",
    feature = "parquet",
    feature = "workbook"
))]
mod json;
mod numbers;
mod programs;
mod spilled;
mod text;
mod windows;
#[cfg(all(
    feature = "arrow-ipc",
    feature = "avro",
    feature = "json",
    feature = "parquet",
    feature = "workbook"
))]
mod written;
