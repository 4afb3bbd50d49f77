//! Comparisons: both sides in one type, lists of literals, and what is never true.

use churn_core::error::nearest;
use churn_core::{Scalar, Span, Type};
use churn_kernels::calendar;

use super::{Binder, Place};
use crate::ast::{Binary, Expr, Kind};
use crate::expand::unknown_column;
use crate::{Bound, Node, cast, functions};

/// Literals in a list from which on they are looked up together.
const LOOKED_UP: usize = 16;

impl Binder<'_> {
    /// Whether a value is one of a list: many literals of its type are looked up together, and others are compared one
    /// by one.
    pub(super) fn within(&mut self, value: &Bound, list: &[Expr], place: &mut Place<'_>) -> Bound {
        let mut any: Vec<Bound> = Vec::new();
        let mut members: Vec<Scalar> = Vec::new();
        for item in list {
            let other = self.compared(item, place);
            let stand_in = Bound { node: Node::Local(0), kind: value.kind.clone() };
            let Some((_, other, kind)) = self.united(stand_in, other, item.span) else {
                return Bound::unknown();
            };
            let other = self.folded(other);
            match other.as_literal() {
                Some(literal) if list.len() >= LOOKED_UP && kind == value.kind && !literal.is_null() => {
                    members.push(literal.clone());
                }
                _ => any.push(self.comparison(Binary::Equal, value.clone(), other, item.span)),
            }
        }
        if !members.is_empty() {
            any.push(functions::is_member(value.clone(), &members));
        }
        let or = |a: Bound, b: Bound| Bound { node: Node::Or(Box::new(a), Box::new(b)), kind: Type::Bool };
        while any.len() > 64 {
            let mut rest = any.into_iter();
            any = std::iter::from_fn(|| {
                let left = rest.next()?;
                Some(match rest.next() {
                    Some(right) => or(left, right),
                    None => left,
                })
            })
            .collect();
        }
        any.into_iter().reduce(or).unwrap_or_else(Bound::unknown)
    }

    /// Notes a comparison with a null that is written there: it is never true.
    pub(super) fn compared_with_null(&mut self, op: Binary, a: (&Expr, &Bound), b: (&Expr, &Bound)) {
        let is_null = |side: (&Expr, &Bound)| matches!(side.0.kind, Kind::Literal(Scalar::Null));
        let other = match (is_null(a), is_null(b)) {
            (true, false) => b.0,
            (false, true) => a.0,
            _ => return,
        };
        let not = if op == Binary::NotEqual { "not " } else { "" };
        let note = format!(
            "Nothing equals null: {} {} null is true of no row. Write {other} is {not}null.",
            other,
            op.symbol()
        );
        if !self.notes.contains(&note) {
            self.notes.push(note);
        }
    }

    /// Binds what a column is compared with: often a text that lacks its quotes.
    pub(super) fn compared(&mut self, expr: &Expr, place: &mut Place<'_>) -> Bound {
        let is_quoted = || self.source.text.get(expr.span.start..).is_some_and(|text| text.starts_with('"'));
        if let Kind::Name(column) = &expr.kind
            && !matches!(place, Place::Groups { .. })
            && !self.fields.iter().any(|f| f.name == *column)
            && (is_quoted() || nearest(column, self.fields.iter().map(|f| f.name.as_str())).is_none())
        {
            let text = Scalar::Text(column.to_owned());
            let error = unknown_column(column, self.fields, self.source, expr.span);
            return self.wrong(
                expr.span,
                error.next(format!("If it is a text, it stands in single quotes: {text}.")),
            );
        }
        self.expression(expr, place)
    }

    /// Both sides in the one type they share; a text literal beside a date is read as one.
    pub(super) fn united(&mut self, a: Bound, b: Bound, span: Span) -> Option<(Bound, Bound, Type)> {
        if a.kind == Type::Unknown || b.kind == Type::Unknown {
            return None;
        }
        let mut a = self.dated(a, &b.kind.clone(), span)?;
        let mut b = self.dated(b, &a.kind.clone(), span)?;
        cast::exact_beside_decimals([&mut a, &mut b]);
        if [&a.kind, &b.kind].contains(&&Type::Interval) {
            let next = "Compare what they make of a date: collected_on + a < collected_on + b.";
            self.type_error(
                span,
                "Intervals have no order: a month has from 28 to 31 days.".to_owned(),
                next,
            );
            return None;
        }
        let Some(shared) = a.kind.common_type(&b.kind) else {
            let mut next = String::new();
            if a.kind == Type::Text || b.kind == Type::Text {
                let other = if a.kind == Type::Text { &b.kind } else { &a.kind };
                next = format!(
                    "Turn the text into one: cast(… as {other}), or the other into text: cast(… as text)."
                );
            }
            if let Some(date) = self.unquoted_date(span) {
                next = format!("A date stands in quotes: date '{date}'.");
            }
            self.type_error(span, format!("{} and {} do not compare.", a.kind, b.kind), &next);
            return None;
        };
        let shared = if shared == Type::Null { Type::Bool } else { shared };
        Some((cast::silently(a, &shared)?, cast::silently(b, &shared)?, shared))
    }

    /// A date without quotes, which is a subtraction, at the end of a part of the text.
    fn unquoted_date(&self, span: Span) -> Option<&str> {
        let text = self.source.text.get(span.start..span.end)?.trim_end();
        let date = text.get(text.len().checked_sub("2026-01-31".len())?..)?;
        calendar::parse_date(date.as_bytes()).map(|_| date)
    }

    /// A text literal beside a date, time or timestamp, read as one.
    pub(super) fn dated(&mut self, bound: Bound, other: &Type, span: Span) -> Option<Bound> {
        let Some(Scalar::Text(text)) = bound.as_literal() else { return Some(bound) };
        if !other.is_temporal() {
            return Some(bound);
        }
        let read = match (cast::dated_literal(text, other), other) {
            (Some(value), _) => Some(value),
            // A moment beside a date: the date is compared at its midnight.
            (None, Type::Date) => cast::dated_literal(text, &Type::Timestamp),
            (None, _) => None,
        };
        if read.is_none() {
            let example = if *other == Type::Time { "'06:30:00'" } else { "'2026-03-01'" };
            let what = format!("'{text}' is not a {other} of the calendar.");
            self.type_error(span, what, &format!("Write it as in {example}."));
        }
        read.map(Bound::literal)
    }

    pub(super) fn comparison(&mut self, op: Binary, a: Bound, b: Bound, span: Span) -> Bound {
        match self.united(a, b, span) {
            Some((a, b, kind)) => self.folded(functions::compare(op, kind, a, b)),
            None => Bound::unknown(),
        }
    }
}
