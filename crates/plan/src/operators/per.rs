//! Aggregates of each row's group as further columns of the row.

use churn_core::{ColumnId, Field};
use churn_expr::Bound;
use churn_expr::bind::AggregateCall;

use crate::operator::{FilterBelow, Operator, Pruning, add, call_columns, is_of};

/// Aggregates of each row's group, broadcast to its rows.
#[derive(Clone)]
pub struct Per {
    /// The columns whose values make a group; none for the whole table.
    pub keys: Vec<ColumnId>,
    /// The aggregates.
    pub calls: Vec<AggregateCall>,
}

impl Operator for Per {
    fn made(&self) -> Vec<&Field> {
        self.calls.iter().map(|call| &call.field).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        self.calls.retain(|call| needed.contains(&call.field.id));
        add(&mut needed, self.keys.iter().copied());
        self.calls.iter().for_each(|call| call_columns(call, &mut needed));
        needed
    }

    fn takes_all(&self) -> bool {
        true
    }

    fn filter_below(&self, condition: &Bound, used: &[ColumnId]) -> FilterBelow {
        if is_of(condition, used, &self.keys) { FilterBelow::Moves } else { FilterBelow::Stays }
    }

    fn explain(&self) -> Vec<String> {
        vec!["holds all rows, to set the aggregate beside each".into()]
    }
}
