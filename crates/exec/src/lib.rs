#![doc = include_str!("../README.md")]
#![forbid(unsafe_code)]

mod key_numbers;
mod keys;
mod operators;
pub mod profile;
mod run;
mod runtime;
mod spill;

pub use key_numbers::KeyNumbers;
pub use run::{Ran, find, run, run_for_effect};
pub use runtime::figures::RunFigures;
pub use runtime::ledger::{account, scans};
pub use runtime::materialized::Collect;
pub use runtime::output::{Both, Channel, ColumnarOutput, Head, Writer};
pub use runtime::settings::{Progress, RunSettings};
