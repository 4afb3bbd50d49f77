//! Calls of scalar functions, and the forms that the standard writes in words.

use churn_core::{ErrorKind, Result, Scalar, Span, Type};
use churn_expr::ast::{Binary, Cast, Expr, Kind, Sense};
use churn_expr::functions;
use sqlparser::ast::{
    CeilFloorKind, DateTimeField, DuplicateTreatment, Expr as Sql, Function, FunctionArg, FunctionArgExpr,
    FunctionArguments, TrimWhereField,
};

use super::expression::{Part, binary, call, choice, column_at, is_null, literal};
use super::translator::Translator;

/// Functions that the standard calls otherwise.
const OTHER_NAMES: [(&str, &str); 11] = [
    ("ceiling", "ceil"),
    ("char_length", "length"),
    ("character_length", "length"),
    ("current_date", "today"),
    ("current_timestamp", "now"),
    ("localtimestamp", "now"),
    ("lpad", "pad_left"),
    ("ltrim", "trim_left"),
    ("rpad", "pad_right"),
    ("rtrim", "trim_right"),
    ("substr", "substring"),
];

/// The parts of a date or time that `extract` takes, and the functions that give them.
const EXTRACTED: [(DateTimeField, &str); 9] = [
    (DateTimeField::Year, "year"),
    (DateTimeField::Quarter, "quarter"),
    (DateTimeField::Month, "month"),
    (DateTimeField::Week(None), "week"),
    (DateTimeField::Day, "day"),
    (DateTimeField::Doy, "day_of_year"),
    (DateTimeField::Hour, "hour"),
    (DateTimeField::Minute, "minute"),
    (DateTimeField::Second, "second"),
];

/// A call of a function.
pub(super) struct Called<'q> {
    /// In lower case.
    pub(super) name: String,
    pub(super) function: &'q Function,
    /// The arguments.
    pub(super) all: Vec<&'q Sql>,
    /// Whether `*` stands in place of them.
    pub(super) star: bool,
    pub(super) distinct: bool,
    pub(super) span: Span,
}

