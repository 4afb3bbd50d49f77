//! Sinks at the end of a run: a writer, the first rows to show, a channel of batches.

use std::io::Write;
use std::sync::Arc;
use std::sync::mpsc::SyncSender;

use super::materialized::{CompactBatches, Materialized, batch_of};
use super::morsel_output::MorselOutput;
use super::pipeline::{Commit, Part, Prepare, Sink};
use crate::error::Result;
use crate::expr::{Batch, Event};
use crate::io::binary::{RowWriter, failed};
use crate::io::format::Encoder;
use crate::plan::StepId;

/// Rows as bytes into a writer of the caller's.
pub(crate) struct Writer<W> {
    out: W,
    encoder: Arc<dyn Encoder>,
    any: bool,
}

struct Encode {
    encoder: Arc<dyn Encoder>,
    /// The last step, of whose rows is counted what is lost.
    step: StepId,
}

impl Prepare for Encode {
    fn prepare(&self, batch: Batch, work: &mut MorselOutput) -> Result<Part> {
        work.counters.event(self.step, Event::NoNumber, self.encoder.lost(&batch));
        let bytes = if batch.rows == 0 { Vec::new() } else { self.encoder.rows(&batch, None)? };
        Ok(Box::new(bytes))
    }
}

impl<W: Write + Send + 'static> Writer<W> {
    /// Writes what stands before the rows of the last step, and takes the rest as it comes.
    pub(crate) fn sink(mut out: W, encoder: Box<dyn Encoder>, step: StepId) -> Result<Sink> {
        let encoder: Arc<dyn Encoder> = Arc::from(encoder);
        out.write_all(&encoder.start()).map_err(|e| failed(&e))?;
        let commit = Writer { out, encoder: encoder.clone(), any: false };
        Ok(Sink { prepare: Arc::new(Encode { encoder, step }), commit: Box::new(commit) })
    }
}

impl<W: Write + Send> Commit for Writer<W> {
    fn commit(&mut self, part: Part, _: &mut MorselOutput) -> Result<bool> {
        if let Ok(bytes) = part.downcast::<Vec<u8>>()
            && !bytes.is_empty()
        {
            if self.any {
                self.out.write_all(self.encoder.between()).map_err(|e| failed(&e))?;
            }
            self.any = true;
            self.out.write_all(&bytes).map_err(|e| failed(&e))?;
        }
        Ok(true)
    }

    fn finish(mut self: Box<Self>, _: &mut MorselOutput) -> Result<Materialized> {
        self.out.write_all(self.encoder.end()).and_then(|()| self.out.flush()).map_err(|e| failed(&e))?;
        Ok(Materialized::Batches(Vec::new()))
    }
}

/// Rows of a columnar format into a writer of the caller's.
pub(crate) struct ColumnarOutput(Box<dyn RowWriter>);

impl ColumnarOutput {
    pub(crate) fn sink(writer: Box<dyn RowWriter>) -> Sink {
        Sink { prepare: Arc::new(CompactBatches), commit: Box::new(ColumnarOutput(writer)) }
    }
}

impl Commit for ColumnarOutput {
    fn commit(&mut self, part: Part, _: &mut MorselOutput) -> Result<bool> {
        self.0.write(batch_of(part)?)?;
        Ok(true)
    }

    fn finish(self: Box<Self>, _: &mut MorselOutput) -> Result<Materialized> {
        self.0.finish()?.flush().map_err(|e| failed(&e))?;
        Ok(Materialized::Batches(Vec::new()))
    }
}

/// The first rows, and how many there are in all.
pub(crate) struct Head {
    most: usize,
    rows: usize,
    total: Arc<std::sync::atomic::AtomicU64>,
    batches: Vec<Batch>,
}

impl Head {
    pub(crate) fn sink(most: usize, total: Arc<std::sync::atomic::AtomicU64>) -> Sink {
        let commit = Head { most, rows: 0, total, batches: Vec::new() };
        Sink { prepare: Arc::new(CompactBatches), commit: Box::new(commit) }
    }
}

impl Commit for Head {
    fn commit(&mut self, part: Part, _: &mut MorselOutput) -> Result<bool> {
        let batch = batch_of(part)?;
        self.total.fetch_add(batch.rows as u64, std::sync::atomic::Ordering::Relaxed);
        let rows = batch.rows.min(self.most - self.rows);
        if rows > 0 {
            self.rows += rows;
            self.batches.push(batch.slice(0, rows).compacted());
        }
        Ok(true)
    }

    fn finish(self: Box<Self>, _: &mut MorselOutput) -> Result<Materialized> {
        Ok(Materialized::Batches(self.batches))
    }
}

/// Batches to a reader in another thread, few at a time.
pub(crate) struct Channel(SyncSender<Result<Batch>>);

impl Channel {
    pub(crate) fn sink(to: SyncSender<Result<Batch>>) -> Sink {
        Sink { prepare: Arc::new(CompactBatches), commit: Box::new(Channel(to)) }
    }
}

impl Commit for Channel {
    fn commit(&mut self, part: Part, _: &mut MorselOutput) -> Result<bool> {
        let batch = batch_of(part)?;
        // A reader that went away wants no more.
        Ok(batch.rows == 0 || self.0.send(Ok(batch)).is_ok())
    }

    fn finish(self: Box<Self>, _: &mut MorselOutput) -> Result<Materialized> {
        Ok(Materialized::Batches(Vec::new()))
    }
}
