//! Arithmetic, its types, and dates moved by intervals.

use churn_core::{Column, Events, Scalar, Span, Type};

use super::Binder;
use crate::ast::Binary;
use crate::functions::{self, Arguments};
use crate::{Bound, arithmetic, cast};

impl Binder<'_> {
    pub(super) fn negate(&mut self, x: Bound, span: Span) -> Bound {
        match (&x.kind, x.as_literal()) {
            (Type::Unknown, _) => x,
            (Type::Interval, _) => self.times(x, Bound::literal(Scalar::Int(-1))),
            (Type::Null, _) => Bound { node: x.node, kind: Type::Float },
            (kind, _) if kind.is_number() => {
                let kind = kind.clone();
                let result = kind.clone();
                let args = Arguments { name: "-", usage: "-x", values: vec![x] };
                let kernel = move |args: &[Column], rows: usize, events: &mut Events| {
                    arithmetic::negate(&kind, &functions::arg(args, 0), rows, events)
                };
                if result == Type::Float {
                    args.call(result, kernel)
                } else {
                    args.fallible_call(result, kernel)
                }
            }
            (kind, _) => {
                let what = format!("- needs a number, and this is {kind}.");
                self.type_error(span, what, "")
            }
        }
    }

    pub(super) fn arithmetic(&mut self, op: Binary, a: Bound, b: Bound, span: Span) -> Bound {
        use Type::{Date, Float, Int, Interval, Text, Time, Timestamp};
        let [a, b] = beside_dates(op, a, b);
        let (left, right) = (a.kind.clone(), b.kind.clone());
        let symbol = op.symbol();
        let two = |a, b| Arguments { name: symbol, usage: "a + b", values: vec![a, b] };
        let arg = functions::arg;
        match (op, &left, &right) {
            (Binary::Concat, _, _) => {
                let (Some(a), Some(b)) = (cast::silently(a, &Text), cast::silently(b, &Text)) else {
                    let kind = if left == Text { right } else { left };
                    return self.type_error(
                        span,
                        format!("|| joins texts, and this is {kind}."),
                        "Turn it into text: cast(… as text).",
                    );
                };
                two(a, b)
                    .call(Text, move |args, rows, _| arithmetic::concat(&arg(args, 0), &arg(args, 1), rows))
            }
            (Binary::Subtract, Date, Date) => two(a, b).call(Int, move |args, rows, _| {
                Ok(arithmetic::days_between(&arg(args, 0), &arg(args, 1), rows))
            }),
            (Binary::Subtract, Date | Timestamp, Date | Timestamp) => {
                let (Some(a), Some(b)) = (cast::silently(a, &Timestamp), cast::silently(b, &Timestamp))
                else {
                    return Bound::unknown();
                };
                two(a, b).call(Float, move |args, rows, _| {
                    Ok(arithmetic::seconds_between(&arg(args, 0), &arg(args, 1), rows))
                })
            }
            (Binary::Add, Date | Timestamp, Interval) => self.shifted(a, b),
            (Binary::Add, Interval, Date | Timestamp) => self.shifted(b, a),
            (Binary::Subtract, Date | Timestamp, Interval) => {
                let back = self.times(b, Bound::literal(Scalar::Int(-1)));
                self.shifted(a, back)
            }
            (Binary::Add, Interval, Interval) => self.interval_sum(a, b),
            (Binary::Subtract, Interval, Interval) => {
                let back = self.times(b, Bound::literal(Scalar::Int(-1)));
                self.interval_sum(a, back)
            }
            (Binary::Multiply, Interval, Int | Type::Null) => self.times(a, b),
            (Binary::Multiply, Int | Type::Null, Interval) => self.times(b, a),
            (Binary::Multiply, Interval, kind) | (Binary::Multiply, kind, Interval) if kind.is_number() => {
                let what = format!("An interval is taken a whole number of times, and this is {kind}.");
                self.type_error(span, what, "Take a smaller unit, 36 * interval '1' hour, or cast(… as int).")
            }
            (_, Date | Time | Timestamp, kind) | (_, kind, Date | Time | Timestamp) if kind.is_number() => {
                let what = format!("{left} {symbol} {right} means nothing.");
                self.type_error(span, what, "Days are added as an interval: collected_on + interval '7' day.")
            }
            _ => self.numeric(op, a, b, span),
        }
    }

    fn numeric(&mut self, op: Binary, a: Bound, b: Bound, span: Span) -> Bound {
        let [mut a, mut b] = [a, b];
        cast::exact_beside_decimals([&mut a, &mut b]);
        let symbol = op.symbol();
        let arg = functions::arg;
        let is_number = |kind: &Type| kind.is_number() || *kind == Type::Null;
        if !is_number(&a.kind) || !is_number(&b.kind) {
            let other = if is_number(&a.kind) { &b.kind } else { &a.kind };
            let next = match (op, other) {
                (Binary::Add, Type::Text) => {
                    "Texts are joined with ||; a number in a text is cast(… as float)."
                }
                (_, Type::Text) => "Turn the text into a number: cast(… as float).",
                _ => "",
            };
            return self.type_error(span, format!("{symbol} needs numbers, and this is {other}."), next);
        }
        let shared = match (op, a.kind.common_type(&b.kind)) {
            (Binary::Divide, _) => Type::Float,
            (_, Some(Type::Null)) => Type::Int,
            (_, Some(kind)) => kind,
            (_, None) => Type::Float,
        };
        let (left, right, kind) = match (op, &shared, &a.kind, &b.kind) {
            (Binary::Div, kind, _, _) if *kind != Type::Int => {
                let what = "div divides whole numbers.".to_owned();
                return self.type_error(span, what, "For the whole part of a division write floor(a / b).");
            }
            // The product of decimals has the digits of both; each keeps its own scale.
            (Binary::Multiply, Type::Decimal(..), ka, kb) => {
                let digits = |k: &Type| if let Type::Decimal(p, s) = k { (*p, *s) } else { (19, 0) };
                let ((p, s), (q, r)) = (digits(ka), digits(kb));
                (Type::Decimal(p, s), Type::Decimal(q, r), Type::Decimal((p + q).min(38), s + r))
            }
            (Binary::Add | Binary::Subtract, Type::Decimal(p, s), _, _) => {
                let wide = Type::Decimal((*p + 1).min(38), *s);
                (wide.clone(), wide.clone(), wide)
            }
            (Binary::Mod, Type::Decimal(..), _, _) => (Type::Float, Type::Float, Type::Float),
            (_, kind, _, _) => (kind.clone(), kind.clone(), kind.clone()),
        };
        let convert = |bound: Bound, kind: &Type| {
            if bound.kind == *kind {
                return bound;
            }
            cast::silently(bound.clone(), kind).unwrap_or_else(|| cast::explicitly(bound, kind, None, false))
        };
        let values = vec![convert(a, &left), convert(b, &right)];
        let args = Arguments { name: symbol, usage: "a + b", values };
        let result = kind.clone();
        match kind {
            Type::Int => args.fallible_call(result, move |args, rows, events| {
                arithmetic::ints(op, &arg(args, 0), &arg(args, 1), rows, events)
            }),
            Type::Decimal(..) => args.fallible_call(result, move |args, rows, _| {
                arithmetic::decimal(op, &kind, &arg(args, 0), &arg(args, 1), rows)
            }),
            _ => {
                let kernel = move |args: &[Column], rows: usize, events: &mut Events| {
                    Ok(arithmetic::floats(op, &arg(args, 0), &arg(args, 1), rows, events))
                };
                let divides = matches!(op, Binary::Divide | Binary::Mod);
                // A division by a number that is not zero can do no harm.
                let safe =
                    args.values.get(1).and_then(Bound::as_literal).is_some_and(|v| *v != Scalar::Float(0.0));
                if divides && !safe { args.fallible_call(result, kernel) } else { args.call(result, kernel) }
            }
        }
    }

    /// An interval so many times.
    fn times(&mut self, interval: Bound, count: Bound) -> Bound {
        let (Some(interval), Some(count)) =
            (cast::silently(interval, &Type::Interval), cast::silently(count, &Type::Int))
        else {
            return Bound::unknown();
        };
        let args = Arguments { name: "*", usage: "n * interval", values: vec![interval, count] };
        let product = args.fallible_call(Type::Interval, |args, rows, events| {
            Ok(arithmetic::times(&functions::arg(args, 0), &functions::arg(args, 1), rows, events))
        });
        self.folded(product)
    }

    /// The sum of two intervals.
    fn interval_sum(&mut self, a: Bound, b: Bound) -> Bound {
        let args = Arguments { name: "+", usage: "a + b", values: vec![a, b] };
        let sum = args.fallible_call(Type::Interval, |args, rows, events| {
            Ok(arithmetic::add_intervals(&functions::arg(args, 0), &functions::arg(args, 1), rows, events))
        });
        self.folded(sum)
    }

    /// A date or timestamp moved by an interval. A date moved by hours that are written is a moment of a day.
    fn shifted(&mut self, x: Bound, by: Bound) -> Bound {
        let kind = if has_hours(&by) { Type::Timestamp } else { x.kind.clone() };
        let Some(x) = cast::silently(x, &kind) else { return Bound::unknown() };
        let result = kind.clone();
        let args = Arguments { name: "+", usage: "x + interval", values: vec![x, by] };
        args.fallible_call(result, move |args, rows, events| {
            let (x, by) = (functions::arg(args, 0), functions::arg(args, 1));
            if kind != Type::Date {
                return Ok(arithmetic::shift_timestamps(&x, &by, rows, events));
            }
            arithmetic::whole_days(&by, rows)?;
            Ok(arithmetic::shift_dates(&x, &by, rows, events))
        })
    }
}

/// Whether an interval with hours or less is written in an expression.
fn has_hours(by: &Bound) -> bool {
    let mut found = matches!(by.as_literal(), Some(Scalar::Interval(by)) if by.micros != 0);
    by.for_each_part(&mut |part| found |= part.kind == Type::Interval && has_hours(part));
    found
}

/// Operands of which one has no type, as what the other goes with: beside an interval it is the date that is moved by it,
/// else of the type of the date, timestamp or interval that it is taken from or that is taken from it.
fn beside_dates(op: Binary, a: Bound, b: Bound) -> [Bound; 2] {
    use Type::{Date, Interval, Null, Timestamp};
    let typed = |bound: Bound, kind: &Type| cast::silently(bound, kind).unwrap_or_else(Bound::unknown);
    match (op, &a.kind, &b.kind) {
        (Binary::Add | Binary::Subtract, Null, Interval) => [typed(a, &Date), b],
        (Binary::Add, Interval, Null) => [a, typed(b, &Date)],
        (Binary::Subtract, Null, Date | Timestamp) => [typed(a, &b.kind), b],
        (Binary::Subtract, Date | Timestamp | Interval, Null) => {
            let b = typed(b, &a.kind);
            [a, b]
        }
        _ => [a, b],
    }
}
