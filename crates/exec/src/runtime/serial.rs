//! Operators that need the order of rows and keep something: they run in the ordered part of a run.

use churn_core::{Batch, Result};
use churn_io::source::Scan;

use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::stream::StreamOp;

/// An operator that sees the batches in order.
pub(crate) trait SerialOp: Send {
    /// Works on the next batch.
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch>;

    /// Whether nothing will come out of it any more.
    fn is_full(&self) -> bool {
        false
    }

    /// Rows that it kept back, and that come out behind all others.
    fn finish(&mut self, _: &mut MorselOutput) -> Result<Option<Box<dyn Scan>>> {
        Ok(None)
    }
}

/// An operator that needs no order, behind one that does.
pub(crate) struct Streamed(pub(crate) Box<dyn StreamOp>);

impl SerialOp for Streamed {
    fn apply(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        self.0.apply(batch, work)
    }
}
