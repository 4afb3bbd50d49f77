//! Columns from each row's neighbours.

use churn_core::readable::plural;
use churn_core::{ColumnId, Field, Type};
use churn_expr::Bound;
use churn_expr::windows::{Frame, Task};

use crate::operator::{FilterBelow, Operator, Pruning, add, is_of};

/// Columns worked out from each row's neighbours; the rows stay where they are.
#[derive(Clone)]
pub struct Window {
    /// Rows that are equal in these are a partition.
    pub by: Vec<ColumnId>,
    /// What rows are sorted by within a partition.
    pub order: Vec<WindowKey>,
    /// What is computed, one a column.
    pub calls: Vec<Call>,
    /// The columns of its input that it alone reads: they end here.
    pub unread: Vec<ColumnId>,
}

/// A key of a window's order: a column.
#[derive(Clone, Debug, PartialEq)]
pub struct WindowKey {
    /// The column that rows are sorted by.
    pub by: ColumnId,
    /// Its type.
    pub kind: Type,
    /// Whether the largest come first.
    pub descending: bool,
    /// Whether nulls come before all values.
    pub nulls_first: bool,
}

/// A call, its arguments columns of their own.
#[derive(Clone)]
pub struct Call {
    /// The column that it gives.
    pub field: Field,
    /// What is computed.
    pub task: Task,
    /// The columns of its arguments.
    pub args: Vec<ColumnId>,
    /// The column that says which rows an aggregate sees.
    pub only: Option<ColumnId>,
    /// The rows that it is computed over.
    pub frame: Frame,
}

impl Window {
    /// The columns that it uses.
    pub(crate) fn columns(&self) -> impl Iterator<Item = ColumnId> + '_ {
        let of_calls = self.calls.iter().flat_map(|call| call.args.iter().chain(&call.only).copied());
        self.by.iter().copied().chain(self.order.iter().map(|key| key.by)).chain(of_calls)
    }
}

impl Operator for Window {
    fn made(&self) -> Vec<&Field> {
        self.calls.iter().map(|call| &call.field).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        self.calls.retain(|call| needed.contains(&call.field.id));
        if self.is_idle() {
            pruning.changed = true;
            return needed;
        }
        let mut unread: Vec<ColumnId> = self.columns().filter(|id| !needed.contains(id)).collect();
        unread.sort_unstable();
        unread.dedup();
        pruning.changed |= unread != self.unread;
        self.unread = unread;
        add(&mut needed, self.columns());
        needed
    }

    fn ended(&self) -> &[ColumnId] {
        &self.unread
    }

    fn is_idle(&self) -> bool {
        self.calls.is_empty()
    }

    fn takes_all(&self) -> bool {
        true
    }

    fn filter_below(&self, condition: &Bound, used: &[ColumnId]) -> FilterBelow {
        if is_of(condition, used, &self.by) { FilterBelow::Moves } else { FilterBelow::Stays }
    }

    fn explain(&self) -> Vec<String> {
        let calls = plural(self.calls.len() as u64, "call");
        vec![format!("holds all rows, to work out {calls} over them in order")]
    }
}
