//! Expressions of SQL as expressions of the language.

use churn_core::{ErrorKind, JoinKind, Result, Scalar, Span, deep};
use churn_expr::ast::{Binary, Cast, Expr, Kind, Sense};
use churn_expr::build::{column, lit};
use churn_expr::text::joined;
use sqlparser::ast::{
    BinaryOperator, CaseWhen, CastKind, Expr as Sql, Ident, NamedWindowDefinition, UnaryOperator,
};

use super::scope::{Found, Scope};
use super::translator::Translator;
use super::windows::WindowItem;
use crate::steps::{Item, Join, Other};

/// What goes before the name of a column of the query around, where such columns may be named.
pub(super) const OUTER: char = '\u{1}';

/// Where expressions stand, and what they need beside the rows.
pub(super) struct Part<'s> {
    /// The columns that they may name.
    pub(super) scope: &'s Scope<'s>,
    /// What the clause is called in messages.
    pub(super) clause: &'static str,
    /// Whether they may name columns of the query around.
    pub(super) takes_outer: bool,
    /// Named windows; none where windows cannot stand.
    pub(super) named_windows: Option<&'s [NamedWindowDefinition]>,
    /// Calls over windows, each of which becomes a column.
    pub(super) windows: Vec<WindowItem>,
    /// What sub-queries give, joined before the expressions are worked out.
    pub(super) lookups: Vec<Lookup>,
}

/// Values of a sub-query that stand beside each row, joined by keys.
pub(super) struct Lookup {
    pub(super) other: Other,
    /// An expression of the rows, and the column of the sub-query that it equals.
    pub(super) keys: Vec<(Expr, String)>,
    /// Whether there must be one row at most.
    pub(super) expects_one: bool,
    pub(super) span: Span,
}

impl<'s> Part<'s> {
    /// Expressions of a clause that takes neither windows nor columns of the query around.
    pub(super) fn new(scope: &'s Scope<'s>, clause: &'static str) -> Part<'s> {
        Part {
            scope,
            clause,
            takes_outer: false,
            named_windows: None,
            windows: Vec::new(),
            lookups: Vec::new(),
        }
    }
}

/// Two operands and an operator.
pub(super) fn binary(op: Binary, a: Expr, b: Expr) -> Expr {
    let span = a.span.to(b.span);
    Expr::new(Kind::Binary(op, Box::new(a), Box::new(b)), span)
}

/// A column of the rows, at a place.
pub(super) fn column_at(name: &str, span: Span) -> Expr {
    Expr { span, ..column(name) }
}

/// A key of a join: the name alone where both sides are columns that are called alike and equal.
pub(super) fn join_key(left: Expr, op: Binary, right: Expr) -> Expr {
    match (&left.kind, &right.kind, op) {
        (Kind::Name(a), Kind::Name(b), Binary::Equal) if a == b => left,
        _ => binary(op, left, right),
    }
}

/// An item of a step: the value under a name, which is left out where it is a column of that name.
pub(super) fn item(value: Expr, name: &str) -> Item {
    match &value.kind {
        Kind::Name(own) if own == name => Item::from(value),
        _ => Item::from(value.named(name)),
    }
}

/// A call of a function of the language.
pub(super) fn call(function: &str, args: Vec<Expr>, span: Span) -> Expr {
    Expr::new(Kind::Call(function.to_owned(), args), span)
}

pub(super) fn not(x: Expr) -> Expr {
    let span = x.span;
    Expr::new(Kind::Not(Box::new(x)), span)
}

pub(super) fn is_null(x: Expr, sense: Sense) -> Expr {
    let span = x.span;
    Expr::new(Kind::IsNull(Box::new(x), sense), span)
}

pub(super) fn literal(value: impl Into<Expr>, span: Span) -> Expr {
    Expr { span, ..lit(value) }
}

/// The first value whose condition is true.
pub(super) fn choice(arms: Vec<(Expr, Expr)>, otherwise: Expr, span: Span) -> Expr {
    Expr::new(Kind::Case(arms, Some(Box::new(otherwise))), span)
}

/// The expression with other names for some columns.
pub(super) fn with_names(expr: &Expr, other: &dyn Fn(&str) -> Option<String>) -> Expr {
    match &expr.kind {
        Kind::Name(name) => match other(name) {
            Some(other) => column_at(&other, expr.span),
            None => expr.clone(),
        },
        _ => expr.map_parts(&mut |part| with_names(part, other)),
    }
}

/// Sense of a predicate that may be negated.
pub(super) fn sense(negated: bool) -> Sense {
    if negated { Sense::Not } else { Sense::Plain }
}

impl Translator<'_, '_> {
    /// Translates an expression.
    pub(super) fn expression(&mut self, sql: &Sql, part: &mut Part<'_>) -> Result<Expr> {
        deep::guarded(|| self.expression_within(sql, part))
    }

