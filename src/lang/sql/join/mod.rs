//! Joins: their kinds, their conditions, and the columns that come out.
//!
//! The steps of the language set the columns of an equality once, under the name of the left one. In SQL both are there. For
//! rows that match they hold the same, so that one stands for both; where a side may be missing, a column that the query names
//! is copied before the join.

mod keys;
mod names;
mod numbers;

use churn_core::{ErrorKind, JoinKind, Result, Span};
use churn_expr::ast::{Binary, Expr, Kind, Sense};
use sqlparser::ast::{Expr as Sql, Ident, JoinConstraint, JoinOperator, ObjectName};

use super::expression::{Part, binary, comparison, operands, turned, unnested};
use super::from::Joined;
use super::rows::Rows;
use super::scope::{Found, Scope, Visible};
use super::translator::Translator;
use names::{beside, called_back, renamed, with_new_names};

/// A condition of a join.
struct Condition {
    expr: Expr,
    /// Whether it names columns of the left side, and of the right side.
    sides: (bool, bool),
}

/// An equality or another comparison of the two sides.
#[derive(Clone)]

struct Key {
    left: Expr,
    op: Binary,
    right: Expr,
}

impl Key {
    /// The columns that are equal, where both sides are columns.
    fn columns(&self) -> Option<(&str, &str)> {
        match (self.left_column(), &self.right.kind) {
            (Some(left), Kind::Name(right)) => Some((left, right)),
            _ => None,
        }
    }

    /// The column of the left side that is equal to something of the right side.
    fn left_column(&self) -> Option<&str> {
        match (&self.left.kind, self.op) {
            (Kind::Name(left), Binary::Equal) => Some(left),
            _ => None,
        }
    }
}

/// What becomes of the two sides before they are joined.
struct Sides {
    left: Joined,
    right: Joined,
    kind: JoinKind,
    /// The place of the condition.
    at: Span,
    /// The place of the condition in the query, whose names are not counted.
    within: Span,
    /// Whether the keys are named by `using`, so that they mean both sides where no table stands before them.
    is_using: bool,
}

