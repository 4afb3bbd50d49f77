//! What encodes rows of a text format.

use arrow_array::BinaryViewArray;
use churn_core::{Batch, Result};

/// Rows into bytes. Batches are encoded by many workers and written in order.
pub trait Encoder: Send + Sync {
    /// What stands before the rows.
    fn start(&self) -> Vec<u8>;
    /// The rows of a batch; `ready` has those that are lines already, of an encoder that gives its lines a form.
    fn rows(&self, batch: &Batch, ready: Option<&BinaryViewArray>) -> Result<Vec<u8>>;
    /// Values of a batch that the format cannot write, and that become null.
    fn lost(&self, _batch: &Batch) -> usize {
        0
    }
    /// What writes rows as lines of their own, if those of this format are such.
    fn by_line(self: Box<Self>) -> Option<Box<dyn LineEncoder>> {
        None
    }
    /// The form of its lines, if sources may have rows in it.
    fn line_form(&self) -> Option<LineForm> {
        None
    }
    /// What stands between the rows of two batches.
    fn between(&self) -> &'static [u8] {
        b""
    }
    /// What stands after the rows.
    fn end(&self) -> &'static [u8] {
        b""
    }
}

/// Rows into lines, each the same whatever stands around it.
pub trait LineEncoder: Encoder {
    /// Lines without their ends: those that stand somewhere, and in the places of null among them the rows of a batch;
    /// these alone if none stand.
    fn lines(&self, batch: &Batch, standing: Option<&BinaryViewArray>) -> Result<BinaryViewArray>;
}

/// Cells with separators between them, texts in double quotes only where they need them, null the empty cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineForm {
    pub(crate) separator: u8,
}
