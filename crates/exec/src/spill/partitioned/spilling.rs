//! Rows partitioned by the workers, and the sink that partitions all rows.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use churn_core::widen::without_dictionary;
use churn_core::{Batch, Result, Type};

use super::PartitionWriter;
use super::writer::PartitionedRows;
use crate::runtime::context::Context;
use crate::runtime::materialized::concat;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, Local, Sink, Worker};
use crate::spill::Run;

/// Rows that are partitioned together, at most, and bytes of them, about.
const PART_ROWS: usize = 1 << 16;
const PART_BYTES: u64 = 8 << 20;

/// How rows are partitioned by those who hand them over, from some time on.
#[derive(Clone)]
pub(crate) struct Spilling {
    /// Places of the keys among the columns.
    pub(super) keys: Vec<usize>,
    pub(super) kinds: Vec<Type>,
    /// Bytes of rows that are partitioned together, about.
    bytes: usize,
    pub(super) begun: Arc<AtomicBool>,
}

impl Spilling {
    pub(super) fn new((keys, kinds): (Vec<usize>, Vec<Type>), context: &Context) -> Spilling {
        let bytes = context.budget.share().min(PART_BYTES) as usize;
        Spilling { keys, kinds, bytes, begun: Arc::default() }
    }

    /// Whether rows are to be partitioned.
    pub(crate) fn has_begun(&self) -> bool {
        self.begun.load(Ordering::Relaxed)
    }

    /// Some batches, partitioned as one; `None` if there are none.
    pub(crate) fn partitioned(&self, batches: Vec<Batch>) -> Result<Option<PartitionedRows>> {
        let whole = |batch: Batch| {
            let columns = batch.columns.into_iter().map(without_dictionary).collect();
            Batch { columns, rows: batch.rows }
        };
        let Some(batch) = concat(batches.into_iter().map(whole).collect())?.pop() else { return Ok(None) };
        PartitionedRows::new(&batch, &batch.columns_at(&self.keys), &self.kinds, 0).map(Some)
    }

    /// The next batches, so many rows as are partitioned together.
    pub(super) fn next_part(&self, batches: &mut impl Iterator<Item = Batch>) -> Vec<Batch> {
        let (mut part, mut rows, mut bytes) = (Vec::new(), 0, 0);
        while rows < PART_ROWS && bytes < self.bytes {
            let Some(batch) = batches.next() else { break };
            (rows, bytes) = (rows + batch.rows, bytes + batch.memory());
            part.push(batch);
        }
        part
    }
}

/// Rows of a morsel that are partitioned next.
pub(crate) struct LocalPartitions<'a> {
    spilling: &'a Spilling,
    batches: Vec<Batch>,
    rows: usize,
    bytes: usize,
}

impl<'a> LocalPartitions<'a> {
    pub(super) fn new(spilling: &'a Spilling) -> LocalPartitions<'a> {
        LocalPartitions { spilling, batches: Vec::new(), rows: 0, bytes: 0 }
    }
}

impl Local for LocalPartitions<'_> {
    type Part = PartitionedRows;

    fn consume(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<Option<PartitionedRows>> {
        let batch = batch.compacted();
        self.rows += batch.rows;
        self.bytes += batch.memory();
        self.batches.push(batch);
        if self.rows < PART_ROWS && self.bytes < self.spilling.bytes {
            return Ok(None);
        }
        (self.rows, self.bytes) = (0, 0);
        self.spilling.partitioned(std::mem::take(&mut self.batches))
    }

    fn seal(self) -> Result<Option<PartitionedRows>> {
        self.spilling.partitioned(self.batches)
    }
}

/// The sink that partitions all rows: its output are the runs of the partitions.
pub(crate) struct PartitionAll(PartitionWriter);

impl PartitionAll {
    /// Of rows with keys of these types at these places.
    pub(crate) fn sink(
        (keys, kinds): (Vec<usize>, Vec<Type>),
        context: &Context,
    ) -> Result<Sink<Spilling, PartitionAll>> {
        let writer = PartitionWriter::new(kinds.clone(), &context.spill, context.threads())?;
        let worker = Spilling::new((keys, kinds), context);
        Ok(Sink { worker: Arc::new(worker), commit: PartitionAll(writer) })
    }
}

impl Worker for Spilling {
    type Part = PartitionedRows;
    type Local<'a> = LocalPartitions<'a>;

    const GATHERS: bool = true;

    fn local(&self) -> Result<LocalPartitions<'_>> {
        Ok(LocalPartitions::new(self))
    }
}

impl Commit for PartitionAll {
    type Part = PartitionedRows;
    type Output = Vec<Run>;

    fn commit(&mut self, rows: PartitionedRows, _: &mut MorselOutput) -> Result<bool> {
        self.0.add_next(&rows).map(|()| true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<Vec<Run>> {
        self.0.finish()
    }
}
