#![doc = include_str!("../README.md")]
#![forbid(unsafe_code)]

mod budget;
mod build;
mod context;
mod densify;
mod group;
mod join;
mod keys;
mod last;
mod ledger;
mod materialized;
mod materialized_source;
mod merge;
mod morsel_output;
mod options;
mod output;
mod paste;
mod pipeline;
mod pivot;
pub mod profile;
mod rows_per_key;
mod sample;
mod serial;
mod sink;
mod sort;
mod spill;
mod stream;
mod top_k;
mod unpivot;
mod window;

pub use build::{find, run, run_for_effect};
pub use ledger::{account, scans};
pub use materialized::Collect;
pub use options::{Progress, RunOptions};
pub use output::{Channel, ColumnarOutput, Head, Writer};
