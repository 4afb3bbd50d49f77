//! A table that is used once becomes part of the chain that uses it; one used more often runs once.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use churn_core::{ColumnId, Field, StepId, deep};
use churn_expr::Bound;

use crate::operators::{Compute, Op, Shared};
use crate::{Node, Plan, Relation};

/// Puts tables that are used once in the place of their name.
pub(super) fn inline_single_uses(mut plan: Plan) -> Plan {
    let mut uses = BTreeMap::new();
    for relation in std::iter::once(&plan.main).chain(&plan.others) {
        count(&relation.node, &mut uses);
    }
    plan = plan.map_chains(|relation| Relation { node: inline(relation.node, &uses), ..relation });
    if uses.values().any(|n| *n > 1) {
        plan.fired.push("common table run once");
    }
    plan
}

/// Has tables that run once keep only the columns that are used somewhere.
///
/// Uses in tables that are not rewritten yet, which they are when they run, count with all their columns.
pub(super) fn keep_used_columns(plan: Plan) -> Plan {
    let mut used: BTreeMap<usize, BTreeSet<ColumnId>> = BTreeMap::new();
    for node in plan.nodes() {
        if let Op::Shared(shared) = &node.op {
            used.entry(shared.table).or_default().extend(shared.columns.iter().map(|(id, _)| *id));
        }
    }
    plan.map_chains(|relation| Relation { node: narrowed(relation.node, &used), ..relation })
}

fn narrowed(node: Node, used: &BTreeMap<usize, BTreeSet<ColumnId>>) -> Node {
    node.rewritten(&mut |node| match node.op {
        Op::Shared(mut shared) => {
            shared.kept.retain(|id| used.get(&shared.table).is_none_or(|used| used.contains(id)));
            let input = Arc::unwrap_or_clone(shared.input);
            let input = Arc::new(deep::guarded(|| narrowed(input, used)));
            Node { op: Shared { input, ..shared }.into(), ..node }
        }
        _ => node,
    })
}

/// Counts the places that use each table; what stands below a table counts once.
fn count(node: &Node, uses: &mut BTreeMap<usize, usize>) {
    for node in node.chain() {
        node.op.operator().others().into_iter().for_each(|other| count(other, uses));
        if let Op::Shared(shared) = &node.op {
            let seen = uses.entry(shared.table).or_default();
            *seen += 1;
            if *seen == 1 {
                deep::guarded(|| count(&shared.input, uses));
            }
        }
    }
}

fn inline(node: Node, uses: &BTreeMap<usize, usize>) -> Node {
    node.rewritten(&mut |node| match node.op {
        Op::Shared(shared) => {
            let input = Arc::unwrap_or_clone(shared.input);
            let below = deep::guarded(|| inline(input, uses));
            if uses.get(&shared.table) == Some(&1) {
                renumbered(below, shared.columns, node.step)
            } else {
                Node { op: Shared { input: Arc::new(below), ..shared }.into(), ..node }
            }
        }
        _ => node,
    })
}

/// The rows of a table under the numbers that its columns have where it is used.
fn renumbered(below: Node, columns: Vec<(ColumnId, Field)>, step: StepId) -> Node {
    let moved = columns.into_iter().filter(|(id, field)| *id != field.id).map(|(id, field)| {
        let kind = field.kind.clone();
        (field, Bound { node: churn_expr::Node::Column(id), kind })
    });
    let moved: Vec<(Field, Bound)> = moved.collect();
    if moved.is_empty() { below } else { below.over(Compute { columns: moved }, step) }
}
