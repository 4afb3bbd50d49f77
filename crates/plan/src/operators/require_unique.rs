//! Stops the run where two rows have the same key.

use churn_core::{ColumnId, Field};

use crate::operator::{Operator, Pruning, add};

/// Stops where rows are equal in these columns.
#[derive(Clone)]
pub struct RequireUnique {
    /// The columns of the key.
    pub by: Vec<Field>,
    /// The columns whose values the error shows.
    pub shown: Vec<Field>,
}

impl Operator for RequireUnique {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        add(&mut needed, self.by.iter().chain(&self.shown).map(|field| field.id));
        needed
    }

    fn must_see_all(&self) -> bool {
        true
    }

    fn explain(&self) -> Vec<String> {
        vec!["holds the keys".into()]
    }
}
