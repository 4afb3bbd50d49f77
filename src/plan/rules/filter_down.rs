//! A filter moves below steps that keep each row as it is.
//!
//! It moves below computed columns only where those can neither fail nor count an event, so that neither an
//! error nor the ledger changes; a condition on a computed column stays above it.

use super::Rule;
use crate::plan::{Node, Op};

pub(super) const RULE: Rule = Rule { name: "filter moved down", apply };

fn apply(node: Node, _: &[crate::expr::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| push(node, &mut changed));
    (node, changed)
}

fn push(node: Node, changed: &mut bool) -> Node {
    let Node { op: Op::Filter(condition), input: Some(input), step } = node else { return node };
    let mut used = Vec::new();
    condition.columns(&mut used);
    match *input {
        Node { op: Op::Compute(columns), input: Some(below), step: of }
            if columns.iter().all(|(field, by)| by.is_quiet() && !used.contains(&field.id)) =>
        {
            *changed = true;
            push(below.over(Op::Filter(condition), step), changed).over(Op::Compute(columns), of)
        }
        Node { op: Op::Sort { keys, keep: None }, input: Some(below), step: of }
            if keys.iter().all(|key| key.by.is_quiet()) =>
        {
            *changed = true;
            push(below.over(Op::Filter(condition), step), changed).over(Op::Sort { keys, keep: None }, of)
        }
        other => other.over(Op::Filter(condition), step),
    }
}
