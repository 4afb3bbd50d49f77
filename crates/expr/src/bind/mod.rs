//! Names to columns, functions to kernels, silent conversions written out.
//!
//! A mistake is noted with its place and gives an expression of unknown type, which fits everywhere, so that
//! one check finds them all without one mistake causing messages about the next.

mod calls;
mod comparison;
mod grouping;
mod locals;
mod operators;
mod tables;
mod window;

use std::sync::Arc;

use churn_core::names::name;
use churn_core::{ColumnId, Error, ErrorKind, Field, Scalar, SourceText, Span, Type, deep};

use calls::complaint_error;
pub use window::WindowPlace;

use super::{Bound, Node, aggregates, cast, compare, fold, pattern};
use crate::ast::{Binary, Expr, Kind, Sense};
use crate::expand::{Environment, unknown_column, with_sets};
use crate::functions::{self, Arguments};

/// Gives out column ids.
#[derive(Clone, Debug, Default)]
pub struct Ids(ColumnId);

impl Ids {
    /// A number that was not given before.
    pub fn fresh(&mut self) -> ColumnId {
        self.0 += 1;
        self.0
    }
}

/// An aggregate of a `group`, `total` or `per`.
#[derive(Clone)]
pub struct AggregateCall {
    /// The column it makes.
    pub field: Field,
    /// As it is written.
    pub text: String,
    /// What computes it.
    pub made: aggregates::Made,
    /// The condition of `where (…)`.
    pub only: Option<Bound>,
}

/// An aggregate beside each row, with the keys of the row's group.
#[derive(Clone)]
pub struct PerCall {
    /// The columns by whose values rows are grouped.
    pub keys: Vec<ColumnId>,
    /// The aggregate.
    pub call: AggregateCall,
}

/// What a step sets beside its rows before its expressions are evaluated.
#[derive(Default)]
pub struct Beside {
    /// Aggregates of each row's group.
    pub aggregates: Vec<PerCall>,
    /// Whether a value is among those of a table.
    pub members: Vec<MemberOf>,
}

/// Whether a value of each row is among those of a table of one column.
#[derive(Clone)]
pub struct MemberOf {
    /// The value, in the type of both.
    pub value: Bound,
    /// The table's name, and where it is written.
    pub table: (String, Span),
    /// The column that is true in rows whose value is there, and null in others.
    pub found: Field,
}

