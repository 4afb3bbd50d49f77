//! Missing values and choice.

use churn_core::{Result, Scalar, Type};

use super::{Arguments, Complaint, Family, Function, arg};
use crate::ast::Binary;
use crate::{Bound, Node, compare, logic};

pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "coalesce",
        usage: "coalesce(a, b, …)",
        family: Family::Null,
        summary: "The first of the values that is not null.",
        example: ("coalesce(null, 7)", "7"),
        bind: coalesce,
    },
    Function {
        name: "nullif",
        usage: "nullif(a, b)",
        family: Family::Null,
        summary: "a, or null where a equals b.",
        example: ("nullif(3, 0)", "3"),
        bind: nullif,
    },
    Function {
        name: "present",
        usage: "present(a, b, …)",
        family: Family::Null,
        summary: "Whether none of the values is null; present(each) of all columns.",
        example: ("present(1, null)", "false"),
        bind: present,
    },
    Function {
        name: "if",
        usage: "if(c, a, b)",
        family: Family::Null,
        summary: "a where c is true, else b; an unknown c takes b.",
        example: ("if(2 > 1, 'warm', 'cold')", "warm"),
        bind: choose,
    },
];

/// The expression that tells whether `x` is null.
pub fn is_null(x: Bound) -> Bound {
    let args = Arguments { name: "is null", usage: "x is null", values: vec![x] };
    args.call(Type::Bool, |args, rows, _| Ok(logic::is_null(&arg(args, 0), rows)))
}

/// The expression that is true where `x` is false.
pub fn not(x: Bound) -> Bound {
    let args = Arguments { name: "not", usage: "not x", values: vec![x] };
    args.call(Type::Bool, |args, rows, _| Ok(logic::not(&arg(args, 0), rows)))
}

/// The expression that compares two values of one type.
pub fn compare(op: Binary, kind: Type, a: Bound, b: Bound) -> Bound {
    let args = Arguments { name: op.symbol(), usage: "a = b", values: vec![a, b] };
    args.call(Type::Bool, move |args, rows, _| {
        Ok(compare::compare(op, &kind, &arg(args, 0), &arg(args, 1), rows))
    })
}

fn coalesce(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=usize::MAX)?;
    let kind = args.common_type()?;
    let Some(last) = args.values.pop() else { return Ok(Bound::unknown()) };
    // Each value is worked out once, and only where those before it are null.
    Ok(args
        .values
        .into_iter()
        .rev()
        .fold(last, |otherwise, x| Bound::using(x, |x| first_present(x, otherwise, &kind))))
}

/// A value, or another one where it is null.
fn first_present(x: Bound, otherwise: Bound, kind: &Type) -> Bound {
    let arm = (not(is_null(x.clone())), x);
    let node = match otherwise.node {
        Node::Case(arms, last) => Node::Case(std::iter::once(arm).chain(arms).collect(), last),
        _ => Node::Case(vec![arm], Some(Box::new(otherwise))),
    };
    Bound { node, kind: kind.clone() }
}

fn nullif(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    if args.values.is_empty() {
        return Ok(Bound::unknown());
    }
    let x = args.values.remove(0);
    let (kind, values) = (x.kind.clone(), args.values);
    let mut complaint = None;
    let made = Bound::using(x, |x| {
        let mut sides = Arguments { name: args.name, usage: args.usage, values };
        sides.values.insert(0, x.clone());
        let shared = match sides.common_type() {
            Ok(shared) => shared,
            Err(error) => {
                complaint = Some(error);
                return Bound::unknown();
            }
        };
        let (Some(b), Some(a)) = (sides.values.pop(), sides.values.pop()) else { return Bound::unknown() };
        let null = Bound { node: Node::Literal(Scalar::Null), kind: kind.clone() };
        let equal = compare(Binary::Equal, shared, a, b);
        Bound { node: Node::Case(vec![(equal, null)], Some(Box::new(x))), kind: kind.clone() }
    });
    complaint.map_or(Ok(made), Err)
}

fn present(args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=usize::MAX)?;
    let mut parts = args.values.into_iter().map(|x| not(is_null(x)));
    let Some(first) = parts.next() else { return Ok(Bound::unknown()) };
    Ok(parts.fold(first, |all, x| Bound { node: Node::And(Box::new(all), Box::new(x)), kind: Type::Bool }))
}

fn choose(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(3..=3)?;
    args.want(0, &Type::Bool)?;
    let condition = args.values.remove(0);
    let kind = args.common_type()?;
    let (Some(b), Some(a)) = (args.values.pop(), args.values.pop()) else { return Ok(Bound::unknown()) };
    Ok(Bound { node: Node::Case(vec![(condition, a)], Some(Box::new(b))), kind })
}
