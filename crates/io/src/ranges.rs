//! What a condition says of a column on its own: bounds that a file's statistics can be held against.

use std::cmp::Ordering;

use churn_core::{ColumnId, Scalar, Type};
use churn_expr::{Bound, Node, compare};

/// Rows outside of these bounds cannot pass.
#[derive(Clone, Debug, PartialEq)]
pub struct Range {
    /// The least value that passes, and whether it does itself.
    pub low: Option<(Scalar, bool)>,
    /// The greatest value that passes, and whether it does itself.
    pub high: Option<(Scalar, bool)>,
}

impl Range {
    /// Whether values between these two, both of which occur or may, can be within the range.
    pub(crate) fn meets(&self, least: &Scalar, greatest: &Scalar) -> bool {
        if least.is_null() || greatest.is_null() {
            return true;
        }
        let above = |(low, itself): &(Scalar, bool)| match compare::order_of(greatest, low) {
            Ordering::Less => false,
            Ordering::Equal => *itself,
            Ordering::Greater => true,
        };
        let below = |(high, itself): &(Scalar, bool)| match compare::order_of(least, high) {
            Ordering::Less => true,
            Ordering::Equal => *itself,
            Ordering::Greater => false,
        };
        self.low.as_ref().is_none_or(above) && self.high.as_ref().is_none_or(below)
    }

    /// The one value that passes, if it is one.
    pub(crate) fn only(&self) -> Option<&Scalar> {
        match (&self.low, &self.high) {
            (Some((low, true)), Some((high, true))) if low == high => Some(low),
            _ => None,
        }
    }
}

/// The ranges that rows must be in to pass a condition.
pub fn ranges(condition: &Bound) -> Vec<(ColumnId, Range)> {
    match &condition.node {
        Node::And(a, b) => ranges(a).into_iter().chain(ranges(b)).collect(),
        Node::Call(call) => match call.args.as_slice() {
            [a, b] => match (a.as_column(), b.as_literal(), a.as_literal(), b.as_column()) {
                (Some(column), Some(value), ..) => range(call.name, column, value, &a.kind),
                (_, _, Some(value), Some(column)) => range(turned(call.name), column, value, &b.kind),
                _ => None,
            },
            _ => None,
        }
        .into_iter()
        .collect(),
        _ => Vec::new(),
    }
}

fn turned(operator: &'static str) -> &'static str {
    match operator {
        "<" => ">",
        "<=" => ">=",
        ">" => "<",
        ">=" => "<=",
        other => other,
    }
}

fn range(operator: &str, column: ColumnId, value: &Scalar, kind: &Type) -> Option<(ColumnId, Range)> {
    if value.is_null() || value.kind() != *kind {
        return None;
    }
    let value = |itself| Some((value.clone(), itself));
    let range = match operator {
        "=" => Range { low: value(true), high: value(true) },
        "<" => Range { low: None, high: value(false) },
        "<=" => Range { low: None, high: value(true) },
        ">" => Range { low: value(false), high: None },
        ">=" => Range { low: value(true), high: None },
        _ => return None,
    };
    Some((column, range))
}
