//! Rewrites of a plan, one a file. Each has a name, a condition under which it is sound, and tests in the
//! language.
//!
//! A rule may change how rows are found, never which rows, their order, or what the ledger says of them.

mod common_table;
#[cfg(test)]
mod example;
mod filter_down;
mod first_down;
mod join_test;
pub(crate) mod prune;
mod scan_test;
mod shared_sort;
mod top_rows;

use churn_core::ColumnId;

use crate::{Node, Plan, Relation};

/// A rewrite.
pub(crate) struct Rule {
    /// Its name in the picture of a plan.
    pub(crate) name: &'static str,
    /// The plan rewritten, and whether anything changed. The columns are those that are needed on top.
    pub(crate) apply: fn(Node, &[ColumnId]) -> (Node, bool),
}

/// All rules, in the order in which they are applied.
const RULES: &[Rule] = &[
    first_down::RULE,
    filter_down::RULE,
    top_rows::RULE,
    top_rows::OF_GROUPS,
    scan_test::RULE,
    join_test::RULE,
    shared_sort::RULE,
    prune::RULE,
];

/// Rewrites a whole plan.
pub fn rewrite_plan(plan: Plan) -> Plan {
    let mut plan = common_table::inline_single_uses(plan);
    let mut fired = Vec::new();
    plan = plan.map_chains(|relation| {
        let needed: Vec<ColumnId> = relation.fields.iter().map(|f| f.id).collect();
        let (node, names) = rewrite(relation.node, &needed);
        for name in names {
            if !fired.contains(&name) {
                fired.push(name);
            }
        }
        Relation { node, fields: relation.fields }
    });
    plan.fired.extend(fired);
    common_table::keep_used_columns(plan)
}

/// Applies all rules; gives the names of those that changed something.
pub fn rewrite(node: Node, needed: &[ColumnId]) -> (Node, Vec<&'static str>) {
    let mut fired = Vec::new();
    let node = RULES.iter().fold(node, |node, rule| {
        let (node, changed) = (rule.apply)(node, needed);
        if changed {
            fired.push(rule.name);
        }
        node
    });
    (node, fired)
}
