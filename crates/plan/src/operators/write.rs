//! Writes what flows by to a file.

use std::path::PathBuf;

use churn_core::readable::plural;
use churn_core::{ColumnId, Field};
use churn_io::format::{Format, WriteOptions};
use churn_io::target::Mode;

use crate::operator::{Operator, Pruning, add};

/// Writes rows to a file, and hands them on.
#[derive(Clone)]
pub struct Write {
    /// The path as it was given.
    pub path: PathBuf,
    /// The format.
    pub format: Format,
    /// How it is written.
    pub options: WriteOptions,
    /// What becomes of a file that is there.
    pub mode: Mode,
    /// The columns that are written.
    pub fields: Vec<Field>,
}

impl Operator for Write {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        add(&mut needed, self.fields.iter().map(|field| field.id));
        needed
    }

    fn must_see_all(&self) -> bool {
        true
    }

    fn explain(&self) -> Vec<String> {
        vec![format!("writes {}", plural(self.fields.len() as u64, "column"))]
    }
}
