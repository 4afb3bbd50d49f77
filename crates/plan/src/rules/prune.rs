//! Columns that nobody needs are not read and not computed.

use churn_core::{ColumnId, deep};

use super::Rule;
use crate::Node;
use crate::operator::Pruning;
use crate::operators::Compute;

pub(super) const RULE: Rule = Rule { name: "unused columns left out", apply };

fn apply(node: Node, needed: &[ColumnId]) -> (Node, bool) {
    let mut pruning = Pruning::default();
    let node = prune(node, needed.to_vec(), &mut pruning);
    (node, pruning.changed)
}

/// The chain without what it makes beyond these columns.
pub(crate) fn prune(mut node: Node, needed: Vec<ColumnId>, pruning: &mut Pruning) -> Node {
    let operator = node.op.operator_mut();
    let needed = operator.prune(needed, pruning);
    if operator.is_idle() {
        node.op = Compute::default().into();
    }
    if let Some(input) = node.input.take() {
        node.input = Some(Box::new(deep::guarded(|| prune(*input, needed, pruning))));
    }
    node
}