impl Translator<'_, '_> {
    /// A call, or a form in words such as `extract(year from x)`.
    pub(super) fn special_call(&mut self, sql: &Sql, part: &mut Part<'_>) -> Result<Expr> {
        let span = self.called_span(sql);
        let mut one = |this: &mut Self, x: &Sql| this.expression(x, part);
        match sql {
            Sql::Function(function) => self.function(function, span, part),
            Sql::Extract { field, expr, .. } => {
                let x = one(self, expr)?;
                match EXTRACTED.iter().find(|(known, _)| known == field) {
                    Some((_, function)) => Ok(call(function, vec![x], span)),
                    None => Err(self.unsupported(
                        &format!("extract({} from …)", field.to_string().to_lowercase()),
                        "It takes year, quarter, month, week, day, doy, hour, minute and second.",
                        span,
                    )),
                }
            }
            Sql::Ceil { expr, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                Ok(call("ceil", vec![one(self, expr)?], span))
            }
            Sql::Floor { expr, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                Ok(call("floor", vec![one(self, expr)?], span))
            }
            Sql::Position { expr, r#in } => {
                let (what, within) = (one(self, expr)?, one(self, r#in)?);
                Ok(call("position", vec![within, what], span))
            }
            Sql::Substring { expr, substring_from, substring_for, .. } => {
                let mut args = vec![one(self, expr)?];
                args.push(match substring_from {
                    Some(from) => one(self, from)?,
                    None => literal(1, span),
                });
                if let Some(count) = substring_for {
                    args.push(one(self, count)?);
                }
                Ok(call("substring", args, span))
            }
            Sql::Trim { trim_where, trim_what, expr, trim_characters: None } => {
                let x = one(self, expr)?;
                let what = match trim_what {
                    Some(what) => one(self, what)?,
                    None => literal(" ", span),
                };
                self.trimmed(x, what, *trim_where, span)
            }
            Sql::Overlay { expr, overlay_what, overlay_from, overlay_for } => {
                let (x, what, from) = (one(self, expr)?, one(self, overlay_what)?, one(self, overlay_from)?);
                let count = match overlay_for {
                    Some(count) => one(self, count)?,
                    None => call("length", vec![what.clone()], span),
                };
                Ok(overlaid(x, what, from, count, span))
            }
            Sql::Tuple(_) => Err(self.unsupported(
                "A row of values in this place",
                "Rows of values are compared by =, <> and in.",
                span,
            )),
            Sql::GroupingSets(_) | Sql::Rollup(_) | Sql::Cube(_) => {
                Err(self.unsupported("Grouping sets in this place", "They stand behind group by.", span))
            }
            Sql::ILike { .. } => Err(self.unsupported("ilike", "Write lower(x) like 'milk%'.", span)),
            Sql::SimilarTo { .. } => {
                Err(self.unsupported("similar to", "Write matches(x, 'regular expression').", span))
            }
            Sql::AtTimeZone { .. } => Err(self.unsupported("at time zone", "Times have no zone here.", span)),
            Sql::Collate { .. } => {
                Err(self.unsupported("collate", "Texts are compared by code point.", span))
            }
            Sql::Cast { .. } | Sql::Convert { .. } => {
                Err(self.unsupported("This cast", "Write cast(x as integer).", span))
            }
            Sql::Array(_) | Sql::Struct { .. } | Sql::Map(_) | Sql::Dictionary(_) => {
                Err(self.unsupported("A value that is made of several", "Make columns of them.", span))
            }
            _ => Err(self.unsupported("This expression", "", span)),
        }
    }

    /// The place of a call: the parser leaves the last parenthesis out.
    fn called_span(&self, sql: &Sql) -> Span {
        let Some(mut within) = self.places.within(sqlparser::ast::Spanned::span(sql)) else {
            return self.span(sql);
        };
        if matches!(sql, Sql::Function(_))
            && self.places.text.get(within.end..).is_some_and(|rest| rest.starts_with(')'))
        {
            within.end += 1;
        }
        self.places.shown(within)
    }

    fn trimmed(&self, x: Expr, what: Expr, side: Option<TrimWhereField>, span: Span) -> Result<Expr> {
        if let Kind::Literal(Scalar::Text(text)) = &what.kind
            && text.chars().count() != 1
        {
            let error = self.wrong(ErrorKind::Check, "trim takes one character off a text.", what.span);
            return Err(error.next("For several write trim_left(x, 'ab') or replace(x, 'ab', '')."));
        }
        let function = match side {
            None | Some(TrimWhereField::Both) => "trim",
            Some(TrimWhereField::Leading) => "trim_left",
            Some(TrimWhereField::Trailing) => "trim_right",
        };
        Ok(call(function, vec![x, what], span))
    }

    fn function(&mut self, function: &Function, span: Span, part: &mut Part<'_>) -> Result<Expr> {
        let name = match function.name.0.as_slice() {
            [only] => only.as_ident().map(|ident| ident.value.to_lowercase()).unwrap_or_default(),
            _ => return Err(self.unsupported("A function of a schema", "Write its name alone.", span)),
        };
        let called = self.call_of(name, function, span)?;
        if function.over.is_some() {
            return self.window_call(&called, part);
        }
        if let Some(aggregate) = self.aggregate(&called, part)? {
            return Ok(aggregate);
        }
        self.without_aggregate_parts(&called)?;
        if self.is_window_function(&called.name) {
            let name = &called.name;
            let error = self.wrong(ErrorKind::Check, format!("{name} needs a window."), span);
            return Err(
                error.next(format!("Write {name}(…) over (partition by farm order by collected_on)."))
            );
        }
        self.scalar(&called, part)
    }

    /// Refuses what only an aggregate has.
    pub(super) fn without_aggregate_parts(&self, called: &Called<'_>) -> Result<()> {
        let Called { name, function, span, .. } = called;
        let has_some =
            called.distinct || called.star || function.filter.is_some() || !function.within_group.is_empty();
        if !has_some {
            return Ok(());
        }
        let what = format!("{name} is no aggregate: distinct, *, filter and within group do not go with it.");
        Err(self.wrong(ErrorKind::Check, what, *span))
    }

    /// A call with its arguments, as the parser gives them.
    fn call_of<'q>(&self, name: String, function: &'q Function, span: Span) -> Result<Called<'q>> {
        let mut called = Called { name, function, all: Vec::new(), star: false, distinct: false, span };
        let list = match &function.args {
            FunctionArguments::None => return Ok(called),
            FunctionArguments::Subquery(_) => {
                return Err(self.unsupported(
                    "A query as the argument of a function",
                    "Put it in parentheses of its own.",
                    span,
                ));
            }
            FunctionArguments::List(list) => list,
        };
        called.distinct = matches!(list.duplicate_treatment, Some(DuplicateTreatment::Distinct));
        for arg in &list.args {
            match arg {
                FunctionArg::Unnamed(FunctionArgExpr::Expr(x)) => called.all.push(x),
                FunctionArg::Unnamed(FunctionArgExpr::Wildcard) => called.star = true,
                _ => {
                    return Err(self.unsupported("An argument with a name", "Write the values alone.", span));
                }
            }
        }
        Ok(called)
    }

