//! A filter right above a join is tested on either side's rows, before the rows of the result are made of them.
//!
//! Of its conditions that `and` brings together, those that use columns of one side alone are tested there. Rows that
//! fail are still looked up, so that the ledger tells the same of what matched; and the filter itself stays above,
//! for its other conditions and for what is unknown.

use churn_core::ColumnId;
use churn_expr::{Bound, Node as Expr};

use super::Rule;
use crate::Node;
use crate::operators::{Filter, Op, PrefilterTests};

pub(super) const RULE: Rule = Rule { name: "filter tested while joining", apply };

fn apply(node: Node, _: &[ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |mut node| {
        if let Op::Filter(Filter { condition, early: false }) = &node.op
            && let Some(input) = node.input.as_deref_mut()
            && let Op::Join(join) = &mut input.op
            && condition.is_infallible()
        {
            let left = input.input.as_ref().map(|left| left.columns()).unwrap_or_default();
            let added: Vec<ColumnId> = join.added.iter().map(|field| field.id).collect();
            let of = |columns: &[ColumnId]| conditions(condition, columns);
            let early = PrefilterTests { left: of(&left), other: of(&added), step: node.step };
            changed |= !early.is_empty();
            join.prefilter = early;
        }
        node
    });
    (node, changed)
}

/// Conditions that all must hold, of these columns alone.
fn conditions(condition: &Bound, columns: &[ColumnId]) -> Vec<Bound> {
    if let Expr::And(a, b) = &condition.node {
        return [a, b].into_iter().flat_map(|part| conditions(part, columns)).collect();
    }
    let mut used = Vec::new();
    condition.columns(&mut used);
    let is_theirs = !used.is_empty() && used.iter().all(|id| columns.contains(id));
    if is_theirs { vec![condition.clone()] } else { Vec::new() }
}
