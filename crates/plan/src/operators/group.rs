//! A row for each group.

use churn_core::{ColumnId, Field};
use churn_expr::Bound;
use churn_expr::bind::AggregateCall;

use crate::operator::{FilterBelow, Operator, Pruning, call_columns, is_of};

/// A row for each group: keys, then aggregates. No keys: one row for all.
#[derive(Clone)]
pub struct Group {
    /// The columns of the keys, and what they are computed from.
    pub keys: Vec<(Field, Bound)>,
    /// The aggregates.
    pub calls: Vec<AggregateCall>,
    /// The keys that nothing reads: they do not come out.
    pub unread: Vec<ColumnId>,
}

impl Operator for Group {
    fn passed(&self) -> Option<&[ColumnId]> {
        Some(&[])
    }

    fn made(&self) -> Vec<&Field> {
        let keys = self.keys.iter().map(|(field, _)| field).filter(|field| !self.unread.contains(&field.id));
        keys.chain(self.calls.iter().map(|call| &call.field)).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        pruning.retain(&mut self.calls, |call| needed.contains(&call.field.id));
        let keys = self.keys.iter().map(|(field, _)| field.id);
        let unread: Vec<ColumnId> = keys.filter(|id| !needed.contains(id)).collect();
        pruning.changed |= unread != self.unread;
        self.unread = unread;
        needed.clear();
        self.keys.iter().for_each(|(_, by)| by.columns(&mut needed));
        self.calls.iter().for_each(|call| call_columns(call, &mut needed));
        needed
    }

    fn takes_all(&self) -> bool {
        true
    }

    /// Above a group a filter stays, since the ledger tells how many groups there were; of keys that are columns, rows
    /// are left out before they are grouped, too.
    fn filter_below(&self, condition: &Bound, used: &[ColumnId]) -> FilterBelow {
        let carried = self.keys.iter().filter(|(_, by)| by.as_column().is_some()).map(|(f, _)| f.id);
        let mut parts = self.calls.iter().flat_map(|call| call.made.args.iter().chain(&call.only));
        let copies = is_of(condition, used, &carried.collect::<Vec<_>>()) && parts.all(Bound::is_infallible);
        let of_key = |id| self.keys.iter().find(|(field, _)| field.id == id).map(|(_, by)| by.clone());
        if copies { FilterBelow::Copies(condition.replaced(&of_key)) } else { FilterBelow::Stays }
    }

    fn explain(&self) -> Vec<String> {
        let is_whole = self.keys.is_empty();
        vec![if is_whole { "holds one row" } else { "holds one row for each group" }.into()]
    }
}
