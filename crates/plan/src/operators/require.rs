//! Stops the run where rows are not as they must be.

use churn_core::{ColumnId, Field};
use churn_expr::Bound;

use crate::operator::{Operator, Pruning, add};

/// Stops unless a condition is true in every row.
#[derive(Clone)]
pub struct Require {
    /// The condition.
    pub condition: Bound,
    /// What the error says.
    pub message: Option<String>,
    /// The columns whose values the error shows.
    pub shown: Vec<Field>,
}

impl Operator for Require {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        self.condition.columns(&mut needed);
        add(&mut needed, self.shown.iter().map(|field| field.id));
        needed
    }

    fn must_see_all(&self) -> bool {
        true
    }

    fn explain(&self) -> Vec<String> {
        vec!["row by row".into()]
    }
}
