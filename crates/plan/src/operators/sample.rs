//! Random rows.

use churn_core::ColumnId;
use churn_core::readable::plural;

use crate::operator::{Operator, Pruning};

/// Random rows: so many, or each with a chance.
#[derive(Clone)]
pub struct Sample {
    /// How many.
    pub size: SampleSize,
    /// What the choice depends on.
    pub seed: u64,
}

/// How many rows a sample takes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum SampleSize {
    /// So many rows.
    Rows(usize),
    /// Each row with a chance of so many in a hundred.
    Percent(f64),
}

impl Operator for Sample {
    fn prune(&mut self, needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        needed
    }

    fn takes_all(&self) -> bool {
        matches!(self.size, SampleSize::Rows(_))
    }

    fn explain(&self) -> Vec<String> {
        vec![match self.size {
            SampleSize::Rows(n) => format!("holds {}", plural(n as u64, "row")),
            SampleSize::Percent(_) => "row by row".into(),
        }]
    }
}
