//! Partitions on disk: rows that do not fit in memory are written to files by the hash of their keys (grace
//! partitioning), so that all rows of a key are in one file, in input order, and each file fits in memory.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `writer` | rows by the hash of their keys, and their files |
//! | `spilling` | the workers' side, and the sink that partitions all rows |
//! | `partitions` | files read back, and an operator run over each |
//! | `sink` | a sink that holds rows in memory as long as they fit, and goes on with partitions when they do not |
//!
//! A file that is still too large is partitioned again by other bits of the hash, some times at most. Each
//! row carries its position in the input as its first column, so that the results of all files can be merged back into
//! input order. Cost: each row is written and read once a level.

mod partitions;
mod sink;
mod spilling;
mod writer;

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use arrow_array::{ArrayRef, BooleanArray, Int64Array};
use churn_core::{Batch, OrFault, Result};

use super::{Disk, Run};
pub(crate) use partitions::Partitions;
pub(crate) use sink::{HeldRows, PartitionedSink, SinkPart};
pub(crate) use spilling::{PartitionAll, Spilling};
pub(crate) use writer::PartitionWriter;

/// The column of the positions of some rows.
pub(crate) fn position_column(positions: impl Iterator<Item = u64>) -> ArrayRef {
    Arc::new(Int64Array::from_iter_values(positions.map(u64::cast_signed)))
}

/// The positions that such a column has.
pub(crate) fn positions(column: &ArrayRef) -> Result<&[i64]> {
    Ok(column.as_primitive_opt::<Int64Type>().or_fault("column of positions")?.values())
}

/// The output of an operator for one input batch: the output rows, and, unless there is one output row for each input
/// row, which input rows they replace (a bit for each input row; as many bits are set as there are output rows).
pub(crate) type Transformed = (Batch, Option<BooleanArray>);

/// An operator over the rows of one partition, which has all rows of its keys in input order.
pub(crate) trait PartitionOperator: Send + Sync {
    /// Computes the output of each input batch, in order.
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>>;

    /// The operator for a partition that does not fit in memory and cannot be partitioned further, as one key has most of
    /// its rows. `None`: such a partition is an error of kind `Memory`.
    fn external(&self) -> Option<&dyn ExternalOperator> {
        None
    }
}

/// An operator over a partition that stays on disk.
pub(crate) trait ExternalOperator {
    /// Reads a run and writes the run of its output rows. The first column of both has positions.
    fn run_external(&self, run: &Run, disk: &Disk) -> Result<Run>;
}

impl<F: Fn(Vec<Batch>) -> Result<Vec<Transformed>> + Send + Sync> PartitionOperator for F {
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        self(batches)
    }
}
