//! What the planner asks of a logical operator: the one contract of all of them.

use std::sync::Arc;

use churn_core::{ColumnId, Counters, Field, StepId, deep};
use churn_expr::Bound;
use churn_expr::bind::AggregateCall;

use crate::Node;
use crate::operators::Condition;
use crate::rules::prune;

/// A logical operator. Rules and walks ask it; none of them goes through all operators itself.
pub trait Operator {
    /// The columns that it makes, in order. They leave it after those that go through it.
    fn made(&self) -> Vec<&Field> {
        Vec::new()
    }

    /// The columns of its input that go through it, in order; `None` if all do.
    fn passed(&self) -> Option<&[ColumnId]> {
        None
    }

    /// The columns of its input that do not leave it, though all others do.
    fn ended(&self) -> &[ColumnId] {
        &[]
    }

    /// The other tables that it takes rows of.
    fn others(&self) -> Vec<&Node> {
        Vec::new()
    }

    /// The same, to be rewritten.
    fn others_mut(&mut self) -> Vec<&mut Node> {
        Vec::new()
    }

    /// The chain that runs once for all that use it, if it stands for one.
    fn shared(&self) -> Option<&Arc<Node>> {
        None
    }

    /// Leaves out what nobody needs, in its other tables too. Takes the columns that are needed of it; gives those that
    /// it needs of its input.
    fn prune(&mut self, needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId>;

    /// Whether it hands on its rows as they are.
    fn is_idle(&self) -> bool {
        false
    }

    /// Whether it takes all rows before it gives the first.
    fn takes_all(&self) -> bool {
        false
    }

    /// Whether its rows are counted before the first of them is handed on.
    fn counts_all(&self) -> bool {
        self.takes_all()
    }

    /// Whether it must see every row, even where a `first` above has enough.
    fn must_see_all(&self) -> bool {
        false
    }

    /// Whether its other tables are read whole before it gives the first row.
    fn reads_others_first(&self) -> bool {
        false
    }

    /// Whether a run showed that it had as many rows as it wants, so that those below it may have stopped.
    fn has_enough(&self, _step: StepId, _counters: &Counters) -> bool {
        false
    }

    /// Whether it gives no more rows than are wanted by itself.
    fn stops_itself(&self) -> bool {
        false
    }

    /// Conditions of other steps that it tests.
    fn conditions(&self) -> &[Condition] {
        &[]
    }

    /// Whether a condition that stands above it, and uses these columns, can be tested below it, with the same rows and
    /// the same account in the end.
    fn filter_below(&self, _condition: &Bound, _used: &[ColumnId]) -> FilterBelow {
        FilterBelow::Stays
    }

    /// Notes that a filter of a step, which stood above it, is now tested in all its inputs ([`FilterBelow::Splits`]), and
    /// whether it is a prefilter.
    fn filter_moved(&mut self, _step: StepId, _early: bool) {}

    /// How it runs, in a few words a line.
    fn explain(&self) -> Vec<String>;
}

/// Where a condition above an operator can be tested.
pub enum FilterBelow {
    /// Above it only.
    Stays,
    /// Below it in place of above.
    Moves,
    /// Above it, and in this form below it, too.
    Copies(Bound),
    /// In its inputs in place of above: in the first in the first of these forms, in its other tables in the others.
    Splits(Vec<Bound>),
}

/// A walk that leaves out columns.
#[derive(Default)]
pub struct Pruning {
    /// Whether anything was left out.
    pub changed: bool,
}

impl Pruning {
    /// Keeps the items that are needed.
    pub fn retain<T>(&mut self, items: &mut Vec<T>, is_needed: impl FnMut(&T) -> bool) {
        let before = items.len();
        items.retain(is_needed);
        self.changed |= items.len() < before;
    }

    /// Leaves out the columns of another table that are not among these.
    pub fn other(&mut self, other: &mut Node, needed: Vec<ColumnId>) {
        other.change(|node| deep::guarded(|| prune::prune(node, needed, self)));
    }
}

/// Keeps the items whose place is marked.
pub(crate) fn retain_marked<T>(items: &mut Vec<T>, marks: &[bool]) {
    let mut marks = marks.iter();
    items.retain(|_| marks.next() == Some(&true));
}

/// Adds columns that are not there yet.
pub(crate) fn add(needed: &mut Vec<ColumnId>, more: impl IntoIterator<Item = ColumnId>) {
    for id in more {
        if !needed.contains(&id) {
            needed.push(id);
        }
    }
}

/// Adds the columns that an aggregate uses.
pub(crate) fn call_columns(call: &AggregateCall, needed: &mut Vec<ColumnId>) {
    call.made.args.iter().chain(&call.only).for_each(|x| x.columns(needed));
}

/// Whether a condition that uses these columns is one of the keys alone, and can neither fail nor count an event.
pub(crate) fn is_of(condition: &Bound, used: &[ColumnId], keys: &[ColumnId]) -> bool {
    condition.is_infallible() && !used.is_empty() && used.iter().all(|id| keys.contains(id))
}
