//! A filter right above a source is tested while reading, before the row's other columns are decoded.

use super::Rule;
use crate::{Condition, Node, Op};

pub(super) const RULE: Rule = Rule { name: "filter tested while reading", apply };

fn apply(node: Node, _: &[churn_core::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| match node {
        Node { op: op @ (Op::Filter(_) | Op::Prefilter(_)), input: Some(input), step } => match *input {
            Node { op: Op::Scan(mut scan), input: None, step: of } if scan.limit.is_none() => {
                changed = true;
                let early = matches!(op, Op::Prefilter(_));
                if let Op::Filter(test) | Op::Prefilter(test) = op {
                    scan.conditions.push(Condition { test, step, early });
                }
                Node { op: Op::Scan(scan), input: None, step: of }
            }
            other => other.over(op, step),
        },
        other => other,
    });
    (node, changed)
}
