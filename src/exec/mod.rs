#![doc = include_str!("README.md")]

mod budget;
mod build;
mod context;
mod group;
mod held;
mod keys;
mod ledger;
mod options;
mod output;
mod pipeline;
mod serial;
mod sort;
mod stream;
mod tally;

pub(crate) use build::run;
pub(crate) use held::{Collect, Discard};
pub(crate) use ledger::scans;
pub use ledger::{Ledger, LedgerStep};
pub use options::{Progress, RunOptions};
pub(crate) use output::{Channel, Head, Writer};
