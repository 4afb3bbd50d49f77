//! A sink that holds rows in memory as long as they fit, and goes on with partitions when they do not.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use churn_core::parallel::Threads;
use churn_core::{Batch, Result, Type};
use churn_kernels::memory;

use super::spilling::{LocalPartitions, Spilling};
use super::writer::PartitionedRows;
use super::{PartitionOperator, PartitionWriter, Partitions};
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, CompactBatches, Local, Sink, Worker};
use crate::spill::merge::Merge;
use crate::spill::{Disk, Spill};

/// The rows of a [`PartitionedSink`] while they fit in memory.
pub(crate) trait HeldRows: Send + Sized + 'static {
    /// The worker side of the sink while rows are held.
    type Worker: Worker;

    /// Adds the rows of the next part; gives about the bytes that it holds, and how many rows it has.
    fn push(&mut self, part: PartOf<Self>) -> Result<(usize, usize)>;

    /// All rows as they came; from now on none is held.
    fn drain(&mut self) -> Result<Vec<Batch>>;

    /// The output over all rows, which hold what is reserved.
    fn finish(self, reservation: Reservation) -> Result<Materialized>;
}

type PartOf<H> = <<H as HeldRows>::Worker as Worker>::Part;

/// Rows that are held as they came, for an operator over all of them.
pub(crate) struct HeldBatches {
    process: Arc<dyn PartitionOperator>,
    batches: Vec<Batch>,
}

impl HeldRows for HeldBatches {
    type Worker = CompactBatches;

    fn push(&mut self, batch: Batch) -> Result<(usize, usize)> {
        let held = (batch.memory(), batch.rows);
        self.batches.push(batch);
        Ok(held)
    }

    fn drain(&mut self) -> Result<Vec<Batch>> {
        Ok(std::mem::take(&mut self.batches))
    }

    fn finish(self, _: Reservation) -> Result<Materialized> {
        let made = self.process.rows(self.batches)?;
        Ok(Materialized::Batches(made.into_iter().map(|(batch, _)| batch).collect()))
    }
}

/// What workers hand over.
pub(crate) enum SinkPart<P> {
    Held(P),
    Partitioned(PartitionedRows),
}

/// The worker side of a [`PartitionedSink`]: another one while rows are held; then it partitions them.
pub(crate) struct PartitionWorkers<W> {
    held: W,
    spilling: Spilling,
}

impl<W: Worker> Worker for PartitionWorkers<W> {
    type Part = SinkPart<W::Part>;
    type Local<'a> = LocalRows<'a, W>;

    const GATHERS: bool = W::GATHERS;

    fn local(&self) -> Result<LocalRows<'_, W>> {
        Ok(if self.spilling.has_begun() {
            LocalRows::Partitioned(LocalPartitions::new(&self.spilling))
        } else {
            LocalRows::Held(self.held.local()?)
        })
    }
}

/// The rows of a morsel that are in no part yet.
pub(crate) enum LocalRows<'a, W: Worker> {
    Held(W::Local<'a>),
    Partitioned(LocalPartitions<'a>),
}

impl<W: Worker> Local for LocalRows<'_, W> {
    type Part = SinkPart<W::Part>;

    fn consume(&mut self, batch: Batch, output: &mut MorselOutput) -> Result<Option<SinkPart<W::Part>>> {
        Ok(match self {
            LocalRows::Held(held) => held.consume(batch, output)?.map(SinkPart::Held),
            LocalRows::Partitioned(rows) => rows.consume(batch, output)?.map(SinkPart::Partitioned),
        })
    }

    fn seal(self) -> Result<Option<SinkPart<W::Part>>> {
        Ok(match self {
            LocalRows::Held(held) => held.seal()?.map(SinkPart::Held),
            LocalRows::Partitioned(rows) => rows.seal()?.map(SinkPart::Partitioned),
        })
    }
}

/// A sink that runs a [`PartitionOperator`] over all its rows: at once while they fit in memory, else by partitions.
pub(crate) struct PartitionedSink<H> {
    held: H,
    process: Arc<dyn PartitionOperator>,
    /// What the process holds beside the rows.
    bytes_a_row: usize,
    spill: Spill,
    threads: Threads,
    reservation: Reservation,
    writer: Option<PartitionWriter>,
    /// How workers partition them.
    spilling: Spilling,
}

