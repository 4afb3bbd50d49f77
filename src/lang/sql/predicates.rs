//! Predicates: `in`, `like`, `exists`, and comparisons with `any` and `all`.

use churn_core::{ErrorKind, Result, Scalar};
use churn_expr::ast::{Binary, Expr, Kind};
use churn_expr::text::joined;
use sqlparser::ast::{Expr as Sql, InTarget};

use super::expression::{Part, binary, comparison, not, sense, unnested};
use super::translator::Translator;

impl Translator<'_, '_> {
    pub(super) fn predicate(&mut self, sql: &Sql, part: &mut Part<'_>) -> Result<Expr> {
        let span = self.span(sql);
        match sql {
            Sql::In { expr, target: InTarget::List(list), negated, global: false } => {
                self.in_list(expr, list, *negated, part)
            }
            Sql::In { expr, target: InTarget::Subquery(query), negated, global: false } => {
                self.in_subquery(expr, query, *negated, span, part)
            }
            Sql::In { .. } => {
                Err(self.unsupported("in with this on its right", "A list in parentheses, or a query.", span))
            }
            Sql::Like { negated, any: false, expr, pattern, escape_char } => {
                let x = Box::new(self.expression(expr, part)?);
                let pattern = Box::new(self.expression(pattern, part)?);
                let escape = match escape_char {
                    None => None,
                    Some(escape) => Some(self.escape(escape, part)?),
                };
                Ok(Expr::new(Kind::Like(x, pattern, escape, sense(*negated)), span))
            }
            Sql::AnyOp { left, compare_op, right, .. } => {
                self.quantified(left, compare_op, right, true, part)
            }
            Sql::AllOp { left, compare_op, right } => self.quantified(left, compare_op, right, false, part),
            Sql::Exists { subquery, negated } => {
                let exists = self.exists(subquery, span, part)?;
                Ok(if *negated { not(exists) } else { exists })
            }
            _ => Err(self.unsupported("This predicate", "", span)),
        }
    }

    /// The character of `escape '!'`.
    fn escape(&mut self, escape: &Sql, part: &mut Part<'_>) -> Result<char> {
        let escape = self.expression(escape, part)?;
        let mut chars = match &escape.kind {
            Kind::Literal(Scalar::Text(text)) => text.chars(),
            _ => "".chars(),
        };
        match (chars.next(), chars.next()) {
            (Some(one), None) => Ok(one),
            _ => Err(self.wrong(
                ErrorKind::Check,
                "Behind escape stands one character in quotes.",
                escape.span,
            )),
        }
    }

    fn in_list(&mut self, x: &Sql, list: &[Sql], negated: bool, part: &mut Part<'_>) -> Result<Expr> {
        if let Sql::Tuple(x) = unnested(x) {
            return self.in_tuples(x, list, negated, part);
        }
        let x = self.expression(x, part)?;
        let list = self.expressions(list, part)?;
        let span = list.last().map_or(x.span, |last| x.span.to(last.span));
        Ok(Expr::new(Kind::In(Box::new(x), list, sense(negated)), span))
    }

    /// `(a, b) in ((1, 2), (3, 4))`.
    fn in_tuples(&mut self, x: &[Sql], list: &[Sql], negated: bool, part: &mut Part<'_>) -> Result<Expr> {
        let mut any = Vec::new();
        for row in list {
            let Sql::Tuple(row) = unnested(row) else {
                let span = self.span(row);
                return Err(self.wrong(
                    ErrorKind::Check,
                    "A row of values is wanted here, in parentheses.",
                    span,
                ));
            };
            if row.len() != x.len() {
                let span = row.first().map_or_else(Default::default, |first| self.span(first));
                return Err(self.wrong(
                    ErrorKind::Check,
                    "The two rows of values have different lengths.",
                    span,
                ));
            }
            let pairs = x.iter().zip(row).map(|(a, b)| {
                Ok(binary(Binary::Equal, self.expression(a, part)?, self.expression(b, part)?))
            });
            any.push(joined(Binary::And, pairs.collect::<Result<_>>()?));
        }
        let any = joined(Binary::Or, any);
        Ok(if negated { not(any) } else { any })
    }

    /// `x > all (select …)`, `x = any (select …)`.
    fn quantified(
        &mut self,
        x: &Sql,
        op: &sqlparser::ast::BinaryOperator,
        right: &Sql,
        any: bool,
        part: &mut Part<'_>,
    ) -> Result<Expr> {
        let span = self.span(x).to(self.span(right));
        let Sql::Subquery(query) = unnested(right) else {
            return Err(self.unsupported(
                "any and all of something else than a query",
                "Write in (…).",
                span,
            ));
        };
        let op = comparison(op)
            .ok_or_else(|| self.wrong(ErrorKind::Check, "Before any and all stands a comparison.", span))?;
        match (op, any) {
            (Binary::Equal, true) => self.in_subquery(x, query, false, span, part),
            (Binary::NotEqual, false) => self.in_subquery(x, query, true, span, part),
            _ => self.compared_with_all(x, op, query, any, span, part),
        }
    }
}
