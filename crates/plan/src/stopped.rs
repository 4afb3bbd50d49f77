//! Steps below a `first` that had enough: not all of their rows came by, and how many did says nothing.
//!
//! Rows are read a morsel at a time, so that a few more are seen than are needed. How many depends on where morsels end
//! and on what had to go to disk, and an account of them would differ from run to run. Whether a step is told of
//! depends on the plan and on the rows of the `first` alone.

use churn_core::{Counters, deep};

use crate::{Node, Plan};

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
    let operator = node.op.operator();
    if is_above {
        let own = (!operator.counts_all()).then_some(node.step);
        for step in operator.conditions().iter().map(|condition| condition.step).chain(own) {
            if let Some(is_stopped) = stopped.get_mut(step) {
                *is_stopped = true;
            }
        }
    }
    let has_enough = operator.has_enough(node.step, counters) && node.input.as_deref().is_some_and(may_stop);
    let is_below = has_enough || is_above && !operator.takes_all();
    let mut below = |node: &Node, is_above: bool| deep::guarded(|| mark(node, is_above, counters, stopped));
    if let Some(input) = operator.shared() {
        below(input, false);
    }
    let of_others = is_below && !operator.reads_others_first();
    operator.others().into_iter().for_each(|other| below(other, of_others));
    if let Some(input) = &node.input {
        below(input, is_below);
    }
}

/// Whether a `first` over a node may stop the run: not where a step must see every row, and not where the reader
/// itself gives no more rows than are wanted.
fn may_stop(node: &Node) -> bool {
    !node.op.operator().stops_itself() && !must_see_all(node)
}

/// Whether a step from here down must see every row that the rows of this node come of.
fn must_see_all(node: &Node) -> bool {
    let operator = node.op.operator();
    let below = |node: &Node| deep::guarded(|| must_see_all(node));
    let of_others = !operator.reads_others_first() && operator.others().into_iter().any(below);
    let of_input = !operator.takes_all() && node.input.as_deref().is_some_and(below);
    operator.must_see_all() || of_others || of_input
}
