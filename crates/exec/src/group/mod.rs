//! `group`, `total` and `per`: small tables made by the workers, merged in order into a large one.
//!
//! A worker fills a table from the rows of a morsel and closes it when it has grown past the cache, so that what
//! is in which table depends on the data alone. It partitions the table's groups by their keys' hashes. Where a morsel has
//! about as many groups as rows, it passes its rows on instead.
//! The ordered side takes the tables in the order of morsels and merges them, partition by partition on all
//! threads: sums meet in the same order whatever worker made them, and the first place that a group was seen at
//! gives its place in the result.
//!
//! When the budget is used up, what is merged goes to a file for each partition, and the tables that follow
//! behind it, unmerged. At the end one partition after the other is merged, in the same order as in memory, and
//! its groups go to a run; the runs are merged by first appearance.

mod broadcast;
mod external;
mod local;
mod partition;
mod passed;
mod table;

pub(super) use external::ExternalStates;
pub(super) use local::{GroupCall, Grouping};
pub(super) use table::sink;