impl Translator<'_, '_> {
    pub(in crate::lang::sql) fn join<'q>(
        &mut self,
        left: Joined,
        right: Joined,
        operator: &'q JoinOperator,
        conjuncts: &mut Vec<&'q Sql>,
        span: Span,
    ) -> Result<Joined> {
        let (kind, constraint) = match operator {
            JoinOperator::Join(constraint) | JoinOperator::Inner(constraint) => (JoinKind::Inner, constraint),
            JoinOperator::Left(constraint) | JoinOperator::LeftOuter(constraint) => {
                (JoinKind::Left, constraint)
            }
            JoinOperator::Right(constraint) | JoinOperator::RightOuter(constraint) => {
                (JoinKind::Right, constraint)
            }
            JoinOperator::FullOuter(constraint) => (JoinKind::Full, constraint),
            JoinOperator::CrossJoin(JoinConstraint::None) => return self.cross(left, right, conjuncts, span),
            _ => {
                let next = "Write join, left join, right join, full join or cross join; exists and in keep rows that match.";
                return Err(self.unsupported("This kind of join", next, span));
            }
        };
        let is_using = !matches!(constraint, JoinConstraint::On(_));
        let sides = |within: Span| Sides { left, right, kind, at: span, within, is_using };
        match constraint {
            JoinConstraint::On(condition) => {
                let within = self.places.within(sqlparser::ast::Spanned::span(condition)).unwrap_or_default();
                self.join_on(sides(within), &operands(condition, Binary::And))
            }
            JoinConstraint::Using(names) => {
                let names = self.using(names, span)?;
                self.join_using(sides(Span::default()), &names)
            }
            JoinConstraint::Natural => {
                let sides = sides(Span::default());
                let shared = |v: &&Visible| sides.right.scope.visible.iter().any(|w| w.name == v.name);
                let names: Vec<Ident> = sides
                    .left
                    .scope
                    .visible
                    .iter()
                    .filter(shared)
                    .map(|v| Ident::with_quote('"', &v.name))
                    .collect();
                if names.is_empty() {
                    let what = "The two tables of this natural join have no column of the same name.";
                    return Err(self.wrong(ErrorKind::Check, what, span));
                }
                self.join_using(sides, &names)
            }
            JoinConstraint::UsingAlias(..) => {
                Err(self.unsupported("using (…) as", "Leave the name out.", span))
            }
            JoinConstraint::None => {
                let error = self.wrong(ErrorKind::Syntax, "A join needs a condition.", span);
                Err(error
                    .next("Write on d.farm = f.farm, or using (farm); for all pairs of rows, cross join."))
            }
        }
    }

    fn using(&self, names: &[ObjectName], span: Span) -> Result<Vec<Ident>> {
        let ident = |name: &ObjectName| match name.0.as_slice() {
            [only] => only.as_ident().cloned(),
            _ => None,
        };
        let names: Option<Vec<Ident>> = names.iter().map(ident).collect();
        names.ok_or_else(|| self.wrong(ErrorKind::Syntax, "In using stand names of columns alone.", span))
    }

    /// All pairs of rows; those that a condition of `where` equates are joined by it.
    pub(in crate::lang::sql) fn cross(
        &mut self,
        left: Joined,
        right: Joined,
        conjuncts: &mut Vec<&Sql>,
        span: Span,
    ) -> Result<Joined> {
        let is_equality = |sql: &&Sql| match unnested(sql) {
            Sql::BinaryOp { left: a, op, right: b } => {
                let sides = [a, b].map(|x| (self.is_of(x, &left.scope), self.is_of(x, &right.scope)));
                comparison(op) == Some(Binary::Equal)
                    && matches!(sides, [(true, false), (false, true)] | [(false, true), (true, false)])
            }
            _ => false,
        };
        let (keys, others): (Vec<&Sql>, Vec<&Sql>) = conjuncts.iter().copied().partition(is_equality);
        *conjuncts = others;
        let within = match (keys.first(), keys.last()) {
            (Some(first), Some(last)) => {
                let of =
                    |sql: &Sql| self.places.within(sqlparser::ast::Spanned::span(sql)).unwrap_or_default();
                of(first).to(of(last))
            }
            _ => Span::default(),
        };
        let within = if keys.len() == 1 { within } else { Span::default() };
        self.join_on(Sides { left, right, kind: JoinKind::Inner, at: span, within, is_using: false }, &keys)
    }

    /// Whether an expression is a column of a table, or of tables that are joined.
    fn is_of(&self, sql: &Sql, scope: &Scope<'_>) -> bool {
        let found = match unnested(sql) {
            Sql::Identifier(name) => scope.find(None, name),
            Sql::CompoundIdentifier(names) => match names.as_slice() {
                [table, name] => scope.find(Some(table), name),
                _ => return false,
            },
            _ => return false,
        };
        !matches!(found, Found::None)
    }

    /// Joins by conditions: `on a.farm = b.farm and a.day >= b.valid_from`.
    fn join_on(&mut self, mut sides: Sides, conditions: &[&Sql]) -> Result<Joined> {
        let new_names = self.new_names(&sides);
        let right = renamed(&sides.right.scope, &new_names);
        let both = beside(&sides.left.scope, &right);
        let (mut keys, mut rest) = (Vec::new(), Vec::new());
        for sql in conditions {
            let mut part = Part::new(&both, "on");
            let expr = self.expression(sql, &mut part)?;
            self.without_aggregates(&expr, "on")?;
            if let Some(lookup) = part.lookups.first() {
                let next = "Put it behind where, or join a sub-query.";
                return Err(self.unsupported("A sub-query in on", next, lookup.span));
            }
            for expr in comparisons(expr) {
                let condition = self.sided(expr, &sides.left.rows);
                match self.key_of(&condition, &sides.left.rows) {
                    Some(key) => keys.push(key),
                    None => rest.push(condition),
                }
            }
        }
        let has_equality = keys.iter().any(|key: &Key| key.op == Binary::Equal);
        let is_simple = match sides.kind {
            JoinKind::Inner => true,
            JoinKind::Left => has_equality && rest.iter().all(|c| c.sides == (false, true)),
            JoinKind::Right => {
                are_apart(&keys) && has_equality && rest.iter().all(|c| c.sides == (true, false))
            }
            _ => are_apart(&keys) && has_equality && rest.is_empty(),
        };
        if !is_simple {
            return self.join_by_numbers(sides, new_names, keys, rest);
        }
        let rest: Vec<Expr> = rest.into_iter().map(|condition| condition.expr).collect();
        match sides.kind {
            JoinKind::Inner => {
                let mut named = Vec::new();
                rest.iter().for_each(|expr| expr.names(&mut named));
                let (mut joined, held) = self.join_by_keys(sides, new_names, keys, &named)?;
                let rest = rest.iter().map(|expr| with_new_names(expr, &held)).collect();
                self.filter(&mut joined.rows, rest)?;
                return Ok(joined);
            }
            // Rows of the side that is looked up in, before they are.
            JoinKind::Right => self.filter(&mut sides.left.rows, rest)?,
            _ => {
                let own = rest.iter().map(|expr| called_back(expr, &new_names)).collect();
                self.filter(&mut sides.right.rows, own)?;
            }
        }
        self.join_by_keys(sides, new_names, keys, &[]).map(|(joined, _)| joined)
    }

    fn sided(&self, expr: Expr, left: &Rows) -> Condition {
        let mut names = Vec::new();
        expr.names(&mut names);
        let sides = (names.iter().any(|name| left.has(name)), names.iter().any(|name| !left.has(name)));
        Condition { expr, sides }
    }

    /// A comparison of an expression of the left side with one of the right side.
    fn key_of(&self, condition: &Condition, left: &Rows) -> Option<Key> {
        let Kind::Binary(op, a, b) = &condition.expr.kind else { return None };
        if !op.is_comparison() || *op == Binary::NotEqual {
            return None;
        }
        match (self.sided((**a).clone(), left).sides, self.sided((**b).clone(), left).sides) {
            ((true, false), (false, true)) => {
                Some(Key { left: (**a).clone(), op: *op, right: (**b).clone() })
            }
            ((false, true), (true, false)) => {
                Some(Key { left: (**b).clone(), op: turned(*op), right: (**a).clone() })
            }
            _ => None,
        }
    }
}

/// Whether no column of either side is in two equalities.
fn are_apart(keys: &[Key]) -> bool {
    let is_alone = |(i, key): (usize, &Key)| {
        !keys.iter().skip(i + 1).any(|other| {
            (key.left_column().is_some() && key.left_column() == other.left_column())
                || (key.columns().is_some() && key.columns().map(|c| c.1) == other.columns().map(|c| c.1))
        })
    };
    keys.iter().enumerate().all(is_alone)
}

/// The comparisons that a condition stands for: `between` is two.
fn comparisons(expr: Expr) -> Vec<Expr> {
    match expr.kind {
        Kind::Between(x, low, high, Sense::Plain) => {
            vec![binary(Binary::GreaterEqual, (*x).clone(), *low), binary(Binary::LessEqual, *x, *high)]
        }
        kind => vec![Expr { kind, span: expr.span }],
    }
}