    pub(super) fn expressions(&mut self, all: &[Sql], part: &mut Part<'_>) -> Result<Vec<Expr>> {
        all.iter().map(|one| self.expression(one, part)).collect()
    }

    fn boxed(&mut self, sql: &Sql, part: &mut Part<'_>) -> Result<Box<Expr>> {
        self.expression(sql, part).map(Box::new)
    }

    fn expression_within(&mut self, sql: &Sql, part: &mut Part<'_>) -> Result<Expr> {
        let kind = match sql {
            Sql::Identifier(name) => return self.column(None, name, self.places.span(name.span), part),
            Sql::CompoundIdentifier(names) => {
                return match names.as_slice() {
                    [table, name] => self.column(Some(table), name, self.span(sql), part),
                    _ => Err(self.unsupported(
                        "A name of more than two parts",
                        "Write table.column.",
                        self.span(sql),
                    )),
                };
            }
            Sql::Nested(inner) => return self.expression(inner, part),
            Sql::Value(value) => return self.literal(value),
            Sql::TypedString(typed) => return self.typed_literal(typed),
            Sql::Interval(interval) => return self.interval(interval),
            Sql::UnaryOp { op, expr } => return self.unary(op, expr, part),
            Sql::BinaryOp { op: BinaryOperator::And, .. } => return self.chain(sql, Binary::And, part),
            Sql::BinaryOp { op: BinaryOperator::Or, .. } => return self.chain(sql, Binary::Or, part),
            Sql::BinaryOp { left, op, right } => return self.operation(left, op, right, part),
            Sql::IsNull(x) => Kind::IsNull(self.boxed(x, part)?, Sense::Plain),
            Sql::IsNotNull(x) => Kind::IsNull(self.boxed(x, part)?, Sense::Not),
            Sql::IsUnknown(x) => Kind::IsNull(self.boxed(x, part)?, Sense::Plain),
            Sql::IsNotUnknown(x) => Kind::IsNull(self.boxed(x, part)?, Sense::Not),
            Sql::IsTrue(x) => self.is(x, true, Sense::Not, part)?,
            Sql::IsNotTrue(x) => self.is(x, true, Sense::Plain, part)?,
            Sql::IsFalse(x) => self.is(x, false, Sense::Not, part)?,
            Sql::IsNotFalse(x) => self.is(x, false, Sense::Plain, part)?,
            Sql::IsDistinctFrom(a, b) => {
                Kind::IsDistinct(self.boxed(a, part)?, self.boxed(b, part)?, Sense::Plain)
            }
            Sql::IsNotDistinctFrom(a, b) => {
                Kind::IsDistinct(self.boxed(a, part)?, self.boxed(b, part)?, Sense::Not)
            }
            Sql::Between { expr, negated, low, high } => Kind::Between(
                self.boxed(expr, part)?,
                self.boxed(low, part)?,
                self.boxed(high, part)?,
                sense(*negated),
            ),
            Sql::In { .. }
            | Sql::Like { .. }
            | Sql::AnyOp { .. }
            | Sql::AllOp { .. }
            | Sql::Exists { .. } => {
                return self.predicate(sql, part);
            }
            Sql::Subquery(query) => return self.scalar_subquery(query, self.span(sql), part),
            Sql::Case { operand, conditions, else_result, .. } => {
                let otherwise = else_result.as_ref().map(|x| self.boxed(x, part)).transpose()?;
                let of = operand.as_ref().map(|x| self.boxed(x, part)).transpose()?;
                let arms: Result<Vec<_>> = conditions.iter().map(|arm| self.arm(arm, part)).collect();
                match of {
                    Some(of) => Kind::CaseOf(of, arms?, otherwise),
                    None => Kind::Case(arms?, otherwise),
                }
            }
            Sql::Cast { kind: CastKind::Cast, expr, data_type, format: None } => {
                let from = self.expression(expr, part)?;
                return self.cast(from, data_type, self.span(sql));
            }
            _ => return self.special_call(sql, part),
        };
        Ok(Expr::new(kind, self.span(sql)))
    }

