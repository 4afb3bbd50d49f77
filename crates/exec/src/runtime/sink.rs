//! The contract of sinks: where a pipeline ends, its rows become something else: a result, a file, a hash table, sorted
//! runs.
//!
//! A sink has two sides. The [`Worker`] side is shared by all threads: for each morsel it makes a [`Local`], which
//! consumes the morsel's batches and gives *parts*. The [`Commit`] side takes all parts in the order of morsels, one at a
//! time, and has an *output* when the pipeline has ended, which is what the caller of the pipeline gets. All that depends
//! on the order of rows happens in `commit`, so that the output is the same on any number of threads.
//!
//! Parts and outputs are typed. Between them is the pipeline, which is the same code for all sinks and knows parts only as
//! [`AnyPart`]: types are erased and restored in this file, and nowhere else.

use std::any::Any;
use std::sync::Arc;

use churn_core::{Batch, Error, ErrorKind, Result};

use crate::runtime::morsel_output::MorselOutput;

/// The side of a sink that all threads share.
pub trait Worker: Send + Sync + 'static {
    /// What crosses to the ordered side.
    type Part: Send + 'static;
    /// What consumes the batches of one morsel.
    type Local<'a>: Local<Part = Self::Part>
    where
        Self: 'a;

    /// Whether a morsel's batches are gathered into few parts, which are small beside their rows: morsels are then
    /// larger, and fewer are in work at once.
    const GATHERS: bool;

    /// Starts a morsel.
    ///
    /// # Errors
    /// There is no place for a type of its columns.
    fn local(&self) -> Result<Self::Local<'_>>;
}

/// What consumes the batches of one morsel, in one thread.
pub trait Local {
    /// What crosses to the ordered side.
    type Part;

    /// Takes the next batch; gives a part when there is enough for one. Events are counted in `output`.
    ///
    /// # Errors
    /// An expression over the rows fails, or they cannot be encoded.
    fn consume(&mut self, batch: Batch, output: &mut MorselOutput) -> Result<Option<Self::Part>>;

    /// Ends the morsel; gives what is left as a part.
    ///
    /// # Errors
    /// As [`Local::consume`].
    fn seal(self) -> Result<Option<Self::Part>>;
}

/// The ordered side of a sink.
pub trait Commit: Send {
    /// What workers hand over.
    type Part: Send + 'static;
    /// What the sink is when its pipeline has ended.
    type Output;

    /// Takes the next part, in the order of morsels; gives false if no more are wanted.
    ///
    /// # Errors
    /// The part cannot be written, or there is no room for it.
    fn commit(&mut self, part: Self::Part, output: &mut MorselOutput) -> Result<bool>;

    /// Ends the sink once all parts were committed. It may start parallel work of its own.
    ///
    /// # Errors
    /// As [`Commit::commit`].
    fn finish(self, output: &mut MorselOutput) -> Result<Self::Output>;
}

/// Both sides of a sink.
pub struct Sink<W, C> {
    pub(crate) worker: Arc<W>,
    pub(crate) commit: C,
}

/// The worker side of sinks whose parts are batches, each with its texts copied out where a few of them would hold a
/// whole block of a file.
pub struct CompactBatches;

impl Worker for CompactBatches {
    type Part = Batch;
    type Local<'a> = CompactBatches;

    const GATHERS: bool = false;

    fn local(&self) -> Result<CompactBatches> {
        Ok(CompactBatches)
    }
}

impl Local for CompactBatches {
    type Part = Batch;

    fn consume(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<Option<Batch>> {
        Ok(Some(batch.compacted()))
    }

    fn seal(self) -> Result<Option<Batch>> {
        Ok(None)
    }
}

/// A sink whose rows nobody wants: the pipeline runs for what its operators write or require.
pub(crate) struct Discard;

impl Discard {
    pub(crate) fn sink() -> Sink<Discard, Discard> {
        Sink { worker: Arc::new(Discard), commit: Discard }
    }
}

impl Worker for Discard {
    type Part = ();
    type Local<'a> = Discard;

    const GATHERS: bool = false;

    fn local(&self) -> Result<Discard> {
        Ok(Discard)
    }
}

impl Local for Discard {
    type Part = ();

    fn consume(&mut self, _: Batch, _: &mut MorselOutput) -> Result<Option<()>> {
        Ok(Some(()))
    }

    fn seal(self) -> Result<Option<()>> {
        Ok(None)
    }
}

impl Commit for Discard {
    type Part = ();
    type Output = ();

    fn commit(&mut self, (): (), _: &mut MorselOutput) -> Result<bool> {
        Ok(true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<()> {
        Ok(())
    }
}

/// A part as the pipeline carries it.
pub(super) struct AnyPart(Box<dyn Any + Send>);

/// The worker side as the pipeline knows it.
pub(super) trait AnyWorker: Send + Sync {
    /// [`Worker::GATHERS`].
    fn gathers(&self) -> bool;
    /// [`Worker::local`].
    fn any_local(&self) -> Result<Box<dyn AnyLocal + '_>>;
}

/// What consumes a morsel, as the pipeline knows it.
pub(super) trait AnyLocal {
    /// [`Local::consume`].
    fn consume_any(&mut self, batch: Batch, output: &mut MorselOutput) -> Result<Option<AnyPart>>;
    /// [`Local::seal`].
    fn seal_any(self: Box<Self>) -> Result<Option<AnyPart>>;
}

/// The ordered side as the pipeline knows it.
pub(super) trait AnyCommit: Send {
    /// [`Commit::commit`].
    fn commit_any(&mut self, part: AnyPart, output: &mut MorselOutput) -> Result<bool>;
}

impl<W: Worker> AnyWorker for W {
    fn gathers(&self) -> bool {
        W::GATHERS
    }

    fn any_local(&self) -> Result<Box<dyn AnyLocal + '_>> {
        Ok(Box::new(Erased(self.local()?)))
    }
}

struct Erased<L>(L);

fn erased<P: Send + 'static>(part: Option<P>) -> Option<AnyPart> {
    part.map(|part| AnyPart(Box::new(part)))
}

impl<L: Local<Part: Send + 'static>> AnyLocal for Erased<L> {
    fn consume_any(&mut self, batch: Batch, output: &mut MorselOutput) -> Result<Option<AnyPart>> {
        self.0.consume(batch, output).map(erased)
    }

    fn seal_any(self: Box<Self>) -> Result<Option<AnyPart>> {
        self.0.seal().map(erased)
    }
}

impl<C: Commit> AnyCommit for C {
    fn commit_any(&mut self, part: AnyPart, output: &mut MorselOutput) -> Result<bool> {
        match part.0.downcast::<C::Part>() {
            Ok(part) => self.commit(*part, output),
            // A pipeline takes both sides of one sink, whose parts are of one type.
            Err(_) => Err(Error::new(ErrorKind::Internal, "A sink was handed a part of another one.")),
        }
    }
}

/// All parts that one batch becomes on its own.
///
/// # Errors
/// As [`Local::consume`].
pub(super) fn parts_of(
    worker: &dyn AnyWorker,
    batch: Batch,
    output: &mut MorselOutput,
) -> Result<impl Iterator<Item = AnyPart> + use<>> {
    let mut local = worker.any_local()?;
    let first = local.consume_any(batch, output)?;
    Ok(first.into_iter().chain(local.seal_any()?))
}