/// What aggregates may do where an expression stands.
#[allow(missing_docs, reason = "each variant's own line tells what its fields are")]
pub enum Place<'a> {
    /// None may stand here, not even with `per`; the text says why.
    NoAggregates(&'static str),
    /// One with `per` may.
    Rows(&'a mut Beside),
    /// Bare ones may, and window functions, each with a frame.
    Window(&'a mut WindowPlace),
    /// Bare ones may, and beside them only the keys.
    Groups { keys: &'a [Field], calls: &'a mut Vec<AggregateCall> },
}

/// Binds the expressions of one step.
pub struct Binder<'a> {
    /// The text that places in errors point into.
    pub source: &'a Arc<SourceText>,
    /// Parameters and defined functions.
    pub environment: &'a Environment,
    /// The columns that names stand for.
    pub fields: &'a [Field],
    /// Where numbers of new columns come from.
    pub ids: &'a mut Ids,
    /// The mistakes found so far.
    pub errors: &'a mut Vec<Error>,
    /// What should be known before the run.
    pub notes: &'a mut Vec<String>,
    /// Whether a constant was worked out.
    pub folded: &'a mut bool,
    /// What the locals around the expression stand for, by their numbers.
    pub locals: Vec<(u64, Bound)>,
}

impl Binder<'_> {
    /// Binds an expression; what is wrong with it is noted.
    pub fn bind(&mut self, expr: &Expr, place: &mut Place<'_>) -> Bound {
        let expanded = self.environment.expand(expr, self.source);
        match expanded.and_then(|e| with_sets(&e, self.fields, &[], self.source)) {
            Ok(expanded) => self.expression(&expanded, place),
            Err(error) => {
                self.errors.push(error);
                Bound::unknown()
            }
        }
    }

    /// Binds a condition.
    pub fn condition(&mut self, expr: &Expr, place: &mut Place<'_>) -> Bound {
        let bound = self.bind(expr, place);
        if matches!(bound.kind, Type::Bool | Type::Unknown) {
            return bound;
        }
        if bound.kind == Type::Null {
            return cast::silently(bound, &Type::Bool).unwrap_or_else(Bound::unknown);
        }
        let what = format!("A condition is needed here, and this is {}.", bound.kind);
        self.wrong(
            expr.span,
            Error::new(ErrorKind::Type, what).next("Compare it with something: litres > 0."),
        )
    }

    /// The value of an expression over no columns, which may be an interval; what is wrong with it is noted.
    pub fn constant(&mut self, expr: &Expr) -> Option<Scalar> {
        let bound = match self.environment.expand(expr, self.source) {
            Ok(expanded) => {
                self.expression(&expanded, &mut Place::NoAggregates("A constant is no aggregate."))
            }
            Err(error) => {
                self.errors.push(error);
                return None;
            }
        };
        let folded = self.folded(bound);
        match folded.as_literal() {
            Some(value) => Some(value.clone()),
            None if folded.kind == Type::Unknown => None,
            None => {
                let error = Error::new(ErrorKind::Check, "Here stands a constant, and this depends on rows.");
                self.wrong(expr.span, error);
                None
            }
        }
    }

    fn folded(&mut self, bound: Bound) -> Bound {
        let was_literal = bound.as_literal().is_some();
        let folded = fold::constant(bound);
        *self.folded |= !was_literal && folded.as_literal().is_some();
        folded
    }

    fn wrong(&mut self, span: Span, error: Error) -> Bound {
        self.errors.push(error.at(self.source, span));
        Bound::unknown()
    }

    fn type_error(&mut self, span: Span, what: String, next: &str) -> Bound {
        let error = Error::new(ErrorKind::Type, what);
        self.wrong(span, if next.is_empty() { error } else { error.next(next) })
    }

    fn expression(&mut self, expr: &Expr, place: &mut Place<'_>) -> Bound {
        deep::guarded(|| self.expression_within(expr, place))
    }

    fn expression_within(&mut self, expr: &Expr, place: &mut Place<'_>) -> Bound {
        let span = expr.span;
        let bound = match &expr.kind {
            Kind::Literal(value) => Bound::literal(value.clone()),
            Kind::Name(column) => return self.column(column, span, place),
            Kind::Parameter(parameter) => {
                return self.wrong(
                    span,
                    Error::new(ErrorKind::Name, format!("There is no parameter ${parameter}.")),
                );
            }
            Kind::Each(set) => {
                let error = Error::new(ErrorKind::Check, format!("{set} cannot stand here."));
                return self.wrong(
                    span,
                    error
                        .why("A set makes one output for each column; here there is one.")
                        .next("Name the column."),
                );
            }
            Kind::Negate(x) => {
                let x = self.expression(x, place);
                self.negate(x, span)
            }
            Kind::Not(x) => {
                let inner = self.expression(x, place);
                match self.wanted(inner, &Type::Bool, x.span, "not") {
                    Some(x) => functions::not(x),
                    None => Bound::unknown(),
                }
            }
            Kind::Binary(op @ (Binary::And | Binary::Or), a, b) => {
                let (left, right) = (self.expression(a, place), self.expression(b, place));
                let left = self.wanted(left, &Type::Bool, a.span, op.symbol());
                let right = self.wanted(right, &Type::Bool, b.span, op.symbol());
                let (Some(left), Some(right)) = (left, right) else { return Bound::unknown() };
                let (left, right) = (Box::new(left), Box::new(right));
                let node = if *op == Binary::And { Node::And(left, right) } else { Node::Or(left, right) };
                Bound { node, kind: Type::Bool }
            }
            Kind::Binary(op, a, b) => {
                let left = self.expression(a, place);
                let right =
                    if op.is_comparison() { self.compared(b, place) } else { self.expression(b, place) };
                if left.kind == Type::Unknown || right.kind == Type::Unknown {
                    return Bound::unknown();
                }
                if op.is_comparison() {
                    self.compared_with_null(*op, (a, &left), (b, &right));
                    self.comparison(*op, left, right, span)
                } else {
                    self.arithmetic(*op, left, right, span)
                }
            }
            Kind::Between(x, low, high, sense) => {
                let value = self.expression(x, place);
                let low = self.expression(low, place);
                let high = self.expression(high, place);
                let both = Bound::using(value, |value| {
                    let above = self.comparison(Binary::GreaterEqual, value.clone(), low, span);
                    let below = self.comparison(Binary::LessEqual, value, high, span);
                    Bound { node: Node::And(Box::new(above), Box::new(below)), kind: Type::Bool }
                });
                negated(both, *sense)
            }
            Kind::In(x, list, sense) => {
                let value = self.expression(x, place);
                let within = Bound::using(value, |value| self.within(&value, list, place));
                negated(within, *sense)
            }
            Kind::InTable(x, table, sense) => {
                let within = self.in_table(x, table, span, place);
                negated(within, *sense)
            }
            Kind::TableValue(table, column) => return self.table_value(table, column, span),
            Kind::Like(x, wanted, escape, sense) => {
                let values = vec![self.expression(x, place), self.compared(wanted, place)];
                let args = Arguments { name: "like", usage: "x like 'F%'", values };
                let spans = [x.span, wanted.span];
                let like = self.complained(functions::like(args, *escape), span, &spans);
                negated(like, *sense)
            }
            Kind::IsNull(x, sense) => negated(functions::is_null(self.expression(x, place)), *sense),
            Kind::IsDistinct(a, b, sense) => {
                let (left, right) = (self.expression(a, place), self.expression(b, place));
                match self.united(left, right, span) {
                    None => Bound::unknown(),
                    Some((left, right, kind)) => {
                        let args = Arguments {
                            name: "is distinct from",
                            usage: "a is distinct from b",
                            values: vec![left, right],
                        };
                        let distinct = args.call(Type::Bool, move |args, rows, _| {
                            let (a, b) = (functions::arg(args, 0), functions::arg(args, 1));
                            Ok(compare::is_distinct(&kind, &a, &b, rows))
                        });
                        negated(distinct, *sense)
                    }
                }
            }
            Kind::Let(local, value, body) => return self.let_in(local, value, body, place),
            Kind::Local(local) => return self.local(local, span),
            Kind::Case(arms, otherwise) => return self.case(None, arms, otherwise.as_deref(), place),
            Kind::CaseOf(x, arms, otherwise) => {
                let value = self.expression(x, place);
                return Bound::using(value, |value| {
                    self.case(Some(&value), arms, otherwise.as_deref(), place)
                });
            }
            Kind::Call(function, args) => return self.call(function, args, span, place),
            Kind::Cast(inner) => {
                let from = self.expression(&inner.from, place);
                self.cast(from, inner, span)
            }
            Kind::Where(..) => return self.aggregate(expr, place),
            Kind::Over(call, frame) => return self.over(call, frame, span, place),
            Kind::Per(aggregate, keys) => return self.per(aggregate, keys, span, place),
        };
        self.folded(bound)
    }

    fn column(&mut self, column: &str, span: Span, place: &Place<'_>) -> Bound {
        if let Place::Groups { keys, .. } = place {
            if let Some(key) = keys.iter().find(|f| f.name == column) {
                return Bound::column(key);
            }
            if self.fields.iter().any(|f| f.name == column) {
                let what = format!("{} is neither a key nor inside an aggregate.", name(column));
                let error = Error::new(ErrorKind::Check, what)
                    .why("A group has many rows, and so many values of it.")
                    .next(format!(
                        "Take one of them, such as max({0}) or first({0}), or make it a key.",
                        name(column)
                    ));
                return self.wrong(span, error);
            }
        }
        match self.fields.iter().find(|f| f.name == column) {
            Some(field) => Bound::column(field),
            None => {
                let mut error = unknown_column(column, self.fields, self.source, span);
                if self.environment.functions.names().any(|function| function == column) {
                    error = error.next(format!("{column} is a function: write {column}(…)."));
                }
                self.wrong(span, error)
            }
        }
    }

    /// The value turned silently into a type, or a note.
    fn wanted(&mut self, bound: Bound, kind: &Type, span: Span, by: &str) -> Option<Bound> {
        if bound.kind == Type::Unknown {
            return None;
        }
        let found = bound.kind.clone();
        let converted = cast::silently(bound, kind);
        if converted.is_none() {
            let need = if *kind == Type::Bool { "conditions".to_owned() } else { kind.to_string() };
            self.type_error(span, format!("{by} needs {need}, and this is {found}."), "");
        }
        converted
    }

    /// Binds a case: of conditions, or of what a value is compared with.
    fn case(
        &mut self,
        of: Option<&Bound>,
        arms: &[(Expr, Expr)],
        otherwise: Option<&Expr>,
        place: &mut Place<'_>,
    ) -> Bound {
        let mut conditions = Vec::new();
        let mut values = Vec::new();
        for (test, value) in arms {
            let bound = match of {
                None => self.expression(test, place),
                Some(of) => {
                    let other = self.compared(test, place);
                    self.comparison(Binary::Equal, of.clone(), other, test.span)
                }
            };
            conditions.push(self.wanted(bound, &Type::Bool, test.span, "when"));
            values.push((self.expression(value, place), value.span));
        }
        if let Some(value) = otherwise {
            values.push((self.expression(value, place), value.span));
        }
        let spans: Vec<Span> = values.iter().map(|(_, span)| *span).collect();
        let mut args = Arguments {
            name: "case",
            usage: "case when c then a else b end",
            values: values.into_iter().map(|(v, _)| v).collect(),
        };
        if args.values.iter().any(|v| v.kind == Type::Unknown) {
            return Bound::unknown();
        }
        let kind = match args.common_type() {
            Ok(kind) => kind,
            Err(complaint) => {
                let error = complaint_error(complaint, spans.first().copied().unwrap_or_default(), &spans);
                let place = spans.first().copied().unwrap_or_default();
                return self.wrong(place, error(self.source));
            }
        };
        let Some(conditions) = conditions.into_iter().collect::<Option<Vec<Bound>>>() else {
            return Bound::unknown();
        };
        let last = if otherwise.is_some() { args.values.pop().map(Box::new) } else { None };
        Bound { node: Node::Case(conditions.into_iter().zip(args.values).collect(), last), kind }
    }

    fn cast(&mut self, from: Bound, cast: &crate::ast::Cast, span: Span) -> Bound {
        if from.kind == Type::Unknown {
            return from;
        }
        if !cast::is_possible(&from.kind, &cast.to) {
            let what = format!("{} cannot be cast to {}.", from.kind, cast.to);
            return self.type_error(span, what, "");
        }
        if let Some(format) = &cast.format {
            let dated = |kind: &Type| kind.is_temporal();
            let fits =
                (from.kind == Type::Text && dated(&cast.to)) || (cast.to == Type::Text && dated(&from.kind));
            if !fits {
                let what = format!("A format does not go with a cast from {} to {}.", from.kind, cast.to);
                return self.type_error(span, what, "It goes between text and date, time or timestamp.");
            }
            if let Some(fault) = pattern::fault(format) {
                let what = format!("'{format}' is not a pattern of dates.");
                return self.type_error(span, what, &format!("It cannot be used: {fault}."));
            }
        }
        cast::explicitly(from, &cast.to, cast.format.clone(), cast.lenient)
    }
}

fn negated(bound: Bound, sense: Sense) -> Bound {
    if sense == Sense::Not && bound.kind != Type::Unknown { functions::not(bound) } else { bound }
}
