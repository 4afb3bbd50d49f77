//! The tree of operators.

use churn_core::{ColumnId, Field, StepId, deep};

use crate::operators::{Compute, Op};

/// An operator over the rows of its input.
#[derive(Clone)]
pub struct Node {
    /// What it does.
    pub op: Op,
    /// The operator below; none for a scan.
    pub input: Option<Box<Node>>,
    /// The step that it belongs to.
    pub step: StepId,
}

impl Node {
    /// An operator without input: a source.
    pub fn source(op: impl Into<Op>, step: StepId) -> Node {
        Node { op: op.into(), input: None, step }
    }

    /// An operator without rows, in the place of one that was taken away.
    pub fn nothing() -> Node {
        Node::source(Compute::default(), 0)
    }

    /// This operator below another one.
    pub fn over(self, op: impl Into<Op>, step: StepId) -> Node {
        Node { op: op.into(), input: Some(Box::new(self)), step }
    }

    /// The columns that leave the operator.
    pub fn columns(&self) -> Vec<ColumnId> {
        let operator = self.op.operator();
        let mut columns = match (operator.passed(), &self.input) {
            (Some(some), _) => some.to_vec(),
            (None, Some(input)) => deep::guarded(|| input.columns()),
            (None, None) => Vec::new(),
        };
        // Chains may be thousands of operators long, and few of them end a column.
        let ended = operator.ended();
        if !ended.is_empty() {
            columns.retain(|id| !ended.contains(id));
        }
        columns.extend(operator.made().into_iter().map(|field| field.id));
        columns
    }

    /// A column that is there below or at the operator.
    pub fn field(&self, id: ColumnId) -> Option<&Field> {
        let own = self.op.operator().made().into_iter().find(|field| field.id == id);
        own.or_else(|| deep::guarded(|| self.input.as_ref()?.field(id)))
    }

    /// Rebuilds the plan from below with a rule.
    pub(crate) fn rewritten(self, rule: &mut dyn FnMut(Node) -> Node) -> Node {
        let Node { mut op, input, step } = self;
        let input = input.map(|input| Box::new(deep::guarded(|| input.rewritten(rule))));
        for other in op.operator_mut().others_mut() {
            other.change(|other| deep::guarded(|| other.rewritten(rule)));
        }
        rule(Node { op, input, step })
    }

    /// Makes it what `f` makes of it.
    pub(crate) fn change(&mut self, f: impl FnOnce(Node) -> Node) {
        *self = f(std::mem::replace(self, Node::nothing()));
    }

    /// The operator and those below it, topmost first.
    pub(crate) fn chain(&self) -> impl Iterator<Item = &Node> {
        std::iter::successors(Some(self), |node| node.input.as_deref())
    }
}