    /// A function with one value in each row.
    fn scalar(&mut self, called: &Called<'_>, part: &mut Part<'_>) -> Result<Expr> {
        let (name, span) = (called.name.as_str(), called.span);
        let takes_unit = functions::find(name).is_some_and(functions::Function::takes_unit);
        let mut values = Vec::new();
        for (i, arg) in called.all.iter().enumerate() {
            values.push(match arg {
                // start_of(month, x): a unit is a word.
                Sql::Identifier(unit) if i == 0 && takes_unit => {
                    column_at(&unit.value.to_lowercase(), self.places.span(unit.span))
                }
                arg => self.expression(arg, part)?,
            });
        }
        Ok(match (name, values.as_slice()) {
            ("mod", [a, b]) => remainder(a, b, span),
            ("current_time" | "localtime", []) => {
                let cast = Cast {
                    from: call("now", Vec::new(), span),
                    to: Type::Time,
                    format: None,
                    lenient: false,
                };
                Expr::new(Kind::Cast(Box::new(cast)), span)
            }
            _ => {
                let known = OTHER_NAMES.iter().find(|(standard, _)| *standard == name);
                call(known.map_or(name, |(_, ours)| ours), values, span)
            }
        })
    }
}

/// The remainder with the sign of the dividend, as the standard has it.
fn remainder(a: &Expr, b: &Expr, span: Span) -> Expr {
    let rest = |x: Expr| binary(Binary::Mod, x, call("abs", vec![b.clone()], span));
    let negative = |x: Expr| Expr::new(Kind::Negate(Box::new(x)), span);
    let is_negative = binary(Binary::Less, a.clone(), literal(0, span));
    choice(vec![(is_negative, negative(rest(negative(a.clone()))))], rest(a.clone()), span)
}

/// `overlay(x placing what from n for count)`.
fn overlaid(x: Expr, what: Expr, from: Expr, count: Expr, span: Span) -> Expr {
    let before = binary(Binary::Subtract, from.clone(), literal(1, span));
    let behind = binary(Binary::Add, from, count);
    let first = call("substring", vec![x.clone(), literal(1, span), before], span);
    let last = call("substring", vec![x, behind], span);
    binary(Binary::Concat, binary(Binary::Concat, first, what), last)
}

/// Whether a value is there.
pub(super) fn is_there(x: Expr) -> Expr {
    is_null(x, Sense::Not)
}
