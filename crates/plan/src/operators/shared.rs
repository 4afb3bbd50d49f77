//! The rows of a table that is used more than once, and so run once.

use std::sync::Arc;

use churn_core::readable::plural;
use churn_core::{ColumnId, Field};

use crate::Node;
use crate::operator::{Operator, Pruning};

/// The rows of a table that runs once for all that use it.
#[derive(Clone)]
pub struct Shared {
    /// The table's number.
    pub table: usize,
    /// The chain that gives its rows.
    pub input: Arc<Node>,
    /// The columns that are used here: their numbers below, and what they are here.
    pub columns: Vec<(ColumnId, Field)>,
    /// The columns, by their numbers below, that are kept for all that use it.
    pub kept: Vec<ColumnId>,
}

impl Operator for Shared {
    fn passed(&self) -> Option<&[ColumnId]> {
        Some(&[])
    }

    fn made(&self) -> Vec<&Field> {
        self.columns.iter().map(|(_, field)| field).collect()
    }

    fn shared(&self) -> Option<&Arc<Node>> {
        Some(&self.input)
    }

    /// What the table itself keeps is found when all its uses are known.
    fn prune(&mut self, needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        let is_needed = |(_, field): &(ColumnId, Field)| needed.contains(&field.id);
        // One stays, for the rows' sake.
        let some = self.columns.iter().position(is_needed).unwrap_or(0);
        let mut place = 0..;
        pruning.retain(&mut self.columns, |column| place.next() == Some(some) || is_needed(column));
        needed
    }

    fn takes_all(&self) -> bool {
        true
    }

    fn counts_all(&self) -> bool {
        false
    }

    fn explain(&self) -> Vec<String> {
        let columns = plural(self.kept.len() as u64, "column");
        vec![format!("runs once for all that read it; holds {columns} of its rows")]
    }
}
