//! Keeps the rows where a condition is true.

use churn_core::ColumnId;
use churn_expr::Bound;

use crate::operator::{Operator, Pruning};

/// Keeps the rows where a condition is true.
#[derive(Clone)]
pub struct Filter {
    /// The condition.
    pub condition: Bound,
    /// Whether it is a prefilter: it leaves rows out early that the same filter above would leave out.
    pub early: bool,
}

impl Filter {
    /// A filter that is a step of its own.
    pub fn new(condition: Bound) -> Filter {
        Filter { condition, early: false }
    }
}

impl Operator for Filter {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        self.condition.columns(&mut needed);
        needed
    }

    fn explain(&self) -> Vec<String> {
        vec![if self.early { "tested before the rows are grouped" } else { "row by row" }.into()]
    }
}
