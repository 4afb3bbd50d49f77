//! A filter right above a source is tested while reading, before the row's other columns are decoded.

use super::Rule;
use crate::Node;
use crate::operators::{Condition, Op};

pub(super) const RULE: Rule = Rule { name: "filter tested while reading", apply };

fn apply(node: Node, _: &[churn_core::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| match node {
        Node { op: Op::Filter(filter), input: Some(input), step } => match *input {
            Node { op: Op::Scan(mut scan), input: None, step: of } if scan.limit.is_none() => {
                changed = true;
                scan.conditions.push(Condition { test: filter.condition, step, early: filter.early });
                Node::source(scan, of)
            }
            other => other.over(filter, step),
        },
        other => other,
    });
    (node, changed)
}
