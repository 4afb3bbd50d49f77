//! Aggregates of the standard as those of the language.

use churn_core::{ErrorKind, Result, Scalar, Span};
use churn_expr::ast::{Binary, Expr, Kind};
use sqlparser::ast::{FunctionArgumentClause, FunctionArguments, OrderByExpr, OrderBySort};

use super::calls::Called;
use super::expression::{Part, binary, call, choice, literal};
use super::translator::Translator;

/// Aggregates that the standard calls otherwise.
const OTHER_NAMES: [(&str, &str); 6] = [
    ("any_value", "first"),
    ("avg", "mean"),
    ("covar_samp", "covar"),
    ("some", "any"),
    ("stddev_samp", "stddev"),
    ("var_samp", "variance"),
];

/// Aggregates for which repeated values make no difference.
const BLIND_TO_REPEATS: [&str; 6] = ["min", "max", "any", "every", "some", "any_value"];

impl Translator<'_, '_> {
    /// An aggregate; `None` if the name is of none.
    pub(super) fn aggregate(&mut self, called: &Called<'_>, part: &mut Part<'_>) -> Result<Option<Expr>> {
        let (name, span) = (called.name.as_str(), called.span);
        let ours = our_name(name);
        let derived =
            ["stddev_pop", "var_pop", "covar_pop", "percentile_cont", "percentile_disc", "grouping"]
                .contains(&name);
        if !derived && !self.checker.environment.functions.has_aggregate(ours) {
            return Ok(None);
        }
        if name == "percentile_disc" {
            return Err(self.unsupported(name, "percentile_cont interpolates between two values.", span));
        }
        if called.star && name != "count" {
            let error = self.wrong(ErrorKind::Check, format!("{name} takes a column, not *."), span);
            return Err(error.next("Only count(*) counts rows."));
        }
        let mut args = called.all.iter().map(|x| self.expression(x, part)).collect::<Result<Vec<Expr>>>()?;
        self.ordered_set(called, &mut args, part)?;
        let only = match &called.function.filter {
            Some(condition) => Some(self.expression(condition, part)?),
            None => None,
        };
        let narrowed = |aggregate: Expr| match &only {
            Some(only) => Expr::new(Kind::Where(Box::new(aggregate), Box::new(only.clone())), span),
            None => aggregate,
        };
        if called.distinct {
            return self.of_distinct(name, args, span).map(|call| Some(narrowed(call)));
        }
        Ok(Some(match name {
            "stddev_pop" => call("sqrt", vec![of_population("variance", &args, span, &narrowed)], span),
            "var_pop" => of_population("variance", &args, span, &narrowed),
            "covar_pop" => of_population("covar", &args, span, &narrowed),
            "percentile_cont" => narrowed(call("quantile", args, span)),
            _ => narrowed(call(ours, args, span)),
        }))
    }

    fn of_distinct(&self, name: &str, args: Vec<Expr>, span: Span) -> Result<Expr> {
        match (name, args.len()) {
            ("count", 1) => Ok(call("count_distinct", args, span)),
            (name, 1) if BLIND_TO_REPEATS.contains(&name) => Ok(call(our_name(name), args, span)),
            _ => {
                let next = "Select the distinct values in a sub-query, and aggregate its rows.";
                Err(self.unsupported(&format!("{name}(distinct …)"), next, span))
            }
        }
    }

    /// Reads `within group (order by x)`, and an order among the arguments.
    fn ordered_set(&mut self, called: &Called<'_>, args: &mut Vec<Expr>, part: &mut Part<'_>) -> Result<()> {
        let Called { function, span, .. } = *called;
        let name = called.name.as_str();
        let clauses = match &function.args {
            FunctionArguments::List(list) => list.clauses.as_slice(),
            _ => &[],
        };
        let mut order: Vec<&OrderByExpr> = function.within_group.iter().collect();
        for clause in clauses {
            match clause {
                FunctionArgumentClause::OrderBy(keys) => order.extend(keys),
                other => return Err(self.unsupported(&format!("{other} in an aggregate"), "", span)),
            }
        }
        match (name, order.as_slice()) {
            ("percentile_cont", [key]) => {
                let x = self.expression(&key.expr, part)?;
                let descends = matches!(key.options.sort, Some(OrderBySort::Desc));
                match args.as_slice() {
                    [Expr { kind: Kind::Literal(Scalar::Float(share)), span }] => {
                        let share = if descends { 1.0 - share } else { *share };
                        *args = vec![x, literal(share, *span)];
                    }
                    [Expr { kind: Kind::Literal(Scalar::Int(share)), span }] => {
                        let share = if descends { 1 - share } else { *share };
                        *args = vec![x, literal(share, *span)];
                    }
                    _ => {
                        let error =
                            self.wrong(ErrorKind::Check, "percentile_cont takes a share from 0 to 1.", span);
                        return Err(error.next("Write percentile_cont(0.5) within group (order by litres)."));
                    }
                }
                Ok(())
            }
            ("percentile_cont", _) => {
                let error =
                    self.wrong(ErrorKind::Check, "percentile_cont needs the values in an order.", span);
                Err(error.next("Write percentile_cont(0.5) within group (order by litres)."))
            }
            ("mode", [key]) if args.is_empty() => {
                args.push(self.expression(&key.expr, part)?);
                Ok(())
            }
            (_, []) => Ok(()),
            (name, _) => {
                let next = "Leave the order out: values are taken in the order in which the rows come.";
                Err(self.unsupported(&format!("An order within {name}"), next, span))
            }
        }
    }
}

/// A variance or covariance of the values as all that there are: of one value it is 0.
fn of_population(sample: &str, args: &[Expr], span: Span, narrowed: &dyn Fn(Expr) -> Expr) -> Expr {
    // A pair counts where neither value is null, as their product is not.
    let both = args.iter().cloned().reduce(|a, b| binary(Binary::Multiply, a, b));
    let n = || narrowed(call("count", both.clone().into_iter().collect(), span));
    let less = binary(Binary::Subtract, n(), literal(1, span));
    let scaled = binary(
        Binary::Divide,
        binary(Binary::Multiply, narrowed(call(sample, args.to_vec(), span)), less),
        n(),
    );
    let is_one = binary(Binary::Equal, n(), literal(1, span));
    choice(vec![(is_one, literal(0.0, span))], scaled, span)
}

/// What the language calls an aggregate of the standard.
fn our_name(name: &str) -> &str {
    OTHER_NAMES.iter().find(|(standard, _)| *standard == name).map_or(name, |(_, ours)| ours)
}
