//! Lists become rows.

use churn_core::{ColumnId, Field};

use crate::operator::{Operator, Pruning, add};

/// Lists become rows: one for each value.
#[derive(Clone)]
pub struct Unnest {
    /// Columns that stay as they are.
    pub kept: Vec<ColumnId>,
    /// The lists, and the columns of their values.
    pub lists: Vec<(ColumnId, Field)>,
    /// Whether lists that are null or empty give no row.
    pub skip_nulls: bool,
}

impl Operator for Unnest {
    fn passed(&self) -> Option<&[ColumnId]> {
        Some(&self.kept)
    }

    fn made(&self) -> Vec<&Field> {
        self.lists.iter().map(|(_, field)| field).collect()
    }

    fn prune(&mut self, needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        pruning.retain(&mut self.kept, |id| needed.contains(id));
        let mut below = self.kept.clone();
        add(&mut below, self.lists.iter().map(|(id, _)| *id));
        below
    }

    fn explain(&self) -> Vec<String> {
        vec!["row by row".into()]
    }
}
