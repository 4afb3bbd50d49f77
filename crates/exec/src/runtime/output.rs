//! Sinks at the end of a run: a writer, the first rows to show, a channel of batches.

use std::io::Write;
use std::sync::Arc;
use std::sync::mpsc::SyncSender;

use churn_core::{Batch, Event, Result, StepId};
use churn_io::binary::{RowWriter, failed};
use churn_io::format::Encoder;

use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, CompactBatches, Local, Sink, Worker};

/// Rows as bytes into a writer of the caller's; gives nothing.
pub struct Writer<W> {
    out: W,
    encoder: Arc<dyn Encoder>,
    any: bool,
}

pub struct Encode {
    encoder: Arc<dyn Encoder>,
    /// The last step, of whose rows is counted what is lost.
    step: StepId,
}

impl Worker for Encode {
    type Part = Vec<u8>;
    type Local<'a> = EncodeMorsel<'a>;

    const GATHERS: bool = false;

    fn local(&self) -> Result<EncodeMorsel<'_>> {
        Ok(EncodeMorsel(self))
    }
}

pub struct EncodeMorsel<'a>(&'a Encode);

impl Local for EncodeMorsel<'_> {
    type Part = Vec<u8>;

    fn consume(&mut self, batch: Batch, output: &mut MorselOutput) -> Result<Option<Vec<u8>>> {
        let Encode { encoder, step } = self.0;
        output.counters.event(*step, Event::NoNumber, encoder.lost(&batch));
        Ok(Some(if batch.rows == 0 { Vec::new() } else { encoder.rows(&batch, None)? }))
    }

    fn seal(self) -> Result<Option<Vec<u8>>> {
        Ok(None)
    }
}

impl<W: Write + Send + 'static> Writer<W> {
    /// Writes what stands before the rows of the last step, and takes the rest as it comes.
    pub fn sink(mut out: W, encoder: Box<dyn Encoder>, step: StepId) -> Result<Sink<Encode, Writer<W>>> {
        let encoder: Arc<dyn Encoder> = Arc::from(encoder);
        out.write_all(&encoder.start()).map_err(|e| failed(&e))?;
        let commit = Writer { out, encoder: encoder.clone(), any: false };
        Ok(Sink { worker: Arc::new(Encode { encoder, step }), commit })
    }
}

impl<W: Write + Send> Commit for Writer<W> {
    type Part = Vec<u8>;
    type Output = ();

    fn commit(&mut self, bytes: Vec<u8>, _: &mut MorselOutput) -> Result<bool> {
        if !bytes.is_empty() {
            if self.any {
                self.out.write_all(self.encoder.between()).map_err(|e| failed(&e))?;
            }
            self.any = true;
            self.out.write_all(&bytes).map_err(|e| failed(&e))?;
        }
        Ok(true)
    }

    fn finish(mut self, _: &mut MorselOutput) -> Result<()> {
        self.out.write_all(self.encoder.end()).and_then(|()| self.out.flush()).map_err(|e| failed(&e))
    }
}

/// Rows of a columnar format into a writer of the caller's.
pub struct ColumnarOutput(Box<dyn RowWriter>);

impl ColumnarOutput {
    /// A sink that writes rows by a format's writer, in order.
    pub fn sink(writer: Box<dyn RowWriter>) -> Sink<CompactBatches, ColumnarOutput> {
        Sink { worker: Arc::new(CompactBatches), commit: ColumnarOutput(writer) }
    }
}

