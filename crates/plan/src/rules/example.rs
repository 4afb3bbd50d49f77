//! How a rule is added: this file, and `example::RULE` at its place in [`RULES`](super::RULES). It is compiled as a test, and
//! not among the rules. Tests of rules in the language, before and after, are in `tests/rules.rs`.
//!
//! A rule takes a plan apart where it has the form that it is about, and puts it together in another way, with the same
//! rows in the same order and the same account. It says whether it changed anything.

use churn_core::ColumnId;

use super::Rule;
use crate::Node;
use crate::operators::{Compute, First, Op};

/// A `first` over a `first` that takes no more rows is not needed.
const RULE: Rule = Rule { name: "first left out", apply };

fn apply(node: Node, _: &[ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| {
        let (leaves_out, node) = without(node);
        changed |= leaves_out;
        node
    });
    (node, changed)
}

fn without(node: Node) -> (bool, Node) {
    let takes_all = |above: &First, below: &First| {
        above.per.is_empty() && below.per.is_empty() && above.after == 0 && above.count >= below.count
    };
    match node {
        Node { op: Op::First(above), input: Some(input), .. } if matches!(&input.op, Op::First(below) if takes_all(&above, below)) => {
            (true, *input)
        }
        node => (false, node),
    }
}

#[test]
fn the_example_works() {
    let firsts = |above: usize| {
        Node::source(Compute::default(), 0).over(First::rows(5, 0), 1).over(First::rows(above, 0), 2)
    };
    let (node, changed) = (RULE.apply)(firsts(7), &[]);
    assert!(changed);
    assert_eq!(node.step, 1);
    let (node, changed) = (RULE.apply)(firsts(3), &[]);
    assert!(!changed);
    assert_eq!(node.step, 2);
}
