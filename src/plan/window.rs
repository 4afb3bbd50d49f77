//! What a window is: its partitions, its order, its calls.

use crate::expr::windows::{Frame, Task};
use crate::expr::{ColumnId, Field, Type};

/// Columns worked out from each row's neighbours; the rows stay where they are.
#[derive(Clone)]
pub(crate) struct Window {
    /// Rows that are equal in these are a partition.
    pub(crate) by: Vec<ColumnId>,
    pub(crate) order: Vec<WindowKey>,
    pub(crate) calls: Vec<Call>,
}

/// A key of a window's order: a column.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct WindowKey {
    pub(crate) by: ColumnId,
    pub(crate) kind: Type,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

/// A call, its arguments columns of their own.
#[derive(Clone)]
pub(crate) struct Call {
    pub(crate) field: Field,
    pub(crate) task: Task,
    pub(crate) args: Vec<ColumnId>,
    /// The column that says which rows an aggregate sees.
    pub(crate) only: Option<ColumnId>,
    pub(crate) frame: Frame,
}

impl Window {
    /// The columns that it uses.
    pub(crate) fn columns(&self) -> impl Iterator<Item = ColumnId> + '_ {
        let of_calls = self.calls.iter().flat_map(|call| call.args.iter().chain(&call.only).copied());
        self.by.iter().copied().chain(self.order.iter().map(|key| key.by)).chain(of_calls)
    }
}
