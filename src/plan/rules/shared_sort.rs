//! Windows one after the other, over the same partitions in the same order, are worked out together.

use super::Rule;
use crate::plan::{Node, Op};

pub(super) const RULE: Rule = Rule { name: "windows share a sort", apply };

fn apply(node: Node, _: &[crate::expr::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| match joined(node) {
        Ok(joined) => {
            changed = true;
            joined
        }
        Err(node) => node,
    });
    (node, changed)
}

/// The window with the calls of the one below it, if it uses nothing that that one makes; columns that are computed
/// between them, of nothing that it makes either, are then computed first.
fn joined(node: Node) -> Result<Node, Node> {
    let Op::Window(window) = &node.op else { return Err(node) };
    let mut below = node.input.as_deref();
    let mut between = Vec::new();
    while let Some(Node { op: Op::Compute(columns), input, .. }) = below {
        columns.iter().for_each(|(_, by)| by.columns(&mut between));
        below = input.as_deref();
    }
    let Some(Node { op: Op::Window(lower), .. }) = below else { return Err(node) };
    between.extend(window.columns());
    let is_apart = !lower.calls.iter().any(|call| between.contains(&call.field.id));
    if lower.by != window.by || lower.order != window.order || !is_apart {
        return Err(node);
    }
    let calls = lower.calls.clone();
    let Node { op: Op::Window(mut window), input: Some(input), step } = node else { return Err(node) };
    window.calls.splice(0..0, calls);
    Ok(without_window(*input).over(Op::Window(window), step))
}

/// The chain without the first window in it.
fn without_window(node: Node) -> Node {
    let Node { op, input, step } = node;
    match (op, input) {
        (Op::Window(_), Some(input)) => *input,
        (op, Some(input)) => without_window(*input).over(op, step),
        (op, None) => Node { op, input: None, step },
    }
}
