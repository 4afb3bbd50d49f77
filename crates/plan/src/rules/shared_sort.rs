//! Windows one after the other, over the same partitions in the same order, are worked out together.

use churn_core::deep;

use super::Rule;
use crate::Node;
use crate::operators::Op;

pub(super) const RULE: Rule = Rule { name: "windows share a sort", apply };

fn apply(node: Node, _: &[churn_core::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| {
        if may_join(&node) {
            changed = true;
            joined(node)
        } else {
            node
        }
    });
    (node, changed)
}

/// Whether it is a window above one of the same partitions and order, and uses nothing that that one makes; columns
/// that are computed between them must not either.
fn may_join(node: &Node) -> bool {
    let Op::Window(window) = &node.op else { return false };
    let mut below = node.input.as_deref();
    let mut used = Vec::new();
    while let Some(Node { op: Op::Compute(compute), input, .. }) = below {
        compute.columns.iter().for_each(|(_, by)| by.columns(&mut used));
        below = input.as_deref();
    }
    let Some(Node { op: Op::Window(lower), .. }) = below else { return false };
    used.extend(window.columns());
    let is_apart = !lower.calls.iter().any(|call| used.contains(&call.field.id));
    lower.by == window.by && lower.order == window.order && is_apart
}

/// The window with the calls of the one below it.
fn joined(node: Node) -> Node {
    let Node { op, input: Some(input), step } = node else { return node };
    let mut op = op;
    let lower = input
        .chain()
        .find_map(|n| if let Op::Window(lower) = &n.op { Some(lower.calls.clone()) } else { None });
    if let Op::Window(window) = &mut op {
        window.calls.splice(0..0, lower.unwrap_or_default());
    }
    without_window(*input).over(op, step)
}

/// The chain without the first window in it.
fn without_window(node: Node) -> Node {
    let Node { op, input, step } = node;
    match (op, input) {
        (Op::Window(_), Some(input)) => *input,
        (op, Some(input)) => deep::guarded(|| without_window(*input)).over(op, step),
        (op, None) => Node { op, input: None, step },
    }
}
