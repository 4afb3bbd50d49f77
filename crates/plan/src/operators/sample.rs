//! Random rows.

use churn_core::ColumnId;
use churn_core::readable::plural;

use crate::operator::{Operator, Pruning, add};

/// Random rows: so many, or each with a chance.
#[derive(Clone)]
pub struct Sample {
    /// How many.
    pub size: SampleSize,
    /// What the choice depends on.
    pub seed: u64,
    /// The columns whose values make a group, of each of which so many rows are taken; none for the whole table.
    pub per: Vec<ColumnId>,
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
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        add(&mut needed, self.per.iter().copied());
        needed
    }

    fn takes_all(&self) -> bool {
        matches!(self.size, SampleSize::Rows(_))
    }

    fn counts_all(&self) -> bool {
        self.takes_all() && self.per.is_empty()
    }

    fn explain(&self) -> Vec<String> {
        vec![match self.size {
            SampleSize::Rows(_) if !self.per.is_empty() => "holds all rows".into(),
            SampleSize::Rows(n) => format!("holds {}", plural(n as u64, "row")),
            SampleSize::Percent(_) => "row by row".into(),
        }]
    }
}
