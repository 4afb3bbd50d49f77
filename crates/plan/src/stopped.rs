//! Steps below a `first` that had enough: not all of their rows came by, and how many did says nothing.
//!
//! Rows are read a morsel at a time, so that a few more are seen than are needed. How many depends on where morsels end
//! and on what had to go to disk, and an account of them would differ from run to run. Whether a step is told of
//! depends on the plan and on the rows of the `first` alone.

use churn_core::{Counters, deep};

use super::Plan;
use super::node::{Node, Op, SampleSize};

impl Plan {
    /// For each step, whether the run may have stopped before all rows came to it.
    pub fn stopped_steps(&self, counters: &Counters) -> Vec<bool> {
        let mut stopped = vec![false; self.steps.len()];
        for chain in self.others.iter().chain([&self.main]).map(|relation| &relation.node).chain(&self.ran) {
            mark(chain, false, counters, &mut stopped);
        }
        stopped
    }
}

/// Notes the steps at a node and below it; `is_above` says that a `first` above had enough.
fn mark(node: &Node, is_above: bool, counters: &Counters, stopped: &mut [bool]) {
    if is_above
        && !counts_all(&node.op)
        && let Some(step) = stopped.get_mut(node.step)
    {
        *step = true;
    }
    let is_above = match &node.op {
        Op::First { count, per, .. } if per.is_empty() => {
            let has_enough = counters.get(node.step).rows >= *count as u64;
            is_above || has_enough && node.input.as_deref().is_some_and(may_stop)
        }
        op => is_above && !takes_all(op),
    };
    let mut below = |node: &Node, is_above: bool| deep::guarded(|| mark(node, is_above, counters, stopped));
    if let Op::Shared { input, .. } = &node.op {
        below(input, false);
    }
    if let Op::Scan(scan) = &node.op {
        let conditions = scan.conditions.iter().filter(|_| is_above);
        conditions.filter_map(|c| stopped.get_mut(c.step).map(|step| *step = true)).for_each(drop);
        return;
    }
    // A join's other table is read before the first row comes out.
    let other_is_read = matches!(node.op, Op::Join(_));
    node.others().into_iter().for_each(|other| below(other, is_above && !other_is_read));
    if let Some(input) = &node.input {
        below(input, is_above);
    }
}

/// Whether an operator takes all rows before it gives the first.
fn takes_all(op: &Op) -> bool {
    match op {
        Op::Sort { .. } | Op::Last { .. } | Op::Group { .. } | Op::Per { .. } => true,
        Op::Window(_) | Op::Pivot(_) | Op::Shared { .. } => true,
        Op::Sample { size, .. } => matches!(size, SampleSize::Rows(_)),
        _ => false,
    }
}

/// Whether the rows of an operator that takes all rows are counted before the first of them is handed on.
fn counts_all(op: &Op) -> bool {
    match op {
        Op::Last { per, .. } => per.is_empty(),
        op => takes_all(op) && !matches!(op, Op::Pivot(_) | Op::Shared { .. }),
    }
}

/// Whether a `first` over a node may stop the run: not where a step must see every row, and not where the reader
/// itself gives no more rows than are wanted.
fn may_stop(node: &Node) -> bool {
    let is_limited = matches!(&node.op, Op::Scan(scan) if scan.limit.is_some());
    !is_limited && !must_see_all(node)
}

/// Whether a step from here down must see every row that the rows of this node come of.
fn must_see_all(node: &Node) -> bool {
    let input = || node.input.as_deref().is_some_and(|input| deep::guarded(|| must_see_all(input)));
    match &node.op {
        Op::Write(_) | Op::Require { .. } | Op::RequireUnique { .. } | Op::Paste { .. } => true,
        Op::Scan(scan) => scan.rejects.is_some(),
        Op::Join(join) => join.expects() || input(),
        Op::Append { others, .. } => input() || others.iter().any(|(other, _)| must_see_all(other)),
        op => !takes_all(op) && input(),
    }
}
