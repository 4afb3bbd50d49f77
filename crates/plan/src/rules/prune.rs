//! Columns that nobody needs are not read and not computed.

use churn_core::{ColumnId, Field, deep};

use super::Rule;
use crate::{Node, Op};

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
        // What the table itself keeps is found when all its uses are known.
        Op::Shared { columns, .. } => {
            let is_needed = |(_, field): &(ColumnId, Field)| needed.contains(&field.id);
            let some = columns.iter().position(is_needed).unwrap_or(0);
            let before = columns.len();
            let mut place = 0..;
            // One stays, for the rows' sake.
            columns.retain(|column| place.next() == Some(some) || is_needed(column));
            *changed |= columns.len() < before;
        }
        Op::Join(join) => {
            let unused = |field: &Field| !needed.contains(&field.id);
            let before = join.added.len() + join.merged.len();
            join.added.retain(|field| !unused(field));
            join.merged.retain(|(field, _)| !unused(field));
            *changed |= join.added.len() + join.merged.len() < before;
            let mut of_other: Vec<ColumnId> = join.added.iter().map(|f| f.id).collect();
            for (left, other) in join
                .keys
                .iter()
                .map(|k| (&k.left, &k.other))
                .chain(join.tests.iter().map(|t| (&t.left, &t.other)))
            {
                left.columns(&mut needed);
                other.columns(&mut of_other);
            }
            join.other = pruned(&mut join.other, of_other, changed);
        }
        Op::Append { fields, own, others } => {
            let keep: Vec<bool> = fields.iter().map(|f| needed.contains(&f.id)).collect();
            *changed |= keep.contains(&false);
            retain(fields, &keep);
            for (node, columns) in others {
                retain(columns, &keep);
                let mut used = Vec::new();
                columns.iter().for_each(|by| by.columns(&mut used));
                *node = *pruned(node, used, changed);
            }
            retain(own, &keep);
            needed.clear();
            own.iter().for_each(|by| by.columns(&mut needed));
        }
        Op::Unpivot(how) => {
            let before = how.kept.len() + how.values.len();
            how.kept.retain(|id| needed.contains(id));
            if !how.skip_nulls {
                let keep: Vec<bool> = how.values.iter().map(|f| needed.contains(&f.id)).collect();
                retain(&mut how.values, &keep);
                how.rows.iter_mut().for_each(|row| retain(&mut row.values, &keep));
            }
            *changed |= how.kept.len() + how.values.len() < before;
            needed.clone_from(&how.kept);
            how.rows.iter().flat_map(|row| &row.values).for_each(|by| by.columns(&mut needed));
        }
        Op::Pivot(how) => {
            let before = how.cells.len();
            // A cell that may hold one value only is looked at whether it is needed or not.
            how.cells.retain(|cell| cell.only.is_some() || needed.contains(&cell.field.id));
            *changed |= how.cells.len() < before;
            needed.clear();
            add(&mut needed, how.by.iter().map(|f| f.id).chain(how.keys.iter().map(|(id, _)| *id)));
            add(&mut needed, how.cells.iter().map(|cell| cell.value).chain(how.count).chain(how.of_keys));
        }
        Op::Totals(how) => {
            how.by.iter().chain(&how.keys).for_each(|(_, by)| by.columns(&mut needed));
        }
        Op::Unnest(how) => {
            let before = how.kept.len();
            how.kept.retain(|id| needed.contains(id));
            *changed |= how.kept.len() < before;
            needed.clone_from(&how.kept);
            add(&mut needed, how.lists.iter().map(|(id, _)| *id));
        }
        Op::Paste { other, added } => {
            added.retain(|field| needed.contains(&field.id));
            *other = pruned(other, added.iter().map(|f| f.id).collect(), changed);
        }
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
        Op::Filter(condition) | Op::Prefilter(condition) | Op::Require { condition, .. } => {
            condition.columns(&mut needed)
        }
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
        Op::Window(window) => {
            window.calls.retain(|call| needed.contains(&call.field.id));
            if window.calls.is_empty() {
                node.op = Op::Compute(Vec::new());
                *changed = true;
            } else {
                add(&mut needed, window.columns());
            }
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
        node.input = Some(Box::new(deep::guarded(|| prune(*input, needed, changed))));
    }
    node
}

/// Another table with only these columns.
fn pruned(other: &mut Node, needed: Vec<ColumnId>, changed: &mut bool) -> Box<Node> {
    let none = Node { op: Op::Compute(Vec::new()), input: None, step: other.step };
    Box::new(deep::guarded(|| prune(std::mem::replace(other, none), needed, changed)))
}

/// Keeps the values whose place is marked.
fn retain<T>(values: &mut Vec<T>, keep: &[bool]) {
    let mut marks = keep.iter();
    values.retain(|_| marks.next() == Some(&true));
}

fn call_columns(call: &churn_expr::bind::AggregateCall, needed: &mut Vec<ColumnId>) {
    call.made.args.iter().chain(&call.only).for_each(|x| x.columns(needed));
}
