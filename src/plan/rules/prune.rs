//! Columns that nobody needs are not read and not computed.

use super::Rule;
use crate::expr::ColumnId;
use crate::plan::{Node, Op};

pub(super) const RULE: Rule = Rule { name: "unused columns left out", apply };

fn apply(node: Node, needed: &[ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = prune(node, needed.to_vec(), &mut changed);
    (node, changed)
}

fn add(needed: &mut Vec<ColumnId>, more: impl IntoIterator<Item = ColumnId>) {
    for id in more {
        if !needed.contains(&id) {
            needed.push(id);
        }
    }
}

fn prune(mut node: Node, mut needed: Vec<ColumnId>, changed: &mut bool) -> Node {
    match &mut node.op {
        Op::Scan(scan) => {
            for condition in &scan.conditions {
                condition.test.columns(&mut needed);
            }
            let before = scan.columns.len();
            scan.columns.retain(|(_, field)| needed.contains(&field.id));
            *changed |= scan.columns.len() < before;
        }
        // A shared table's columns were found when it was planned.
        Op::Shared { .. } => {}
        Op::Compute(columns) => {
            // A later column may use an earlier one, so they are looked at from the last.
            let mut kept = Vec::new();
            for (field, by) in std::mem::take(columns).into_iter().rev() {
                if needed.contains(&field.id) {
                    by.columns(&mut needed);
                    kept.push((field, by));
                } else {
                    *changed = true;
                }
            }
            kept.reverse();
            *columns = kept;
        }
        Op::Filter(condition) | Op::Require { condition, .. } => condition.columns(&mut needed),
        Op::Sort { keys, .. } => keys.iter().for_each(|key| key.by.columns(&mut needed)),
        Op::First { per, .. } | Op::Last { per, .. } => add(&mut needed, per.iter().copied()),
        Op::Distinct(by) => add(&mut needed, by.iter().copied()),
        Op::Sample { .. } => {}
        Op::Group { keys, calls } => {
            let before = calls.len();
            calls.retain(|call| needed.contains(&call.field.id));
            *changed |= calls.len() < before;
            needed.clear();
            keys.iter().for_each(|(_, by)| by.columns(&mut needed));
            calls.iter().for_each(|call| call_columns(call, &mut needed));
        }
        Op::Per { keys, calls } => {
            calls.retain(|call| needed.contains(&call.field.id));
            add(&mut needed, keys.iter().copied());
            calls.iter().for_each(|call| call_columns(call, &mut needed));
        }
        Op::RequireUnique { by, .. } => add(&mut needed, by.iter().map(|f| f.id)),
        Op::Write(_) => {}
    }
    match &node.op {
        Op::Require { shown, .. } | Op::RequireUnique { shown, .. } => {
            add(&mut needed, shown.iter().map(|f| f.id))
        }
        Op::Write(target) => add(&mut needed, target.fields.iter().map(|f| f.id)),
        _ => {}
    }
    if let Some(input) = node.input.take() {
        node.input = Some(Box::new(prune(*input, needed, changed)));
    }
    node
}

fn call_columns(call: &crate::expr::bind::AggregateCall, needed: &mut Vec<ColumnId>) {
    call.made.args.iter().chain(&call.only).for_each(|x| x.columns(needed));
}