impl PartitionedSink<HeldBatches> {
    /// A sink that holds rows as they came.
    pub(crate) fn sink(
        keys: Vec<usize>,
        kinds: Vec<Type>,
        (process, bytes_a_row): (Arc<dyn PartitionOperator>, usize),
        context: &Context,
    ) -> Sink<PartitionWorkers<CompactBatches>, PartitionedSink<HeldBatches>> {
        let held = HeldBatches { process: process.clone(), batches: Vec::new() };
        PartitionedSink::new((keys, kinds), held, (process, bytes_a_row), context).with(CompactBatches)
    }
}

impl<H: HeldRows> PartitionedSink<H> {
    /// The ordered side of a sink over rows with these keys and their types.
    pub(crate) fn new(
        keys: (Vec<usize>, Vec<Type>),
        held: H,
        (process, bytes_a_row): (Arc<dyn PartitionOperator>, usize),
        context: &Context,
    ) -> PartitionedSink<H> {
        PartitionedSink {
            held,
            process,
            bytes_a_row,
            spill: context.spill.clone(),
            threads: context.threads().clone(),
            reservation: context.budget.reservation(),
            writer: None,
            spilling: Spilling::new(keys, context),
        }
    }

    /// How workers partition rows, and whether they do yet.
    pub(crate) fn spilling(&self) -> &Spilling {
        &self.spilling
    }

    /// The sink, with workers that hand rows over as they are held.
    pub(crate) fn with(self, held: H::Worker) -> Sink<PartitionWorkers<H::Worker>, PartitionedSink<H>> {
        let worker = PartitionWorkers { held, spilling: self.spilling.clone() };
        Sink { worker: Arc::new(worker), commit: self }
    }

    /// Writes the rows that are held to their partitions.
    fn partition(&mut self) -> Result<()> {
        let mut held = self.held.drain()?.into_iter().peekable();
        while held.peek().is_some() {
            // A few parts at a time: they stand beside what is held.
            let parts: Vec<Vec<Batch>> =
                (0..self.threads.count()).map(|_| self.spilling.next_part(&mut held)).collect();
            let partitioned = self.threads.each(parts.into_iter(), |part| self.spilling.partitioned(part))?;
            partitioned.into_iter().flatten().try_for_each(|rows| self.write(&rows))?;
        }
        Ok(())
    }

    /// Writes the next rows to their partitions.
    fn write(&mut self, rows: &PartitionedRows) -> Result<()> {
        let writer = match &mut self.writer {
            Some(writer) => writer,
            none => {
                none.insert(PartitionWriter::new(self.spilling.kinds.clone(), &self.spill, &self.threads)?)
            }
        };
        writer.add_next(rows)
    }
}

impl<H: HeldRows> Commit for PartitionedSink<H> {
    type Part = SinkPart<PartOf<H>>;
    type Output = Materialized;

    fn commit(&mut self, part: SinkPart<PartOf<H>>, _: &mut MorselOutput) -> Result<bool> {
        let part = match part {
            SinkPart::Held(part) => part,
            // Workers make some once rows are partitioned, which stays so.
            SinkPart::Partitioned(rows) => return self.write(&rows).map(|()| true),
        };
        let (bytes, rows) = self.held.push(part)?;
        if self.writer.is_some() {
            return self.partition().map(|()| true);
        }
        if !self.reservation.try_add(bytes + rows * self.bytes_a_row) {
            self.partition()?;
            self.spilling.begun.store(true, Ordering::Relaxed);
            self.reservation.hold(0)?;
            memory::give_back();
        }
        Ok(true)
    }

    fn finish(mut self, _: &mut MorselOutput) -> Result<Materialized> {
        let Some(writer) = self.writer.take() else { return self.held.finish(self.reservation) };
        let files = Partitions {
            kinds: &self.spilling.kinds,
            keys: &|batch| Ok(batch.columns_at(&self.spilling.keys)),
            process: self.process.as_ref(),
            bytes_a_row: self.bytes_a_row,
            spill: &self.spill,
            threads: self.threads.clone(),
        };
        let runs = files.processed(writer.finish()?, &mut self.reservation)?;
        let disk = Disk { spill: &self.spill, budget: self.reservation.budget(), threads: &self.threads };
        Ok(Materialized::Scan(Box::new(Merge::new(runs, None, &disk)?)))
    }
}
