//! Constants worked out before the run.

use churn_core::{Batch, Events, Scalar};

use super::ast::{Expr, Kind};
use super::{Bound, Node};

/// The value of an expression that is written as a literal, its sign included.
pub fn literal(expr: &Expr) -> Option<Scalar> {
    match &expr.kind {
        Kind::Literal(value) => Some(value.clone()),
        Kind::Negate(x) => match literal(x)? {
            Scalar::Int(v) => v.checked_neg().map(Scalar::Int),
            Scalar::Float(v) => Some(Scalar::Float(-v)),
            _ => None,
        },
        _ => None,
    }
}

/// A call whose arguments are all literals becomes its value; one that fails or counts an event stays.
pub(crate) fn constant(bound: Bound) -> Bound {
    let Node::Call(call) = &bound.node else { return bound };
    if call.args.is_empty() || call.args.iter().any(|arg| arg.as_literal().is_none()) {
        return bound;
    }
    let mut events = Events::default();
    let row = Batch { columns: Vec::new(), rows: 1 };
    match bound.evaluate_array(&row, &mut events) {
        Ok(array) if events == Events::default() => {
            Bound { node: Node::Literal(Scalar::from_array(&array, 0)), kind: bound.kind }
        }
        _ => bound,
    }
}