impl Commit for ColumnarOutput {
    type Part = Batch;
    type Output = ();

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        self.0.write(batch)?;
        Ok(true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<()> {
        self.0.finish()?.flush().map_err(|e| failed(&e))
    }
}

/// The first rows, and how many there are in all.
pub struct Head {
    most: usize,
    rows: usize,
    total: u64,
    batches: Vec<Batch>,
}

impl Head {
    /// A sink that keeps the first `most` rows and counts all of them.
    pub fn sink(most: usize) -> Sink<CompactBatches, Head> {
        let commit = Head { most, rows: 0, total: 0, batches: Vec::new() };
        Sink { worker: Arc::new(CompactBatches), commit }
    }
}

impl Commit for Head {
    type Part = Batch;
    type Output = (Vec<Batch>, u64);

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        self.total += batch.rows as u64;
        let rows = batch.rows.min(self.most - self.rows);
        if rows > 0 {
            self.rows += rows;
            self.batches.push(batch.slice(0, rows).compacted());
        }
        Ok(true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<(Vec<Batch>, u64)> {
        Ok((self.batches, self.total))
    }
}

/// Batches to a reader in another thread, few at a time.
pub struct Channel(SyncSender<Result<Batch>>);

impl Channel {
    /// A sink that sends batches to another thread, in order; it waits while the channel is full.
    pub fn sink(to: SyncSender<Result<Batch>>) -> Sink<CompactBatches, Channel> {
        Sink { worker: Arc::new(CompactBatches), commit: Channel(to) }
    }
}

impl Commit for Channel {
    type Part = Batch;
    type Output = ();

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        // A reader that went away wants no more.
        Ok(batch.rows == 0 || self.0.send(Ok(batch)).is_ok())
    }

    fn finish(self, _: &mut MorselOutput) -> Result<()> {
        Ok(())
    }
}

/// Two sinks that take the same rows.
pub struct Both<A, B>(A, B);

impl<A, B> Both<A, B> {
    /// A sink that hands rows to both, the first before the second.
    pub fn sink<W: Worker, V: Worker>(
        first: Sink<W, A>,
        second: Sink<V, B>,
    ) -> Sink<BothWorkers<W, V>, Both<A, B>>
    where
        A: Commit<Part = W::Part>,
        B: Commit<Part = V::Part>,
    {
        let worker = Arc::new(BothWorkers(first.worker, second.worker));
        Sink { worker, commit: Both(first.commit, second.commit) }
    }
}

/// The workers of two sinks.
pub struct BothWorkers<W, V>(Arc<W>, Arc<V>);

/// What two sinks gather of a morsel.
pub struct BothLocals<L, M>(L, M);

/// Parts of two sinks.
pub type BothParts<P, Q> = (Option<P>, Option<Q>);

impl<W: Worker, V: Worker> Worker for BothWorkers<W, V> {
    type Part = BothParts<W::Part, V::Part>;
    type Local<'a> = BothLocals<W::Local<'a>, V::Local<'a>>;

    const GATHERS: bool = W::GATHERS && V::GATHERS;

    fn local(&self) -> Result<Self::Local<'_>> {
        Ok(BothLocals(self.0.local()?, self.1.local()?))
    }
}

impl<L: Local, M: Local> Local for BothLocals<L, M> {
    type Part = BothParts<L::Part, M::Part>;

    fn consume(&mut self, batch: Batch, output: &mut MorselOutput) -> Result<Option<Self::Part>> {
        let first = self.0.consume(batch.clone(), output)?;
        let second = self.1.consume(batch, output)?;
        Ok((first.is_some() || second.is_some()).then_some((first, second)))
    }

    fn seal(self) -> Result<Option<Self::Part>> {
        Ok(Some((self.0.seal()?, self.1.seal()?)))
    }
}

impl<A: Commit, B: Commit> Commit for Both<A, B> {
    type Part = BothParts<A::Part, B::Part>;
    type Output = (A::Output, B::Output);

    fn commit(&mut self, (first, second): Self::Part, output: &mut MorselOutput) -> Result<bool> {
        let mut wants_more = first.is_none() && second.is_none();
        if let Some(part) = first {
            wants_more |= self.0.commit(part, output)?;
        }
        if let Some(part) = second {
            wants_more |= self.1.commit(part, output)?;
        }
        Ok(wants_more)
    }

    fn finish(self, output: &mut MorselOutput) -> Result<Self::Output> {
        Ok((self.0.finish(output)?, self.1.finish(output)?))
    }
}
