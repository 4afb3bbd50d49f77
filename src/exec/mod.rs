#![doc = include_str!("README.md")]

mod budget;
mod build;
mod context;
mod ends;
mod grace;
mod group;
mod held;
mod join;
mod kept;
mod keys;
mod last;
mod ledger;
mod merge;
mod options;
mod output;
mod paste;
mod pipeline;
pub(crate) mod profile;
mod sample;
mod serial;
mod sort;
mod spill;
mod spread;
mod stream;
mod tally;
mod top;
mod unpivot;
mod window;

pub(crate) use build::{find, run, run_for_effect};
pub(crate) use held::{Collect, Discard};
pub(crate) use ledger::scans;
pub use ledger::{Ledger, LedgerStep};
pub use options::{Progress, RunOptions};
pub(crate) use output::{Channel, Columns, Head, Writer};
