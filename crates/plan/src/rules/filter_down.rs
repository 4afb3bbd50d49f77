//! A filter moves below steps that keep each row as it is, below `window` and `per` if it is of their partitions, and below
//! `append` into each of its tables.
//!
//! It moves below computed columns only where those can neither fail nor count an event, so that neither an
//! error nor the ledger changes; a condition on a computed column stays above it. Above a group it stays, since the
//! ledger tells how many groups there were; but where it is of the group's keys, rows that it would leave out are
//! left out before they are grouped, and counted.

use churn_core::{ColumnId, deep};

use super::Rule;
use crate::Node;
use crate::operator::FilterBelow;
use crate::operators::{Filter, Op};

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
    let Node { op: Op::Filter(Filter { condition, early }), input: Some(input), step } = node else {
        return node;
    };
    let mut used = Vec::new();
    condition.columns(&mut used);
    let below = match &*input {
        Node { op, input: Some(_), .. } => op.operator().filter_below(&condition, &used),
        _ => FilterBelow::Stays,
    };
    let Node { mut op, input: Some(lower), step: of } = *input else {
        return input.over(Filter { condition, early }, step);
    };
    match below {
        FilterBelow::Stays => lower.over(op, of).over(Filter { condition, early }, step),
        FilterBelow::Moves => {
            *changed = true;
            push(lower.over(Filter { condition, early }, step), changed).over(op, of)
        }
        FilterBelow::Splits(conditions) => {
            *changed = true;
            let mut conditions = conditions.into_iter().map(|condition| Filter { condition, early });
            let operator = op.operator_mut();
            operator.filter_moved(step, early);
            let mut below = |node: Node| match conditions.next() {
                Some(filter) => push(node.over(filter, step), changed),
                None => node,
            };
            let lower = below(*lower);
            operator.others_mut().into_iter().for_each(|other| other.change(&mut below));
            lower.over(op, of)
        }
        FilterBelow::Copies(copy) => {
            *changed = true;
            let lower = push(lower.over(Filter { condition: copy, early: true }, step), changed);
            lower.over(op, of).over(Filter { condition, early }, step)
        }
    }
}
