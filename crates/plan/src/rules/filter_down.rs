//! A filter moves below steps that keep each row as it is, and below `window` and `per` if it is of their partitions.
//!
//! It moves below computed columns only where those can neither fail nor count an event, so that neither an
//! error nor the ledger changes; a condition on a computed column stays above it. Above a group it stays, since the
//! ledger tells how many groups there were; but where it is of the group's keys, rows that it would leave out are
//! left out before they are grouped, and counted.

use churn_core::{ColumnId, deep};
use churn_expr::Bound;

use super::Rule;
use crate::{Node, Op};

pub(super) const RULE: Rule = Rule { name: "filter moved down", apply };

fn apply(node: Node, _: &[ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| push(node, &mut changed));
    (node, changed)
}

/// Moves a filter, or an early test, below what it stands on.
fn push(node: Node, changed: &mut bool) -> Node {
    deep::guarded(|| push_within(node, changed))
}

fn push_within(node: Node, changed: &mut bool) -> Node {
    let Node { op, input: Some(input), step } = node else { return node };
    let (condition, is_early) = match op {
        Op::Filter(condition) => (condition, false),
        Op::Prefilter(condition) => (condition, true),
        op => return Node { op, input: Some(input), step },
    };
    let again = |condition| if is_early { Op::Prefilter(condition) } else { Op::Filter(condition) };
    if !passes(&input.op, &condition) {
        return input.over(again(condition), step);
    }
    let Node { op, input: Some(below), step: of } = *input else { return input.over(again(condition), step) };
    *changed = true;
    if let Op::Group { keys, .. } = &op {
        let early = condition.replaced(&|id| keys.iter().find(|(f, _)| f.id == id).map(|(_, by)| by.clone()));
        let below = push(below.over(Op::Prefilter(early), step), changed);
        return below.over(op, of).over(again(condition), step);
    }
    push(below.over(again(condition), step), changed).over(op, of)
}

/// Whether a condition can be tested below an operator, with the same rows and the same account in the end.
fn passes(op: &Op, condition: &Bound) -> bool {
    let mut used = Vec::new();
    condition.columns(&mut used);
    let is_of = |keys: &[ColumnId]| {
        condition.is_infallible() && !used.is_empty() && used.iter().all(|id| keys.contains(id))
    };
    match op {
        Op::Compute(columns) => {
            columns.iter().all(|(field, by)| by.is_infallible() && !used.contains(&field.id))
        }
        Op::Sort { keys, keep: None } => keys.iter().all(|key| key.by.is_infallible()),
        Op::Window(window) => is_of(&window.by),
        Op::Per { keys, .. } => is_of(keys),
        Op::Group { keys, calls } => {
            let carried = keys.iter().filter(|(_, by)| by.as_column().is_some()).map(|(f, _)| f.id);
            let mut parts = calls.iter().flat_map(|call| call.made.args.iter().chain(&call.only));
            is_of(&carried.collect::<Vec<_>>()) && parts.all(Bound::is_infallible)
        }
        _ => false,
    }
}