    fn arm(
        &mut self,
        CaseWhen { condition, result }: &CaseWhen,
        part: &mut Part<'_>,
    ) -> Result<(Expr, Expr)> {
        Ok((self.expression(condition, part)?, self.expression(result, part)?))
    }

    /// `x is true` and the like: whether x is that value, and not null.
    fn is(&mut self, x: &Sql, value: bool, sense: Sense, part: &mut Part<'_>) -> Result<Kind> {
        let x = self.boxed(x, part)?;
        let value = literal(value, x.span);
        Ok(Kind::IsDistinct(x, Box::new(value), sense))
    }

    fn cast(&mut self, from: Expr, to: &sqlparser::ast::DataType, span: Span) -> Result<Expr> {
        let (to, most) = self.type_of(to, span)?;
        let cast = Expr::new(Kind::Cast(Box::new(Cast { from, to, format: None, lenient: false })), span);
        Ok(match most {
            Some(most) => {
                let most = i64::try_from(most).unwrap_or(i64::MAX);
                call("substring", vec![cast, literal(1, span), literal(most, span)], span)
            }
            None => cast,
        })
    }

    /// The column of a name.
    fn column(&mut self, table: Option<&Ident>, name: &Ident, span: Span, part: &Part<'_>) -> Result<Expr> {
        match part.scope.find(table, name) {
            Found::Here(found) => Ok(column_at(&found, span)),
            Found::Outer(found) if part.takes_outer => Ok(column_at(&format!("{OUTER}{found}"), span)),
            Found::Outer(_) => {
                let what = "A column of the query around a sub-query, in this place,";
                let next =
                    "Compare it with a column of the sub-query in its where: where d.farm = f.farm and …";
                Err(self.unsupported(what, next, span))
            }
            Found::Further => Err(self.unsupported(
                "A column of a query further out than the one around",
                "Select it in the query between.",
                span,
            )),
            Found::Several(tables) => Err(self.ambiguous(name, &tables, span)),
            Found::None => Err(self.unknown_name(table, name, part.scope, span)),
        }
    }

    fn unary(&mut self, op: &UnaryOperator, x: &Sql, part: &mut Part<'_>) -> Result<Expr> {
        let inner = self.expression(x, part)?;
        let span = inner.span;
        Ok(match (op, &inner.kind) {
            (UnaryOperator::Plus, _) => inner,
            (UnaryOperator::Minus, _) => Expr::new(Kind::Negate(Box::new(inner)), span),
            (UnaryOperator::Not, _) => not(inner),
            _ => return Err(self.unsupported(&format!("The sign {op}"), "", span)),
        })
    }

    /// Conditions joined alike: `a and b and c`.
    fn chain(&mut self, sql: &Sql, op: Binary, part: &mut Part<'_>) -> Result<Expr> {
        let operands: Result<Vec<Expr>> =
            operands(sql, op).into_iter().map(|x| self.expression(x, part)).collect();
        let operands = operands?;
        let span = match (operands.first(), operands.last()) {
            (Some(first), Some(last)) => first.span.to(last.span),
            _ => Span::default(),
        };
        Ok(Expr { span, ..joined(op, operands) })
    }

    fn operation(&mut self, a: &Sql, op: &BinaryOperator, b: &Sql, part: &mut Part<'_>) -> Result<Expr> {
        if let (Sql::Tuple(a), Sql::Tuple(b)) = (unnested(a), unnested(b)) {
            return self.tuples(a, op, b, part);
        }
        let (left, right) = (self.expression(a, part)?, self.expression(b, part)?);
        let op = match op {
            BinaryOperator::Plus => Binary::Add,
            BinaryOperator::Minus => Binary::Subtract,
            BinaryOperator::Multiply => Binary::Multiply,
            BinaryOperator::Divide => Binary::Divide,
            BinaryOperator::StringConcat => Binary::Concat,
            BinaryOperator::Modulo => {
                let error = self.unsupported("The operator %", "", left.span.to(right.span));
                return Err(error.next("Write mod(a, b)."));
            }
            other => match comparison(other) {
                Some(op) => op,
                None => {
                    let what = format!("The operator {other}");
                    return Err(self.unsupported(&what, "", left.span.to(right.span)));
                }
            },
        };
        Ok(binary(op, left, right))
    }

