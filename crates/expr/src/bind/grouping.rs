//! Aggregates: bare ones of a group, and those that stand beside each row.

use churn_core::{Error, ErrorKind, Field, Span, Type};

use super::{AggregateCall, Beside, Binder, PerCall, Place, complaint_error};
use crate::Bound;
use crate::ast::{ColumnRef, Expr, Keys, Kind};
use crate::expand::columns_of_list;

/// Aggregates of values of any type.
const OF_ANY: [&str; 3] = ["count", "first", "last"];

impl Binder<'_> {
    /// Binds a bare aggregate, narrowed or not.
    pub(super) fn aggregate(&mut self, expr: &Expr, place: &mut Place<'_>) -> Bound {
        match place {
            Place::Groups { .. } => {
                let Some(call) = self.aggregate_call(expr) else { return Bound::unknown() };
                let Place::Groups { calls, .. } = place else { return Bound::unknown() };
                if let Some(same) = calls.iter().find(|c| c.text == call.text) {
                    return Bound::column(&same.field);
                }
                let bound = Bound::column(&call.field);
                calls.push(call);
                bound
            }
            Place::Window(_) => self.window_call(expr, None, expr.span, place),
            _ if !self.is_aggregate(expr) => {
                self.aggregate_call(expr);
                Bound::unknown()
            }
            Place::Rows(_) => {
                let what =
                    format!("{expr} is an aggregate of many rows, and here each row has its own value.");
                let error = Error::new(ErrorKind::Check, what)
                    .next(format!("Say of which rows: {expr} per farm (any column), or {expr} per table."));
                self.wrong(expr.span, error)
            }
            Place::NoAggregates(why) => {
                let error = Error::new(ErrorKind::Check, format!("{expr} cannot stand here.")).why(*why);
                self.wrong(expr.span, error)
            }
        }
    }

    /// The parts of an aggregate: its arguments over the rows, and its condition.
    pub(super) fn aggregate_call(&mut self, expr: &Expr) -> Option<AggregateCall> {
        let (call, only) = match &expr.kind {
            Kind::Where(call, only) => (&**call, Some(&**only)),
            _ => (expr, None),
        };
        let Kind::Call(function, args) = &call.kind else {
            let error = Error::new(ErrorKind::Check, "where (…) narrows an aggregate, and this is none.");
            self.wrong(call.span, error.next("Write it right after one: sum(litres) where (grade = 'A')."));
            return None;
        };
        let Some(aggregate) = self.environment.functions.aggregate(function) else {
            let error = Error::new(ErrorKind::Check, format!("{function} is not an aggregate."));
            self.wrong(call.span, error.next("where (…) and per stand after one, such as sum(litres)."));
            return None;
        };
        let mut inner = Place::NoAggregates("Aggregates do not nest.");
        let values: Vec<Bound> = args.iter().map(|arg| self.expression(arg, &mut inner)).collect();
        let only = only.map(|condition| {
            let bound = self.expression(condition, &mut inner);
            self.wanted(bound, &Type::Bool, condition.span, "where").unwrap_or_else(Bound::unknown)
        });
        let takes_intervals = aggregate.is_own || OF_ANY.contains(&aggregate.name);
        let is_interval = |v: &Bound| v.kind == Type::Interval && !takes_intervals;
        if let Some(i) = values.iter().position(is_interval) {
            let at = args.get(i).map_or(expr.span, |a| a.span);
            self.type_error(at, format!("{} takes no interval.", aggregate.name), "");
            return None;
        }
        let unknown = values.iter().chain(&only).any(|v| v.kind == Type::Unknown);
        let spans: Vec<Span> = args.iter().map(|a| a.span).collect();
        if unknown {
            return None;
        }
        match aggregate.bound(values) {
            Ok(made) => {
                let field = Field::new(self.ids.fresh(), expr.to_string(), made.kind.clone());
                Some(AggregateCall { field, text: expr.to_string(), made, only })
            }
            Err(complaint) => {
                let error = complaint_error(complaint, expr.span, &spans)(self.source);
                self.errors.push(error);
                None
            }
        }
    }

    pub(super) fn per(&mut self, aggregate: &Expr, keys: &Keys, span: Span, place: &mut Place<'_>) -> Bound {
        let Place::Rows(_) = place else {
            let why = match place {
                Place::NoAggregates(why) => why,
                _ => "The step has groups of its own.",
            };
            let error = Error::new(ErrorKind::Check, "per cannot stand here.").why(why);
            return self.wrong(span, error.next("Work it out in an add step before."));
        };
        let columns: &[ColumnRef] = if let Keys::Columns(columns) = keys { columns } else { &[] };
        let found = match columns_of_list(columns, self.fields, self.source) {
            Ok(found) => found.iter().map(|f| f.id).collect::<Vec<_>>(),
            Err(error) => {
                self.errors.push(error);
                return Bound::unknown();
            }
        };
        let Some(mut call) = self.aggregate_call(aggregate) else { return Bound::unknown() };
        let Place::Rows(Beside { aggregates, .. }) = place else { return Bound::unknown() };
        call.text = format!("{} per {keys}", call.text);
        if let Some(same) = aggregates.iter().find(|p| p.call.text == call.text) {
            return Bound::column(&same.call.field);
        }
        let bound = Bound::column(&call.field);
        aggregates.push(PerCall { keys: found, call });
        bound
    }

    /// Whether it is a call of an aggregate, narrowed or not.
    fn is_aggregate(&self, expr: &Expr) -> bool {
        match &expr.kind {
            Kind::Call(function, _) => self.environment.functions.has_aggregate(function),
            Kind::Where(inner, _) => self.is_aggregate(inner),
            _ => false,
        }
    }
}
