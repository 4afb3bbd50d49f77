//! Adds columns that are computed row by row.

use churn_core::readable::plural;
use churn_core::{ColumnId, Field};
use churn_expr::Bound;

use crate::operator::{FilterBelow, Operator, Pruning};

/// Adds columns; a later one may use an earlier one.
#[derive(Clone, Default)]
pub struct Compute {
    /// The columns, and what they are computed from.
    pub columns: Vec<(Field, Bound)>,
}

impl Operator for Compute {
    fn made(&self) -> Vec<&Field> {
        self.columns.iter().map(|(field, _)| field).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        // A later column may use an earlier one, so they are looked at from the last.
        self.columns.reverse();
        pruning.retain(&mut self.columns, |(field, by)| {
            let is_needed = needed.contains(&field.id);
            if is_needed {
                by.columns(&mut needed);
            }
            is_needed
        });
        self.columns.reverse();
        needed
    }

    fn filter_below(&self, _: &Bound, used: &[ColumnId]) -> FilterBelow {
        let is_apart = |(field, by): &(Field, Bound)| by.is_infallible() && !used.contains(&field.id);
        if self.columns.iter().all(is_apart) { FilterBelow::Moves } else { FilterBelow::Stays }
    }

    fn explain(&self) -> Vec<String> {
        vec![match self.columns.len() {
            0 => "not computed: nobody needs it".into(),
            n => format!("computes {}, row by row", plural(n as u64, "column")),
        }]
    }
}