    /// `(a, b) = (c, d)`.
    fn tuples(&mut self, a: &[Sql], op: &BinaryOperator, b: &[Sql], part: &mut Part<'_>) -> Result<Expr> {
        let span = a.first().map_or_else(Span::default, |x| self.span(x));
        if !matches!(op, BinaryOperator::Eq | BinaryOperator::NotEq) {
            return Err(self.unsupported("An order of rows of values", "Compare one after the other.", span));
        }
        if a.len() != b.len() {
            return Err(self.wrong(ErrorKind::Check, "The two rows of values have different lengths.", span));
        }
        let pairs = a
            .iter()
            .zip(b)
            .map(|(a, b)| Ok(binary(Binary::Equal, self.expression(a, part)?, self.expression(b, part)?)));
        let equal = joined(Binary::And, pairs.collect::<Result<_>>()?);
        Ok(if *op == BinaryOperator::NotEq { not(equal) } else { equal })
    }

    /// Joins what the sub-queries of a clause give beside the rows.
    pub(super) fn look_up(&mut self, rows: &mut super::rows::Rows, lookups: Vec<Lookup>) -> Result<()> {
        for Lookup { other, keys, expects_one, span } in lookups {
            let mut join = Join::new(other, JoinKind::Left);
            for (outer, inner) in keys {
                join = join.on(join_key(outer, Binary::Equal, column_at(&inner, span)));
            }
            self.push(rows, if expects_one { join.expect_one() } else { join }, span)?;
        }
        Ok(())
    }

    /// The place of the first aggregate in an expression.
    fn first_aggregate(&self, expr: &Expr) -> Option<Span> {
        if !self.checker.environment.has_aggregate(expr) {
            return None;
        }
        let mut found = None;
        expr.for_each_part(&mut |part| {
            found = found.or_else(|| deep::guarded(|| self.first_aggregate(part)))
        });
        found.or(Some(expr.span))
    }

    /// Refuses what stands in an expression of rows and cannot.
    pub(super) fn without_aggregates(&self, expr: &Expr, clause: &str) -> Result<()> {
        let Some(span) = self.first_aggregate(expr) else { return Ok(()) };
        let error = self.wrong(ErrorKind::Check, format!("An aggregate cannot stand in {clause}."), span);
        Err(error.next("Conditions on groups stand in having: having sum(litres) > 1000."))
    }
}

/// The operands of a chain of conditions.
pub(super) fn operands(sql: &Sql, of: Binary) -> Vec<&Sql> {
    let wanted = if of == Binary::And { BinaryOperator::And } else { BinaryOperator::Or };
    let (mut found, mut open) = (Vec::new(), vec![sql]);
    while let Some(next) = open.pop() {
        match next {
            Sql::BinaryOp { left, op, right } if *op == wanted => open.extend([&**right, &**left]),
            Sql::Nested(inner) if matches!(unnested(inner), Sql::BinaryOp { op, .. } if *op == wanted) => {
                open.push(inner)
            }
            other => found.push(other),
        }
    }
    found
}

/// An expression without the parentheses around it.
pub(super) fn unnested(sql: &Sql) -> &Sql {
    let mut inner = sql;
    while let Sql::Nested(next) = inner {
        inner = next;
    }
    inner
}

/// A comparison.
pub(super) fn comparison(op: &BinaryOperator) -> Option<Binary> {
    Some(match op {
        BinaryOperator::Eq => Binary::Equal,
        BinaryOperator::NotEq => Binary::NotEqual,
        BinaryOperator::Lt => Binary::Less,
        BinaryOperator::LtEq => Binary::LessEqual,
        BinaryOperator::Gt => Binary::Greater,
        BinaryOperator::GtEq => Binary::GreaterEqual,
        _ => return None,
    })
}

/// The comparison with its sides exchanged.
pub(super) fn turned(op: Binary) -> Binary {
    match op {
        Binary::Less => Binary::Greater,
        Binary::LessEqual => Binary::GreaterEqual,
        Binary::Greater => Binary::Less,
        Binary::GreaterEqual => Binary::LessEqual,
        op => op,
    }
}

/// A null of no type.
pub(super) fn null(span: Span) -> Expr {
    Expr::new(Kind::Literal(Scalar::Null), span)
}
